//go:build darwin || dragonfly || freebsd || linux || netbsd || openbsd

package smtp

import (
	"net"
	"syscall"
	"time"
)

// unread reports whether bytes, or the end, of a TCP connection wait to be read; known is false where the system cannot
// tell. It does not block and reads nothing.
func unread(conn net.Conn) (waits, known bool) {
	socket, ok := conn.(syscall.Conn)
	if !ok {
		return false, false
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return false, false
	}
	if err := conn.SetReadDeadline(time.Time{}); err != nil { // the last one may be over
		return true, true // it is closed
	}
	var b [1]byte
	var peek error
	if err := raw.Read(func(fd uintptr) bool {
		_, _, peek = syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK)
		return true
	}); err != nil {
		return true, true
	}
	return peek != syscall.EAGAIN && peek != syscall.EWOULDBLOCK, true
}
