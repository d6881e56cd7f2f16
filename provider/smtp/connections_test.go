package smtp

import (
	"sync"
	"testing"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// One connection carries many letters, also after one that was refused, and one that the server
// has closed meanwhile is replaced without a failed attempt.
func TestConnectionIsReused(t *testing.T) {
	rules := map[string]string{"RCPT TO:<full@": "452 4.2.2 full"}
	s := newServer(t, StartTLS, "localhost", rules)
	p := s.provider(nil)
	send := func(to string) provider.Result {
		h, _ := handover()
		h.Envelope.To = to
		return p.Send(t.Context(), h)
	}
	for i := range 10 {
		if r := send("mara@ternisle.example"); r.Class != retry.Accepted {
			t.Fatalf("letter %d: %+v", i, r)
		}
		if r := send("full@ternisle.example"); r.Class != retry.Transient || r.Code != 452 {
			t.Fatalf("refused letter %d: %+v", i, r)
		}
	}
	s.mu.Lock()
	if s.sessions != 1 || s.letters != 10 {
		t.Errorf("%d connections for %d letters, want 1 for 10", s.sessions, s.letters)
	}
	s.mu.Unlock()
	p.mu.Lock()
	p.idle[0].tcp.Close() // as if the server had hung up
	p.mu.Unlock()
	if r := send("mara@ternisle.example"); r.Class != retry.Accepted {
		t.Errorf("after the server hung up: %+v, want a fresh connection", r)
	}
}

// A connection that was given back belongs to the next letter, and says nothing more about the last: each is sent once.
func TestConnectionsChangeHands(t *testing.T) {
	s := newServer(t, StartTLS, "localhost", map[string]string{"RCPT TO:<away@": "421 4.3.2 going down"})
	p := s.provider(nil)
	const senders, each = 4, 50
	var all sync.WaitGroup
	for range senders {
		all.Go(func() {
			for i := range each {
				h, began := handover()
				if i%10 == 9 { // a connection ends
					h.Envelope.To = "away@ternisle.example"
				}
				if p.Send(t.Context(), h); *began > 1 {
					t.Errorf("began %d times", *began)
				}
			}
		})
	}
	all.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	if want := senders * each * 9 / 10; s.letters != want {
		t.Errorf("%d letters arrived, want %d", s.letters, want)
	}
}

// A connection carries its share of letters, and is then replaced.
func TestConnectionCarriesItsShare(t *testing.T) {
	s := newServer(t, StartTLS, "localhost", nil)
	p := s.provider(func(c *Config) { c.Letters = 3 })
	for range 7 {
		h, _ := handover()
		if r := p.Send(t.Context(), h); r.Class != retry.Accepted {
			t.Fatalf("%+v", r)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.sessions != 3 || s.letters != 7 {
		t.Errorf("%d connections for %d letters, want 3 for 7", s.sessions, s.letters)
	}
}
