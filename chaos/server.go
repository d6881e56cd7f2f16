package main

import (
	"errors"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// A mailServer counts what arrives for whom. It can be moody.
type mailServer struct {
	listen net.Listener
	server *smtp.Server

	mu      sync.Mutex // guards what follows
	arrived map[string]int
	hang    float64 // share of letters that are taken and never answered
	cut     float64 // share of connections that are cut in the middle of a letter
	endless float64 // share of letters that are taken and answered without end
}

func newMailServer() (*mailServer, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	m := &mailServer{listen: l, arrived: make(map[string]int)}
	m.server = smtp.NewServer(
		smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &session{m: m, conn: c}, nil }))
	m.server.Domain, m.server.ErrorLog = "chaos.example", log.New(io.Discard, "", 0)
	go m.server.Serve(l)
	return m, nil
}

func (m *mailServer) close() { m.server.Close() }

func (m *mailServer) moods(hang, cut float64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.hang, m.cut = hang, cut
}

func (m *mailServer) flood(endless float64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.endless = endless
}

// counts returns how many addresses got a letter, and how many letters came besides.
func (m *mailServer) counts() (addresses, extra int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, n := range m.arrived {
		extra += n - 1
	}
	return len(m.arrived), extra
}

// latency is how long a letter takes, so that faults meet letters under way.
const latency = 15 * time.Millisecond

type session struct {
	m    *mailServer
	conn *smtp.Conn
	to   string
}

func (s *session) Mail(string, *smtp.MailOptions) error      { return nil }
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error { s.to = to; return nil }
func (s *session) Reset()                                    {}
func (s *session) Logout() error                             { return nil }

func (s *session) Data(r io.Reader) error {
	s.m.mu.Lock()
	hang, cut, endless := s.m.hang, s.m.cut, s.m.endless
	s.m.mu.Unlock()
	if rand.Float64() < cut {
		s.conn.Conn().Close()
		return errors.New("cut")
	}
	if _, err := io.Copy(io.Discard, r); err != nil {
		return err
	}
	s.m.mu.Lock()
	s.m.arrived[s.to]++
	s.m.mu.Unlock()
	time.Sleep(latency)
	if rand.Float64() < endless {
		line := []byte("250-" + strings.Repeat("and so on ", 100) + "\r\n")
		for { // until the other side has had enough
			if _, err := s.conn.Conn().Write(line); err != nil {
				return err
			}
		}
	}
	if rand.Float64() < hang {
		time.Sleep(1500 * time.Millisecond) // longer than the workers wait
	}
	return nil
}
