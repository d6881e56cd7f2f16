package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

// A day of a relay that throttles, in virtual time: nothing waits for a real clock, and what runs is the service.

var (
	hours   = flag.Int("hours", 2, "of virtual time that the relay throttles")
	waiting = flag.Int("letters", 1000, "that wait when it begins")
)

// Nothing is lost on a relay that throttles, nothing arrives twice, and few tries are refused beside what arrives. A
// short time here; `make chaos` plays a day.
func TestThrottlingRelay(t *testing.T) {
	start := time.Now()
	m := new(moodyRelay)
	synctest.Test(t, func(t *testing.T) {
		*m = moodyRelay{began: time.Now(), last: make(map[string]time.Time), arrived: make(map[string]int),
			asked: make(map[string]time.Time)}
		if err := m.day(t.Context(), t.TempDir(), *waiting, *hours); err != nil {
			t.Error(err)
		}
	})
	letters, extra, slow := *waiting+*hours*60, 0, 0
	for _, n := range m.arrived {
		extra += n - 1
	}
	for _, took := range m.urgent {
		if took > time.Minute {
			slow++
		}
	}
	said := fmt.Sprintf("relay that throttles, %d hours of virtual time: %d letters, %d lost, %d arrived twice, "+
		"%d refused tries, %d of %d urgent letters took over a minute, in %v", *hours, letters, letters-len(m.arrived),
		extra, m.refused, slow, len(m.urgent), time.Since(start).Round(time.Second))
	t.Log(said)
	if len(m.arrived) != letters || extra != 0 || m.refused > letters/2 {
		t.Error("some were lost, or arrived twice, or more than half as many tries were refused")
	}
}

// A moodyRelay takes letters to some domains slowly, changes its mind every hour, and now and then wants to be left
// alone altogether.
type moodyRelay struct {
	mu      sync.Mutex // guards what follows
	began   time.Time
	last    map[string]time.Time // when a letter to a domain was last taken
	arrived map[string]int
	refused int
	urgent  []time.Duration // how long urgent letters took
	asked   map[string]time.Time
}

func (*moodyRelay) Name() string          { return "relay" }
func (*moodyRelay) Can() provider.Ability { return provider.Ability{Mail: true, Most: 8} }

// gaps are what a domain wants between letters, hour after hour; a negative one takes none.
var gaps = []time.Duration{0, 250 * time.Millisecond, 0, 2 * time.Second, -1, 500 * time.Millisecond}

func (m *moodyRelay) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	time.Sleep(3 * time.Millisecond)
	if err := h.Final(ctx); err != nil {
		return provider.NotSent(err)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	refuse := func(r provider.Result) provider.Result { m.refused++; return r }
	now := time.Now()
	hour := int(now.Sub(m.began) / time.Hour)
	_, domain, _ := strings.Cut(h.Envelope.To, "@")
	switch gap := gaps[(hour+len(domain))%len(gaps)]; {
	case hour%8 == 7 && now.Sub(m.began)%time.Hour < 10*time.Minute: // of the whole provider
		return refuse(provider.Result{Class: retry.Throttled, Code: 421, Reply: "421 4.3.2 come later",
			After: 2 * time.Minute})
	case gap < 0 || now.Sub(m.last[domain]) < gap:
		return refuse(provider.Result{Class: retry.Throttled, Code: 450, Enhanced: "4.7.28",
			Reply: "450 4.7.28 too fast", Concerns: provider.ConcernsDomain})
	}
	m.last[domain] = now
	m.arrived[h.Envelope.To]++
	if at, ok := m.asked[h.Envelope.To]; ok {
		m.urgent = append(m.urgent, now.Sub(at))
	}
	return provider.Result{Class: retry.Accepted, Code: 250, Reply: "250 taken"}
}

// domainOf returns one of six domains, which have lengths of their own and so moods of their own.
func domainOf(i int) string { return strings.Repeat("a", 1+i%6) + ".ternisle.example" }

// day plays hours of such a relay with letters that all wait from the beginning, and an urgent one each minute.
func (m *moodyRelay) day(ctx context.Context, dir string, letters, hours int) error {
	st, err := sqlite.Open(ctx, filepath.Join(dir, "day.db"))
	if err != nil {
		return err
	}
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		return err
	}
	from, err := message.ParseAddress("crew@ternisle.example")
	if err != nil {
		return err
	}
	svc, err := illumicode.New(illumicode.Config{
		Store: st, Keys: token.Generate(time.Now()), From: from, Providers: []provider.Provider{m},
		Log:    slog.New(slog.DiscardHandler),
		Site:   illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"},
		Outbox: delivery.Settings{Poll: 5 * time.Second, Lease: 5 * time.Minute},
	})
	if err != nil {
		return err
	}
	running, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- svc.Run(running) }()
	defer func() { stop(); <-ended }()
	if _, err := svc.NotifyAll(ctx, illumicode.Notice{Letter: "trial", Lane: delivery.Bulk},
		func(yield func(illumicode.Recipient, error) bool) {
			for i := range letters {
				one := illumicode.Recipient{Request: illumicode.Request{
					Address: fmt.Sprintf("p%d@%s", i, domainOf(i))}}
				if !yield(one, nil) {
					return
				}
			}
		}); err != nil {
		return err
	}
	for i := range hours * 60 {
		to := fmt.Sprintf("urgent%d@%s", i, domainOf(i))
		m.mu.Lock()
		m.asked[to] = time.Now()
		m.mu.Unlock()
		if _, err := svc.Notify(ctx, illumicode.Notice{Letter: "trial", Lane: delivery.Urgent,
			To: illumicode.Request{Address: to}}); err != nil {
			return err
		}
		time.Sleep(time.Minute)
	}
	rows := flow.Of(svc).Store
	for end := time.Now().Add(4 * 24 * time.Hour); ; time.Sleep(time.Minute) {
		left, err := rows.Left(ctx, time.Now().Add(96*time.Hour))
		if err != nil || !left {
			return err
		}
		if time.Now().After(end) {
			return errors.New("letters still wait four days later")
		}
	}
}
