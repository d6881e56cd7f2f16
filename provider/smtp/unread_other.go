//go:build !(darwin || dragonfly || freebsd || linux || netbsd || openbsd)

package smtp

import "net"

// unread cannot tell here what waits to be read.
func unread(net.Conn) (waits, known bool) { return false, false }
