package outbox_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A sluggish provider refuses letters to some domains: what comes faster than gap, or all.
type sluggish struct {
	way
	gap map[string]time.Duration // by domain; 0 refuses all

	mu      sync.Mutex // guards what follows
	last    map[string]time.Time
	refused int
}

func newSluggish(name string, gap map[string]time.Duration, class retry.Class) *sluggish {
	s := &sluggish{gap: gap, last: make(map[string]time.Time)}
	s.way = way{name: name, answer: func(h provider.Handover) provider.Result {
		time.Sleep(2 * time.Millisecond) // as a server of the neighbourhood
		s.mu.Lock()
		defer s.mu.Unlock()
		_, domain, _ := strings.Cut(h.Envelope.To, "@")
		gap, slow := s.gap[domain]
		if slow && (gap == 0 || time.Since(s.last[domain]) < gap) {
			s.refused++
			return provider.Result{Class: class, Code: 450, Reply: "450 4.7.28 too fast",
				Concerns: provider.ConcernsDomain}
		}
		s.last[domain] = time.Now()
		return provider.Result{Class: retry.Accepted, Code: 250, Reply: "250 ok"}
	}}
	return s
}

func (s *sluggish) recover() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.gap = nil
}

func (s *sluggish) refusals() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.refused
}

// A domain that takes four letters a second gets its letters at about that pace, nobody else waits for it, no letter
// spends an attempt, and all arrive.
func TestSlowDomain(t *testing.T) { synctest.Test(t, testSlowDomain) }

func testSlowDomain(t *testing.T) {
	st := openStore(t)
	harbour := newSluggish("harbour", map[string]time.Duration{"gale.example": 250 * time.Millisecond}, retry.Throttled)
	harbour.most = 8
	var ids []string
	for i := range 40 {
		ids = append(ids, put(t, st, fmt.Sprintf("p%d@gale.example", i), store.Normal, nil))
	}
	for i := range 200 {
		put(t, st, fmt.Sprintf("q%d@ternisle.example", i), store.Normal, nil)
	}
	c := quick
	c.Retry, c.Poll = retry.Policy{Base: 5 * time.Second}, 200*time.Millisecond
	began := time.Now()
	runFor(t, time.Hour, st, c, harbour)
	took := time.Since(began)
	if harbour.count()-harbour.refusals() != 240 || harbour.refusals() > 25 {
		t.Errorf("%d letters arrived of 240, %d tries were refused (at most 25)", harbour.count()-harbour.refusals(),
			harbour.refusals())
	}
	if took > 90*time.Second {
		t.Errorf("it took %v; at four a second 40 letters take 10 s", took)
	}
	for _, id := range ids {
		if d, _ := get(t, st, id); d.State != store.Sent || d.Spent != 1 {
			t.Errorf("%s is %s and has spent %d attempts", d.Address, d.State, d.Spent)
		}
	}
	if ways, err := st.Ways(t.Context()); err != nil || len(ways) > 0 {
		t.Errorf("the provider itself is slowed down: %+v, %v", ways, err)
	}
	t.Logf("40 letters in %v, %d refused", took, harbour.refusals())
}

// A domain that has recovered soon gets what waits for it.
func TestDomainRecovers(t *testing.T) { synctest.Test(t, testDomainRecovers) }

func testDomainRecovers(t *testing.T) {
	st := openStore(t)
	harbour := newSluggish("harbour", map[string]time.Duration{"gale.example": 0}, retry.Throttled)
	for i := range 60 {
		put(t, st, fmt.Sprintf("p%d@gale.example", i), store.Normal, nil)
	}
	c := quick
	c.Retry, c.Poll = retry.Policy{Base: 5 * time.Second}, 200*time.Millisecond
	time.AfterFunc(30*time.Second, harbour.recover)
	began := time.Now()
	runFor(t, time.Hour, st, c, harbour)
	if took := time.Since(began); harbour.count()-harbour.refusals() != 60 || took > 20*time.Minute {
		t.Errorf("%d of 60 letters arrived, in %v", harbour.count()-harbour.refusals(), took)
	} else {
		t.Logf("%v, %d refused", took, harbour.refusals())
	}
	paces, err := st.Paces(t.Context())
	if err != nil || len(paces) != 1 || paces[0].Health.Gap > 2*time.Second {
		t.Errorf("after 60 letters that it took: %+v, %v", paces, err)
	}
}

