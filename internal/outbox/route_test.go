package outbox_test

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// One provider falls over in the middle: after a few failures all workers leave it alone, everything
// arrives through the others, each attempt says why, and it is used again once it works.
func TestCircuitKeepsLettersComing(t *testing.T) { synctest.Test(t, testCircuitKeepsLettersComing) }

func testCircuitKeepsLettersComing(t *testing.T) {
	st := openStore(t)
	var down atomic.Bool
	var offered atomic.Int64
	harbour := &way{name: "harbour", answer: func(provider.Handover) provider.Result {
		if offered.Add(1); down.Load() {
			return provider.Result{Class: retry.Transient, Reply: "connection reset"}
		}
		return provider.Result{Class: retry.Accepted, Code: 250}
	}}
	pier := &way{name: "pier"}
	down.Store(true)
	const n = 120
	var last string
	for i := range n {
		last = put(t, st, fmt.Sprintf("p%d@ternisle.example", i), store.Normal, nil)
	}
	c := quick
	c.Senders, c.Retry.Base, c.Retry.Max = 4, time.Second, time.Minute
	run(t, st, c, harbour, pier)
	if got := pier.count(); got != n {
		t.Errorf("%d of %d letters arrived through pier", got, n)
	}
	if tries := offered.Load(); tries < 5 || tries > 12 {
		t.Errorf("harbour was tried %d times while it was down, want 5 and what was on its way", tries)
	}
	_, attempts := get(t, st, last)
	if final := attempts[len(attempts)-1]; !strings.Contains(final.Route, "harbour: circuit open (transient) until ") ||
		!strings.Contains(final.Route, "pier: chosen") {
		t.Errorf("the attempt was made because of %q", final.Route)
	}
	down.Store(false)
	if _, err := st.Resume(t.Context(), store.Pause{Kind: "provider", Name: "harbour"}); err != nil { // or its time
		t.Fatal(err)
	}
	before := offered.Load()
	for i := range 5 {
		put(t, st, fmt.Sprintf("q%d@ternisle.example", i), store.Normal, nil)
	}
	run(t, st, c, harbour, pier)
	if offered.Load() != before+5 {
		t.Errorf("after it works again harbour got %d of 5", offered.Load()-before)
	}
}

// After its time a circuit lets one letter through to see, whatever number waits.
func TestOneProbe(t *testing.T) { synctest.Test(t, testOneProbe) }

func testOneProbe(t *testing.T) {
	st := openStore(t)
	var under, most atomic.Int64
	probing := make(chan struct{})
	harbour := &way{name: "harbour", answer: func(provider.Handover) provider.Result {
		most.Store(max(most.Load(), under.Add(1)))
		defer under.Add(-1)
		<-probing
		return provider.Result{Class: retry.Accepted, Code: 250}
	}}
	if _, err := st.UpdateHealth(t.Context(), "harbour", time.Now(), func(choose.Health) choose.Health {
		return choose.Health{Failures: 9, Class: retry.Transient, Opened: 1, Until: time.Now().Add(-time.Second)}
	}); err != nil {
		t.Fatal(err)
	}
	for i := range 30 {
		put(t, st, fmt.Sprintf("p%d@ternisle.example", i), store.Normal, nil)
	}
	go func() {
		defer close(probing)
		for most.Load() == 0 && t.Context().Err() == nil {
			time.Sleep(time.Millisecond)
		}
		time.Sleep(300 * time.Millisecond) // in which others would have come
		if n := most.Load(); n != 1 {
			t.Errorf("%d letters see at once whether it works", n)
		}
	}()
	c := quick
	c.Retry.Base, c.Retry.Max = time.Second, time.Minute // a probe may take 12 s
	run(t, st, c, harbour)
	if harbour.count() != 30 {
		t.Errorf("%d of 30 arrived", harbour.count())
	}
}

// "Slow down" slows every worker down, and no letter is lost or counted as tried for it.
func TestThrottledProvider(t *testing.T) { synctest.Test(t, testThrottledProvider) }

func testThrottledProvider(t *testing.T) {
	st := openStore(t)
	var n atomic.Int64
	harbour := &way{name: "harbour", answer: func(provider.Handover) provider.Result {
		if n.Add(1) == 3 {
			return provider.Result{Class: retry.Throttled, Code: 429, After: 300 * time.Millisecond}
		}
		return provider.Result{Class: retry.Accepted, Code: 250}
	}}
	for i := range 12 {
		put(t, st, fmt.Sprintf("p%d@ternisle.example", i), store.Normal, nil)
	}
	c := quick
	c.Senders = 2
	began := time.Now()
	run(t, st, c, harbour)
	if n.Load() != 13 {
		t.Errorf("%d attempts for 12 letters, of which one was asked to wait", n.Load())
	}
	if took := time.Since(began); took < 300*time.Millisecond {
		t.Errorf("all had left after %v, before the provider wanted to be asked again", took)
	}
	ways, err := st.Ways(t.Context())
	if err != nil || len(ways) != 1 || ways[0].Health.Gap == 0 || ways[0].Health.Gap > 50*time.Millisecond {
		t.Errorf("what all workers know of it: %+v, %v", ways, err)
	}
}

// Recipients, costs and what a challenge's earlier letter went through decide who carries a letter.
func TestTerms(t *testing.T) { synctest.Test(t, testTerms) }

