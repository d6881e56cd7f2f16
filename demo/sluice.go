package demo

import (
	"context"
	"io"
	"net"
	"sync"
)

// A sluice lets connections through to a server, and can be shut: then those that are open are cut, and
// new ones closed at once, as by a provider that has fallen over.
type sluice struct {
	to string

	mu   sync.Mutex // guards what follows
	shut bool
	open map[net.Conn]bool
}

func newSluice(to string) *sluice { return &sluice{to: to, open: make(map[net.Conn]bool)} }

// serve lets through what comes to l until ctx ends. It closes l.
func (s *sluice) serve(ctx context.Context, l net.Listener) error {
	stop := context.AfterFunc(ctx, func() { l.Close(); s.set(true) })
	defer stop()
	for {
		conn, err := l.Accept()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		go s.through(conn)
	}
}

func (s *sluice) through(conn net.Conn) {
	defer conn.Close()
	if !s.enter(conn) {
		return
	}
	defer s.leave(conn)
	there, err := net.Dial("tcp", s.to)
	if err != nil {
		return
	}
	defer there.Close()
	go func() { io.Copy(there, conn); there.Close() }()
	io.Copy(conn, there)
}

func (s *sluice) enter(conn net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.shut {
		s.open[conn] = true
	}
	return !s.shut
}

func (s *sluice) leave(conn net.Conn) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.open, conn)
}

// set shuts the sluice, or opens it again.
func (s *sluice) set(shut bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shut = shut
	for conn := range s.open {
		if shut {
			conn.Close()
		}
	}
}
