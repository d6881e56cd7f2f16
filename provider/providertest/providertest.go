// Package providertest checks that a provider keeps the contract of [provider.Provider].
package providertest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/core/verdict"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A Subject is a provider with a way to look behind it.
type Subject struct {
	Provider provider.Provider

	// Received returns how many letters have arrived at the other side. It may wait for those
	// that are under way.
	Received func() int
}

// Run tests a provider. open returns a fresh one whose other side accepts everything.
func Run(t *testing.T, open func(t *testing.T) Subject) {
	t.Run("it has a name and can carry something", func(t *testing.T) {
		p := open(t).Provider
		if can := p.Can(); p.Name() == "" || !can.Mail && !can.SMS {
			t.Errorf("Name = %q, Can = %+v", p.Name(), can)
		}
	})
	t.Run("a letter begins once and arrives", func(t *testing.T) { arrives(t, open(t)) })
	t.Run("an attempt that cannot be recorded sends nothing", func(t *testing.T) {
		s := open(t)
		h, _ := handover(s.Provider, 1)
		h.Begin = func(context.Context) error { return errors.New("the ledger is full") }
		r := s.Provider.Send(t.Context(), h)
		if verdict.HandedOver(r.Class) || !verdict.Known(r.Class) || s.Received() != 0 {
			t.Errorf("Send = %+v; %d letters arrived", r, s.Received())
		}
	})
	t.Run("a letter that is not ours any more does not arrive", func(t *testing.T) {
		s := open(t)
		h, _ := handover(s.Provider, 1)
		h.Final = func(context.Context) error { return errors.New("another worker has it") }
		r := s.Provider.Send(t.Context(), h)
		if verdict.HandedOver(r.Class) || !verdict.Known(r.Class) || s.Received() != 0 {
			t.Errorf("Send = %+v; %d letters arrived", r, s.Received())
		}
	})
	t.Run("a message that breaks off does not arrive", func(t *testing.T) {
		s := open(t)
		if !s.Provider.Can().Mail {
			return // an SMS is in memory, and cannot break off
		}
		h, _ := handover(s.Provider, 1)
		h.Message = broken{}
		if r := s.Provider.Send(t.Context(), h); r.Class == retry.Accepted || s.Received() != 0 {
			// A provider that composes the letter itself never reads the message.
			if h.Letter.Text == "" || s.Received() != 1 {
				t.Errorf("Send = %+v; %d letters arrived", r, s.Received())
			}
		}
	})
	t.Run("an ended context ends a Send soon", func(t *testing.T) { endsSoon(t, open(t)) })
	t.Run("many at once all arrive", func(t *testing.T) { manyArrive(t, open(t)) })
}

func arrives(t *testing.T, s Subject) {
	h, began := handover(s.Provider, 1)
	asked := 0
	h.Final = func(context.Context) error {
		if asked++; *began != 1 {
			t.Error("Final comes before Begin")
		}
		return nil
	}
	r := s.Provider.Send(t.Context(), h)
	if r.Class != retry.Accepted || *began != 1 || asked != 1 || s.Received() != 1 {
		t.Errorf("Send = %+v; it began %d times, asked %d times at its end, and %d letters arrived", r, *began,
			asked, s.Received())
	}
	if r.Reply == "" {
		t.Error("the provider's words are missing")
	}
}

func endsSoon(t *testing.T, s Subject) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	h, _ := handover(s.Provider, 1)
	done := make(chan provider.Result, 1)
	go func() { done <- s.Provider.Send(ctx, h) }()
	select {
	case r := <-done:
		if !verdict.Known(r.Class) {
			t.Errorf("Send = %+v", r)
		}
	case <-time.After(10 * time.Second):
		t.Error("Send goes on")
	}
}

func manyArrive(t *testing.T, s Subject) {
	const n = 40
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() {
			h, began := handover(s.Provider, i)
			if r := s.Provider.Send(t.Context(), h); r.Class != retry.Accepted || *began != 1 {
				t.Errorf("letter %d: %+v, began %d times", i, r, *began)
			}
		})
	}
	all.Wait()
	if got := s.Received(); got != n {
		t.Errorf("%d of %d arrived", got, n)
	}
}

// handover returns a letter that the provider can carry, and how often its attempt has begun.
func handover(p provider.Provider, i int) (provider.Handover, *int) {
	began := new(int)
	h := provider.Handover{ID: fmt.Sprintf("letter-%d", i), Begin: func(context.Context) error { *began++; return nil },
		Final: func(context.Context) error { return nil }}
	if p.Can().Mail {
		from := "crew@ternisle.example"
		h.Envelope = provider.Envelope{From: from, To: fmt.Sprintf("passenger%d@ternisle.example", i)}
		h.Letter = provider.Letter{From: from, FromName: `Tern "Isle"`, To: h.Envelope.To,
			Subject: "A \"quoted\" subject", Text: "Hello.\n.\n", HTML: "<p>Hello.</p>"}
		h.Message = compose.Bytes("From: " + from + "\r\nTo: " + h.Envelope.To + "\r\nSubject: x\r\nMessage-ID: <" +
			h.ID + "@ternisle.example>\r\n\r\nHello.\r\n.\r\n")
	} else {
		h.Envelope.To = fmt.Sprintf("+47900%05d", i)
		h.SMS = "482913 is your code. " + strings.Repeat("⛴", 3)
	}
	return h, began
}

// broken is a message whose attachment cannot be read to the end.
type broken struct{}

func (broken) Size() int64 { return 1000 }

func (broken) WriteTo(w io.Writer) (int64, error) {
	n, err := w.Write([]byte("Subject: x\r\n\r\nhalf a let"))
	return int64(n), errors.Join(err, errors.New("the file is gone"))
}
