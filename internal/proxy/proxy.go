// Package proxy stands between a client and a server of this machine, and behaves as networks do on bad days: it
// delays, and it goes silent. [Proxy] is the type to read first.
package proxy

import (
	"net"
	"sync"
	"time"
)

// A Proxy forwards connections to one server. It is safe for concurrent use.
type Proxy struct {
	listener net.Listener
	to       func() (net.Conn, error)
	delay    time.Duration // in each direction

	mu      sync.Mutex // guards what follows
	changed *sync.Cond
	silent  [2]bool
	taken   int
	open    map[net.Conn]bool
	closed  bool
}

// The directions.
const (
	ToServer = iota
	ToClient
)

// New returns a proxy on a port of its own. What passes is delayed in each direction.
func New(network, server string, delay time.Duration) (*Proxy, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &Proxy{listener: l, delay: delay, open: make(map[net.Conn]bool),
		to: func() (net.Conn, error) { return net.Dial(network, server) }}
	p.changed = sync.NewCond(&p.mu)
	go p.accept()
	return p, nil
}

// Addr returns where the proxy listens.
func (p *Proxy) Addr() *net.TCPAddr { return p.listener.Addr().(*net.TCPAddr) }

// Silence lets nothing through in a direction, or lets through again what has waited. Connections stay open, and new
// ones are taken.
func (p *Proxy) Silence(direction int, silent bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.silent[direction] = silent
	p.changed.Broadcast()
}

// Taken returns how many connections were taken.
func (p *Proxy) Taken() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.taken
}

// Cut closes all connections.
func (p *Proxy) Cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for c := range p.open {
		c.Close()
	}
	clear(p.open)
}

// Close ends the proxy and its connections.
func (p *Proxy) Close() {
	p.mu.Lock()
	p.closed = true
	p.changed.Broadcast()
	p.mu.Unlock()
	p.listener.Close()
	p.Cut()
}

func (p *Proxy) accept() {
	for {
		client, err := p.listener.Accept()
		if err != nil {
			return
		}
		server, err := p.to()
		if err != nil {
			client.Close()
			continue
		}
		p.mu.Lock()
		p.open[client], p.open[server] = true, true
		p.taken++
		p.mu.Unlock()
		go p.forward(ToServer, client, server)
		go p.forward(ToClient, server, client)
	}
}

// A piece is what was read at once, and when it goes on.
type piece struct {
	due  time.Time
	data []byte
}

func (p *Proxy) forward(direction int, from, to net.Conn) {
	pieces := make(chan piece, 1024)
	go func() {
		defer close(pieces)
		for {
			b := make([]byte, 64<<10)
			n, err := from.Read(b)
			if err != nil {
				return
			}
			pieces <- piece{time.Now().Add(p.delay), b[:n]}
		}
	}()
	for one := range pieces {
		time.Sleep(time.Until(one.due))
		if !p.mayPass(direction) {
			break
		}
		if _, err := to.Write(one.data); err != nil {
			break
		}
	}
	p.mayPass(direction) // an end is not told either
	from.Close()
	to.Close()
	p.mu.Lock()
	delete(p.open, from)
	delete(p.open, to)
	p.mu.Unlock()
	for range pieces { // its reader ends
	}
}

// mayPass waits while a direction is silent, and reports whether the proxy is still open.
func (p *Proxy) mayPass(direction int) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for p.silent[direction] && !p.closed {
		p.changed.Wait()
	}
	return !p.closed
}