// Two domains that throttle are their own affair; with a third within a minute it is the provider's.
func TestThreeDomains(t *testing.T) {
	for domains, slowed := range map[int]bool{1: false, 2: false, 3: true} {
		synctest.Test(t, func(t *testing.T) {
			st := openStore(t)
			gaps := make(map[string]time.Duration)
			for i := range domains {
				gaps[fmt.Sprintf("gale%d.example", i)] = 0
				put(t, st, fmt.Sprintf("p@gale%d.example", i), store.Normal, nil)
			}
			harbour := newSluggish("harbour", gaps, retry.Throttled)
			stopped := start(t, st, quick, harbour)
			time.Sleep(2 * time.Second)
			ways, err := st.Ways(t.Context())
			stopped()
			if err != nil || (len(ways) > 0 && ways[0].Health.Gap > 0) != slowed {
				t.Errorf("%d domains: %+v, %v", domains, ways, err)
			}
		})
	}
}

// A refusal of our account that comes with a letter moves this letter on, and shuts the provider when a second domain's
// letter gets it.
func TestAccountRefused(t *testing.T) { synctest.Test(t, testAccountRefused) }

func testAccountRefused(t *testing.T) {
	st := openStore(t)
	harbour := newSluggish("harbour", map[string]time.Duration{"gale.example": 0, "squall.example": 0},
		retry.Misconfigured)
	pier := &way{name: "pier"}
	put(t, st, "a@gale.example", store.Normal, nil)
	run(t, st, quick, harbour, pier)
	if len(filter(pier, "a@")) != 1 {
		t.Errorf("the letter did not move on: pier has %v", pier.sent)
	}
	put(t, st, "b@ternisle.example", store.Normal, nil)
	run(t, st, quick, harbour, pier)
	if len(filter(&harbour.way, "b@")) != 1 {
		t.Error("one domain's letter shut the provider for others")
	}
	put(t, st, "c@squall.example", store.Normal, nil)
	run(t, st, quick, harbour, pier)
	put(t, st, "d@ternisle.example", store.Normal, nil)
	run(t, st, quick, harbour, pier)
	if len(filter(&harbour.way, "d@")) != 0 || len(filter(pier, "c@")) != 1 || len(filter(pier, "d@")) != 1 {
		t.Errorf("after two domains harbour was asked for %v, pier for %v", harbour.sent, pier.sent)
	}
}

// An urgent letter to a slow domain goes through another provider at once. With one provider alone it has its share of
// the slowed pace, before all that wait.
func TestUrgentToASlowDomain(t *testing.T) {
	for _, others := range []bool{true, false} {
		synctest.Test(t, func(t *testing.T) {
			st := openStore(t)
			harbour := newSluggish("harbour", map[string]time.Duration{"gale.example": 500 * time.Millisecond},
				retry.Throttled)
			ways := []provider.Provider{harbour}
			pier := &way{name: "pier", most: 8}
			if others {
				ways = append(ways, pier)
			}
			for i := range 200 {
				put(t, st, fmt.Sprintf("p%d@gale.example", i), store.Bulk, nil)
			}
			stopped := start(t, st, quick, ways...)
			defer stopped()
			time.Sleep(20 * time.Second)
			asked := time.Now()
			id := put(t, st, "code@gale.example", store.Urgent, nil)
			for {
				if d, _ := get(t, st, id); d.State == store.Sent {
					break
				}
				time.Sleep(50 * time.Millisecond)
				if time.Since(asked) > time.Minute {
					t.Fatal("the urgent letter does not arrive")
				}
			}
			limit := 10 * time.Second
			if others {
				limit = time.Second
			}
			if took := time.Since(asked); took > limit {
				t.Errorf("with another provider %v: the urgent letter took %v", others, took)
			}
		})
	}
}