func testTerms(t *testing.T) {
	st := openStore(t)
	harbour, pier, beacon := &way{name: "harbour"}, &way{name: "pier"}, &way{name: "beacon"}
	c := quick
	c.Order = route.Cost
	c.Terms = map[string]route.Terms{
		"harbour": {Cost: 1, Never: []string{"far.example"}},
		"pier":    {Cost: 2, Only: []string{"ternisle.example", "far.example"}}, "beacon": {Cost: 3},
	}
	put(t, st, "a@ternisle.example", store.Normal, nil)
	put(t, st, "b@mail.far.example", store.Normal, nil)
	if err := st.Write(t.Context(), func(tx store.Tx) error {
		c := store.Challenge{Challenge: proof.Challenge{ID: "c-1", Ends: time.Now().Add(time.Hour), State: proof.Open},
			Ticket: "t"}
		_, err := tx.Begin(t.Context(),
			store.NewChallenge{
				Challenge: c, Letter: store.Delivery{ID: "0", Letter: "trial", Address: "d@ternisle.example",
					Data: "{}", Lane: store.Bulk, Due: time.Now()}})
		return err
	}); err != nil {
		t.Fatal(err)
	}
	for i, asked := range []string{"", store.SentAgain + "person", store.SentAgain + "person",
		store.SentAgain + "person"} {
		put(t, st, "c@ternisle.example", store.Urgent, func(d *store.Delivery) {
			d.Challenge, d.AskedBy = "c-1",
				asked
		})
		run(t, st, c, harbour, pier, beacon)
		got := []int{0, len(filter(harbour, "c@")), len(filter(pier, "c@")), len(filter(beacon, "c@"))}
		want := [][]int{{0, 1, 0, 0}, {0, 1, 1, 0}, {0, 1, 1, 1}, {0, 2, 1, 1}}[i]
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("letter %d of a challenge: harbour, pier and beacon have carried %v, want %v", i+1, got[1:],
				want[1:])
		}
	}
	if len(filter(harbour, "a@")) != 1 || len(filter(pier, "b@")) != 1 {
		t.Errorf("harbour carried %v, pier %v", harbour.sent, pier.sent)
	}
}

func filter(w *way, prefix string) (out []string) {
	for _, to := range w.sent {
		if strings.HasPrefix(to, prefix) {
			out = append(out, to)
		}
	}
	return out
}

// What one worker leaves of its caps, another has: an end in order gives leases and shares back.
func TestCapsAreGivenBack(t *testing.T) { synctest.Test(t, testCapsAreGivenBack) }

func testCapsAreGivenBack(t *testing.T) {
	st := openStore(t)
	c := quick
	caps := route.Caps{PerDay: 20000, AtOnce: 4, Zone: time.FixedZone("noon", (12-time.Now().UTC().Hour())*3600)}
	c.Terms = map[string]route.Terms{"harbour": {Caps: caps}}
	for i := range 3 { // each leases more than its one letter
		put(t, st, fmt.Sprintf("p%d@ternisle.example", i), store.Normal, nil)
		run(t, st, c, &way{name: "harbour"})
	}
	states, _ := choose.States(caps)
	held, err := st.Caps(context.Background(), "harbour", states)
	if left := choose.Left(caps, held, time.Now()); err != nil || left != 20000-3 {
		t.Errorf("%d left of the quota after 3 letters, %v", left, err)
	}
	if n, err := st.Share(t.Context(), store.Share{Provider: "harbour", Worker: "another", Whole: 4}, time.Now(),
		time.Now().Add(time.Minute)); err != nil || n != 4 {
		t.Errorf("another worker has a share of %d, %v", n, err)
	}
	if n, err := st.Share(t.Context(), store.Share{Provider: "harbour", Worker: "a third", Whole: 4}, time.Now(),
		time.Now().Add(time.Minute)); err != nil || n != 0 {
		t.Errorf("a third one, before the other has given any back: %d, %v", n, err)
	}
	for _, turn := range []struct {
		worker string
		want   int
	}{{"another", 2}, {"a third", 2}, {"another", 2}} {
		if n, err := st.Share(t.Context(), store.Share{Provider: "harbour", Worker: turn.worker, Whole: 4}, time.Now(),
			time.Now().Add(time.Minute)); err != nil || n != turn.want {
			t.Errorf("%s has a share of %d, want %d, %v", turn.worker, n, turn.want, err)
		}
	}
}

// A provider that takes letters and says nothing does not gather all senders: after a while without any
// answer the others go elsewhere, long before its attempts are over.
func TestSilentProvider(t *testing.T) { synctest.Test(t, testSilentProvider) }

func testSilentProvider(t *testing.T) {
	for _, most := range []int{0, 2} { // connections
		st := openStore(t)
		release := make(chan struct{})
		harbour := &way{name: "harbour", most: most, answer: func(provider.Handover) provider.Result {
			<-release
			return provider.Result{Class: retry.Accepted}
		}}
		pier := &way{name: "pier"}
		more := func(from, to int) {
			for i := from; i < to; i++ {
				put(t, st, fmt.Sprintf("p%d@ternisle.example", i), store.Normal, nil)
			}
		}
		more(0, 6) // fewer than there are senders
		go func() {
			for harbour.count() < cmp.Or(most/2, 6) { // of two connections one is the urgent lane's
				time.Sleep(5 * time.Millisecond)
			}
			time.Sleep(80 * time.Millisecond) // longer than a circuit first stays open
			more(6, 30)
			for end := time.Now().Add(20 * time.Second); pier.count() < 18 && time.Now().Before(end); {
				time.Sleep(5 * time.Millisecond)
			}
			if n := pier.count(); n < 18 {
				t.Errorf("with %d connections %d of 30 letters went elsewhere while one provider said nothing", most, n)
			}
			close(release)
		}()
		c := quick
		c.Senders, c.Reserved, c.Retry = 14, -1, retry.Policy{Base: 20 * time.Millisecond}
		run(t, st, c, harbour, pier)
		if n := harbour.count() + pier.count(); n != 30 {
			t.Errorf("with %d connections %d of 30 letters arrived", most, n)
		}
	}
}
