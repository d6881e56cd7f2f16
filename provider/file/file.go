// Package file writes letters into a Maildir, one file each, where any mail reader finds them.
package file

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A Provider writes into one Maildir. It is safe for concurrent use. Use [New].
type Provider struct{ name, dir string }

var _ provider.Provider = (*Provider)(nil)

// New returns a provider for the Maildir at dir, which it makes if it is not there.
func New(name, dir string) (*Provider, error) {
	for _, sub := range []string{"tmp", "new", "cur"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
			return nil, fmt.Errorf("file provider %q: %w", name, err)
		}
	}
	return &Provider{name, dir}, nil
}

// Name returns the provider's name.
func (p *Provider) Name() string { return p.name }

// Can returns that it takes everything; an SMS becomes a small text file.
func (*Provider) Can() provider.Ability { return provider.Ability{Mail: true, SMS: true} }

// Send implements [provider.Provider]. A letter is complete and on the disk before it appears in
// the folder new; the same delivery, sent again, takes the place of its first copy.
func (p *Provider) Send(ctx context.Context, h provider.Handover) provider.Result {
	fail := func(err error) provider.Result {
		return provider.Result{Class: retry.Transient, Reply: err.Error()}
	}
	name := strings.Map(func(r rune) rune { // an id is harmless; a test's might not be
		if r == '/' || r == 0 || r == ':' {
			return '_'
		}
		return r
	}, h.ID) + ".eml"
	tmp := filepath.Join(p.dir, "tmp", name)
	f, err := os.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fail(err)
	}
	defer os.Remove(tmp) // gone already, if it was moved
	if h.Message != nil {
		_, err = h.Message.WriteTo(f)
	} else {
		_, err = io.WriteString(f, "To: "+h.Envelope.To+"\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n"+h.SMS+
			"\r\n")
	}
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fail(err)
	}
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	if err := h.Final(ctx); err != nil {
		return provider.NotSent(err)
	}
	path := filepath.Join(p.dir, "new", name)
	if err := os.Rename(tmp, path); err != nil {
		return fail(err)
	}
	if dir, err := os.Open(filepath.Join(p.dir, "new")); err == nil { // the name must survive a loss of power, too
		err = dir.Sync()
		dir.Close()
		if err != nil {
			return provider.Result{Class: retry.Ambiguous, Reply: err.Error()}
		}
	}
	return provider.Result{Class: retry.Accepted, Reply: "written to " + path}
}
