package illumicode_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A fickle provider keeps what it is sent, and takes it at the third attempt only.
type fickle struct {
	clock *illumicodetest.Clock

	mu   sync.Mutex // guards sent
	sent []string
}

func (*fickle) Name() string          { return "fickle" }
func (*fickle) Can() provider.Ability { return provider.Ability{Mail: true} }

func (f *fickle) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.Result{Class: retry.Transient, Reply: err.Error()}
	}
	var b bytes.Buffer
	if _, err := h.Message.WriteTo(&b); err != nil || int64(b.Len()) != h.Message.Size() {
		return provider.Result{Class: retry.MessageRefused, Reply: fmt.Sprint(err, b.Len(), h.Message.Size())}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.sent = append(f.sent, b.String())
	f.clock.Move(7 * time.Second) // so that a Date made anew would be another
	if len(f.sent) < 3 {
		return provider.Result{Class: retry.Ambiguous, Reply: "no answer"}
	}
	return provider.Result{Class: retry.Accepted}
}

// A letter that leaves over four days after it was signed is signed anew; one that may have left before carries the
// same bytes for ever.
func TestOldSignature(t *testing.T) {
	for _, class := range []retry.Class{retry.Transient, retry.Ambiguous} {
		way := new(slow)
		k := illumicodetest.New(t, func(c *illumicode.Config) {
			c.Providers, c.Sign = []provider.Provider{way}, &counting{}
			c.Outbox.Retry.Base, c.Outbox.Retry.Attempts = time.Millisecond, 12 // not by time
		}, withPier(t))
		way.clock, way.class = k.Clock, class
		notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1), To: illumicode.Request{Address: mara}})
		waitSent(t, k, 1)
		way.mu.Lock()
		want := map[retry.Class]string{retry.Transient: "1 1 2 2", retry.Ambiguous: "1 1 1 1"}[class]
		if got := strings.Join(way.signed, " "); got != want {
			t.Errorf("after %s: attempts are signed %s, want %s", class, got, want)
		}
		way.mu.Unlock()
	}
}

// A slow provider takes a letter at the fourth attempt, two days and a half after each other.
type slow struct {
	clock *illumicodetest.Clock
	class retry.Class

	mu     sync.Mutex // guards signed
	signed []string
}

func (*slow) Name() string          { return "slow" }
func (*slow) Can() provider.Ability { return provider.Ability{Mail: true} }

func (s *slow) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	var b bytes.Buffer
	h.Message.WriteTo(&b)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.signed = append(s.signed, b.String()[len("X-Signature: "):][:1])
	s.clock.Move(60 * time.Hour)
	if len(s.signed) < 4 {
		return provider.Result{Class: s.class, Reply: "later"}
	}
	return provider.Result{Class: retry.Accepted}
}

// A counting signer signs differently each time it is asked.
type counting struct{ n int }

func (c *counting) Sign(m io.WriterTo) (string, error) {
	c.n++
	_, err := m.WriteTo(io.Discard)
	return fmt.Sprintf("X-Signature: %d\r\n", c.n), err
}

// Every attempt of a delivery carries the same bytes: date, id, boundary, proof and signature.
func TestAttemptsCarryTheSameBytes(t *testing.T) {
	way := &fickle{}
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		c.Providers, c.Sign = []provider.Provider{way},
			&counting{}
	},
		func(c *illumicode.Config) { c.Outbox.Retry.Base = time.Millisecond })
	way.clock = k.Clock
	begin(t, k, "a")
	waitSent(t, k, 1)
	way.mu.Lock()
	defer way.mu.Unlock()
	if len(way.sent) != 3 || way.sent[0] != way.sent[1] || way.sent[1] != way.sent[2] {
		t.Errorf("%d attempts, which differ:\n%s", len(way.sent), strings.Join(way.sent, "\n=====\n"))
	}
	if !strings.HasPrefix(way.sent[0], "X-Signature: 1\r\nDate: ") {
		t.Errorf("the signature is not in front:\n%.80s", way.sent[0])
	}
}
