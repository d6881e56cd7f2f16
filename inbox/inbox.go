// Package inbox is a mail server that keeps what it is sent and shows it: for development and
// the demo, where no letter may reach a real person. [Inbox] is the type to read first.
//
// It speaks real SMTP with STARTTLS on a certificate made at start, and takes any user and
// password, so that an application can be pointed at it with the configuration it will have in
// production. Its pages show letters as a reader would see them, and their source.
package inbox

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Config holds the optional settings. The zero Config is all defaults.
type Config struct {
	// Dir is where letters are kept as .eml files, so that they are there after a restart.
	// Empty means in memory only.
	Dir string

	// Memory bounds what letters take of the memory, in bytes; 0 means 64 MiB. Disk bounds their files; 0 means 512
	// MiB. The oldest letters go first, with their files; the last one stays. Letters over 4 MiB are in files, in any
	// case.
	Memory, Disk int64

	// Hosts are further names under which the pages may be asked for. Any IP address and localhost are good; other
	// names are refused, so that a page of a stranger, whose name leads here, cannot read the letters.
	Hosts []string

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

// most bounds how many letters are shown; the oldest go first. It is a development tool, and
// must not fill the memory of whoever leaves it running.
const most = 5000

// An Inbox holds captured letters. It is safe for concurrent use. Use [New].
type Inbox struct {
	cfg  Config
	cert *Certificate

	mu      sync.Mutex // guards the following
	letters []*Letter  // in order of arrival
	memory  int64      // that they take
	disk    int64
	offered map[string]int
	next    int
	arrived chan struct{} // closed and replaced at each arrival
	dir     string        // of files: Config.Dir, or one of its own as soon as it is needed
}

// New returns an inbox with the letters that Config.Dir holds already.
func New(c Config) (*Inbox, error) {
	cert, err := NewCertificate("localhost", "127.0.0.1", "::1")
	if err != nil {
		return nil, err
	}
	c.Memory, c.Disk = cmp.Or(c.Memory, 64<<20), cmp.Or(c.Disk, 512<<20)
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
		l, err := load(name)
		if err != nil {
			return nil, fmt.Errorf("inbox: %w", err)
		}
		if l != nil {
			in.next = max(in.next, l.ID+1)
			in.add(l)
		}
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

// load reads a letter from its file; nil if it is not one of ours.
func load(name string) (*Letter, error) {
	var id int
	if _, err := fmt.Sscanf(filepath.Base(name), "%d.eml", &id); err != nil {
		return nil, nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	l := parse(f)
	l.ID, l.Received, l.Size, l.file = id, info.ModTime(), info.Size(), name
	if l.Size <= inMemory {
		l.Raw, err = os.ReadFile(name)
	}
	return l, err
}

// Close removes the files of an inbox that has no folder.
func (in *Inbox) Close() error {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.cfg.Dir != "" || in.dir == "" {
		return nil
	}
	return os.RemoveAll(in.dir)
}

// offer decides on a letter for to, and keeps it unless it is refused.
func (in *Inbox) offer(from, to string, s *spool) *Refusal {
	in.mu.Lock()
	defer in.mu.Unlock()
	before := in.offered[to]
	in.offered[to]++
	if in.cfg.Refuse != nil {
		if r := in.cfg.Refuse(to, before); r != nil {
			return r
		}
	}
	source, err := s.source()
	if err != nil {
		return unwritable
	}
	l := parse(source)
	l.ID, l.Received, l.EnvelopeFrom, l.EnvelopeTo = in.next, time.Now(), from, to
	if err := in.keep(l, s); err != nil {
		return unwritable
	}
	in.next++
	in.add(l)
	close(in.arrived)
	in.arrived = make(chan struct{})
	return nil
}

var unwritable = &Refusal{Code: 452, Enhanced: [3]int{4, 3, 1}, Text: "the inbox cannot write its folder"}

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
