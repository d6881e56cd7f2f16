// Package inbox is a mail server that keeps what it is sent and shows it: for development and
// the demo, where no letter may reach a real person. [Inbox] is the type to read first.
//
// It speaks real SMTP with STARTTLS on a certificate made at start, and takes any user and
// password, so that an application can be pointed at it with the configuration it will have in
// production. Its pages show letters as a reader would see them, and their source.
package inbox

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// Config holds the optional settings. The zero Config is all defaults.
type Config struct {
	// Dir is where letters are kept as .eml files, so that they are there after a restart.
	// Empty means in memory only.
	Dir string

	// Refuse lets the server turn a letter away after its final dot: it is asked with the
	// recipient and how many letters were offered for it before, and returns nil to accept.
	Refuse func(to string, before int) *Refusal
}

// A Refusal is an SMTP reply that is no success.
type Refusal struct {
	Code     int
	Enhanced [3]int // RFC 3463
	Text     string
}

// keep bounds how many letters are shown; the oldest go first. It is a development tool, and
// must not fill the memory of whoever leaves it running.
const keep = 5000

// An Inbox holds captured letters. It is safe for concurrent use. Use [New].
type Inbox struct {
	cfg  Config
	cert *Certificate

	mu      sync.Mutex // guards the following
	letters []*Letter  // in order of arrival
	offered map[string]int
	next    int
	arrived chan struct{} // closed and replaced at each arrival
}

// New returns an inbox with the letters that Config.Dir holds already.
func New(c Config) (*Inbox, error) {
	cert, err := NewCertificate("localhost", "127.0.0.1", "::1")
	if err != nil {
		return nil, err
	}
	in := &Inbox{cfg: c, cert: cert, offered: make(map[string]int), next: 1, arrived: make(chan struct{})}
	if c.Dir == "" {
		return in, nil
	}
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("inbox: %w", err)
	}
	names, err := filepath.Glob(filepath.Join(c.Dir, "*.eml"))
	if err != nil {
		return nil, err
	}
	for _, name := range names { // sorted, and named by number
		raw, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("inbox: %w", err)
		}
		info, err := os.Stat(name)
		if err != nil {
			return nil, fmt.Errorf("inbox: %w", err)
		}
		l := parse(raw)
		l.Received = info.ModTime()
		if _, err := fmt.Sscanf(filepath.Base(name), "%d.eml", &l.ID); err != nil {
			continue // not one of ours
		}
		in.next = max(in.next, l.ID+1)
		in.letters = append(in.letters, l)
	}
	return in, nil
}

// CertificatePEM returns the certificate that a client must trust to use STARTTLS here.
func (in *Inbox) CertificatePEM() []byte { return in.cert.PEM }

// Letters returns the letters whose envelope recipient is to, or all if to is empty, in order of
// arrival.
func (in *Inbox) Letters(to string) []*Letter {
	in.mu.Lock()
	defer in.mu.Unlock()
	var out []*Letter
	for _, l := range in.letters {
		if to == "" || strings.EqualFold(l.EnvelopeTo, to) {
			out = append(out, l)
		}
	}
	return out
}

// Wait returns the letters for to as soon as there are at least n of them, or the error of ctx.
func (in *Inbox) Wait(ctx context.Context, to string, n int) ([]*Letter, error) {
	for {
		in.mu.Lock()
		arrived := in.arrived
		in.mu.Unlock()
		if got := in.Letters(to); len(got) >= n {
			return got, nil
		}
		select {
		case <-arrived:
		case <-ctx.Done():
			return nil, fmt.Errorf("inbox: waiting for letter %d: %w", n, ctx.Err())
		}
	}
}

// letter returns the letter with this id, or nil.
func (in *Inbox) letter(id int) *Letter {
	in.mu.Lock()
	defer in.mu.Unlock()
	for _, l := range in.letters {
		if l.ID == id {
			return l
		}
	}
	return nil
}

// offer decides on a letter for to, and keeps it unless it is refused.
func (in *Inbox) offer(from, to string, raw []byte) *Refusal {
	in.mu.Lock()
	defer in.mu.Unlock()
	before := in.offered[to]
	in.offered[to]++
	if in.cfg.Refuse != nil {
		if r := in.cfg.Refuse(to, before); r != nil {
			return r
		}
	}
	l := parse(raw)
	l.ID, l.Received, l.EnvelopeFrom, l.EnvelopeTo = in.next, time.Now(), from, to
	if in.cfg.Dir != "" {
		if err := l.save(in.cfg.Dir); err != nil {
			return &Refusal{Code: 452, Enhanced: [3]int{4, 3, 1}, Text: "the inbox cannot write its folder"}
		}
	}
	in.next++
	in.letters = append(in.letters, l)
	if len(in.letters) > keep {
		in.letters = slices.Delete(in.letters, 0, len(in.letters)-keep)
	}
	close(in.arrived)
	in.arrived = make(chan struct{})
	return nil
}

// Serve accepts mail on smtp and shows the pages on web until ctx ends. It closes both.
func (in *Inbox) Serve(ctx context.Context, smtp, web net.Listener) error {
	mail := in.smtpServer()
	pages := &http.Server{Handler: in.Handler(), ReadHeaderTimeout: 10 * time.Second}
	failed := make(chan error, 2)
	go func() { failed <- mail.Serve(smtp) }()
	go func() { failed <- pages.Serve(web) }()
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	return errors.Join(err, mail.Close(), pages.Close())
}
