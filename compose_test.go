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
