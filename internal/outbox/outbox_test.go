package outbox_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/store/sqlite"
)

// A way is an in-memory provider: it answers what the test tells it to.
type way struct {
	name   string
	most   int                                       // connections; 0 for any number
	answer func(h provider.Handover) provider.Result // nil accepts

	mu   sync.Mutex // guards sent
	sent []string   // addresses, in order
}

func (w *way) Name() string          { return w.name }
func (w *way) Can() provider.Ability { return provider.Ability{Mail: true, Most: w.most} }

func (w *way) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.Result{Class: retry.Transient, Reply: err.Error()}
	}
	w.mu.Lock()
	w.sent = append(w.sent, h.Envelope.To)
	w.mu.Unlock()
	if w.answer != nil {
		return w.answer(h)
	}
	return provider.Result{Class: retry.Accepted, Code: 250, Reply: "250 ok"}
}

func (w *way) count() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.sent)
}

// plain composes a letter that is only its address; some addresses are special.
type plain struct{}

func (plain) Compose(_ context.Context, d outbox.Addressed) (outbox.Letter, error) {
	switch {
	case strings.HasPrefix(d.Address, "panic"):
		panic("a template went wrong")
	case strings.HasPrefix(d.Address, "hole"):
		return outbox.Letter{}, errors.New("the value is missing")
	case strings.HasPrefix(d.Address, "drop"):
		return outbox.Letter{}, &outbox.Drop{State: store.Cancelled, Note: "nobody needs it"}
	}
	l := outbox.Letter{Envelope: provider.Envelope{From: "crew@ternisle.example", To: d.Address},
		Message: compose.Bytes("x")}
	if strings.HasPrefix(d.Address, "nobody") {
		l.Withheld = "nobody is written to"
	}
	return l, nil
}

func openStore(tb testing.TB) *store.Store {
	tb.Helper()
	st, err := sqlite.Open(tb.Context(), filepath.Join(tb.TempDir(), "outbox.db"))
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { st.Close() })
	if err := st.Migrate(tb.Context()); err != nil {
		tb.Fatal(err)
	}
	if err := store.Of(st).Ready(tb.Context()); err != nil {
		tb.Fatal(err)
	}
	return store.Of(st)
}

// put adds a delivery and returns its id.
func put(tb testing.TB, st *store.Store, address string, lane store.Lane, change func(*store.Delivery)) string {
	tb.Helper()
	d := store.Delivery{ID: uuid.Must(uuid.NewV7()).String(), Letter: "trial", Address: address, Data: "{}", Lane: lane,
		Created: time.Now(), Due: time.Now()}
	if change != nil {
		change(&d)
	}
	if err := st.Write(tb.Context(), func(t store.Tx) error { return t.InsertDelivery(tb.Context(), d) }); err != nil {
		tb.Fatal(err)
	}
	return d.ID
}

var quick = outbox.Config{Poll: 10 * time.Millisecond, Retry: retry.Policy{Base: 10 * time.Millisecond, Attempts: 3}}

// quiet returns a configuration whose log nobody reads.
func quiet(c outbox.Config) outbox.Config {
	c.Log = slog.New(slog.DiscardHandler)
	return c
}

// start runs a worker until the function that it returns is called.
func start(tb testing.TB, st *store.Store, c outbox.Config, ways ...provider.Provider) (stop func()) {
	ctx, cancel := context.WithCancel(tb.Context())
	o := outbox.New(st, plain{}, ways, time.Now, quiet(c))
	ended := make(chan error, 1)
	go func() { ended <- o.Run(ctx) }()
	return func() {
		cancel()
		if err := <-ended; err != nil {
			tb.Fatal(err)
		}
	}
}

// run runs a worker until the deliveries have all ended.
func run(tb testing.TB, st *store.Store, c outbox.Config, ways ...provider.Provider) {
	tb.Helper()
	runFor(tb, 30*time.Second, st, c, ways...)
}

// runFor is run for no longer than a time.
func runFor(tb testing.TB, longest time.Duration, st *store.Store, c outbox.Config, ways ...provider.Provider) {
	tb.Helper()
	ctx, cancel := context.WithTimeout(tb.Context(), longest)
	defer cancel()
	stop := start(tb, st, c, ways...)
	defer stop()
	for {
		sum, err := st.Summary(ctx, time.Now())
		if err != nil {
			tb.Fatal(err)
		}
		if sum.Count[store.Waiting]+sum.Count[store.Claimed] == 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
}

func get(tb testing.TB, st *store.Store, id string) (store.Delivery, []store.Attempt) {
	tb.Helper()
	d, err := st.Delivery(tb.Context(), id)
	if err != nil {
		tb.Fatal(err)
	}
	a, err := st.Attempts(tb.Context(), id)
	if err != nil {
		tb.Fatal(err)
	}
	return d, a
}

func TestEnds(t *testing.T) { synctest.Test(t, testEnds) }

func testEnds(t *testing.T) {
	st := openStore(t)
	w := &way{name: "harbour"}
	w.answer = func(h provider.Handover) provider.Result {
		who, _, _ := strings.Cut(h.Envelope.To, "@")
		switch {
		case who == "never":
			return provider.Result{Class: retry.RecipientRefused, Code: 550, Enhanced: "5.1.1",
				Reply: "550 5.1.1 nobody here"}
		case who == "letter":
			return provider.Result{Class: retry.MessageRefused, Code: 554, Reply: "554 not this"}
		case who == "busy":
			return provider.Result{Class: retry.Transient, Code: 451, Reply: "451 later"}
		case who == "dark":
			return provider.Result{Class: retry.Ambiguous, Reply: "no answer"}
		case who == "wreck":
			panic("the provider went wrong with the letter in its hands")
		case who == "liar":
			return provider.Result{Class: "splendid", Reply: "?"}
		}
		return provider.Result{Class: retry.Accepted, Code: 250, Reply: "250 ok"}
	}
	past := func(d *store.Delivery) { d.DeliverBefore = time.Now().Add(-time.Second) }
	soon := func(d *store.Delivery) { d.DeliverBefore = time.Now().Add(time.Hour) }
	for _, tt := range []struct {
		who      string
		change   func(*store.Delivery)
		state    store.State
		attempts int
		class    retry.Class // of the last attempt
		note     string
	}{
		{"fine", soon, store.Sent, 1, retry.Accepted, ""},
		{"never", nil, store.Failed, 1, retry.RecipientRefused, "nobody here"},
		{"letter", nil, store.Failed, 1, retry.MessageRefused, "not this"},
		{"busy", nil, store.Failed, 3, retry.Transient, "451 later"},
		{"dark", nil, store.Unknown, 3, retry.Ambiguous, "no answer"},
		{"liar", nil, store.Unknown, 3, retry.Ambiguous, "against its contract"},
		{"panic", nil, store.Failed, 0, "", "panic"},
		{"wreck", nil, store.Unknown, 1, retry.Ambiguous, "panic in the provider"},
		{"hole", nil, store.Failed, 0, "", "value is missing"},
		{"drop", nil, store.Cancelled, 0, "", "nobody needs it"},
		{"late", past, store.Expired, 0, "", "was over"},
	} {
		id := put(t, st, tt.who+"@ternisle.example", store.Normal, tt.change)
		run(t, st, quick, w)
		d, attempts := get(t, st, id)
		if d.State != tt.state || len(attempts) != tt.attempts || !strings.Contains(d.Note, tt.note) ||
			d.Ended.IsZero() {
			t.Errorf("%s: %s after %d attempts, note %q; want %s after %d, note with %q", tt.who, d.State,
				len(attempts), d.Note, tt.state, tt.attempts, tt.note)
		}
		if n := len(attempts); n > 0 && attempts[n-1].Class != tt.class {
			t.Errorf("%s: last attempt is %s, want %s", tt.who, attempts[n-1].Class, tt.class)
		}
	}
}

// The second provider carries what the first puts off; an ambiguous attempt stays with the first.
func TestFailover(t *testing.T) { synctest.Test(t, testFailover) }

func testFailover(t *testing.T) {
	st := openStore(t)
	harbour, pier := &way{name: "harbour"}, &way{name: "pier"}
	harbour.answer = func(h provider.Handover) provider.Result {
		if strings.HasPrefix(h.Envelope.To, "dark") && harbour.count() < 3 {
			return provider.Result{Class: retry.Ambiguous}
		}
		if strings.HasPrefix(h.Envelope.To, "dark") {
			return provider.Result{Class: retry.Accepted}
		}
		return provider.Result{Class: retry.Transient}
	}
	busy := put(t, st, "busy@ternisle.example", store.Normal, nil)
	run(t, st, quick, harbour, pier)
	dark := put(t, st, "dark@ternisle.example", store.Normal, nil)
	run(t, st, quick, harbour, pier)
	for id, want := range map[string]string{busy: "harbour pier", dark: "harbour harbour"} {
		_, attempts := get(t, st, id)
		var names []string
		for _, a := range attempts {
			names = append(names, a.Provider)
		}
		if got := strings.Join(names, " "); got != want {
			t.Errorf("attempts through %q, want %q", got, want)
		}
	}
}

// What waits in the urgent lane goes first, however much bulk came before it.
func TestUrgentFirst(t *testing.T) { synctest.Test(t, testUrgentFirst) }

func testUrgentFirst(t *testing.T) {
	st := openStore(t)
	w := &way{name: "harbour"}
	for i := range 50 {
		put(t, st, fmt.Sprintf("bulk%d@ternisle.example", i), store.Bulk, nil)
	}
	put(t, st, "code@ternisle.example", store.Urgent, nil)
	c := quick
	c.Senders = 1
	run(t, st, c, w)
	if w.sent[0] != "code@ternisle.example" {
		t.Errorf("first was %s", w.sent[0])
	}
}

// A worker whose lease ran out while it was about to send sends nothing, and what it records
// late does not overwrite what happened since.
func TestFencing(t *testing.T) { synctest.Test(t, testFencing) }

func testFencing(t *testing.T) {
	st := openStore(t)
	id := put(t, st, "mara@ternisle.example", store.Normal, nil)
	ctx := t.Context()
	now := time.Now()
	slow := store.Worker{ID: "slow", Started: now, Seen: now, Lease: now.Add(time.Second)}
	if err := st.Beat(ctx, slow); err != nil {
		t.Fatal(err)
	}
	claimed, err := st.Claim(ctx, "slow", store.Reach{Lane: store.Normal, Most: 10}, now)
	if err != nil || len(claimed) != 1 {
		t.Fatalf("Claim = %v, %v", claimed, err)
	}
	old := claimed[0]
	first := store.Attempt{Delivery: id, Number: 1, Claim: old.Claim, Worker: "slow", Provider: "harbour", Begun: now}
	begin := func(a store.Attempt) map[store.ClaimKey]bool {
		begun, err := st.Record(ctx, []store.Beginning{{Delivery: old, Attempt: a}}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return begun
	}
	if !begin(first)[old.ClaimKey()] {
		t.Fatal("the first attempt did not begin")
	}
	later := now.Add(2 * time.Second)
	back, err := st.Recover(ctx, later, nil)
	if err != nil || back.Released != 1 || back.UnderWay != 1 {
		t.Fatalf("Recover = %+v, %v; want 1 released and 1 under way", back, err)
	}
	run(t, st, quick, &way{name: "harbour"})

	second := first
	second.Number = 2
	if begin(second)[old.ClaimKey()] {
		t.Error("the slow worker began another attempt under a claim that it had lost")
	}
	first.Ended, first.Class = later, retry.RecipientRefused
	if _, err := st.Record(ctx, nil, []store.End{{Attempt: first, Claim: old.Claim, State: store.Failed}}); err != nil {
		t.Fatal(err)
	}
	d, attempts := get(t, st, id)
	if d.State != store.Sent || len(attempts) != 2 || attempts[0].Class != retry.Ambiguous ||
		attempts[1].Class != retry.Accepted {
		t.Errorf("%s, attempts %+v; want sent, with an ambiguous and an accepted one", d.State, attempts)
	}
	if sum, err := st.Summary(ctx, later); err != nil || sum.Repeats != 1 {
		t.Errorf("%d repeats counted, %v; want 1", sum.Repeats, err)
	}
}

// A claim whose answer was lost with its connection is made all the same: the worker, which goes on
// renewing its lease, must give back what it does not know of.
func TestClaimUnheardOf(t *testing.T) { synctest.Test(t, testClaimUnheardOf) }

func testClaimUnheardOf(t *testing.T) {
	st := openStore(t)
	known := put(t, st, "ines@ternisle.example", store.Normal, nil)
	hold := make(chan bool)
	begun := make(chan bool, 2)
	w := &way{name: "harbour", answer: func(provider.Handover) provider.Result {
		begun <- true
		<-hold
		return provider.Result{Class: retry.Accepted}
	}}
	c := quick
	c.Lease = 150 * time.Millisecond
	ctx, stop := context.WithTimeout(t.Context(), 2*time.Minute)
	defer stop()
	ended := make(chan error, 1)
	go func() { ended <- outbox.New(st, plain{}, []provider.Provider{w}, time.Now, quiet(c)).Run(ctx) }()
	<-begun // the worker has what it knows of in work, for longer than a lease
	d, _ := get(t, st, known)
	unheard := put(t, st, "mara@ternisle.example", store.Normal,
		func(d *store.Delivery) { d.Due = time.Now().Add(time.Hour) })
	if _, err := st.ClaimOne(ctx, d.Worker, unheard, time.Now()); err != nil {
		t.Fatal(err)
	}
	select {
	case <-begun:
	case <-ctx.Done():
		t.Error("what the worker claimed and did not hear of stays claimed for ever")
	}
	close(hold)
	stop()
	if err := <-ended; err != nil {
		t.Fatal(err)
	}
	if d, attempts := get(t, st, known); d.State != store.Sent || len(attempts) != 1 {
		t.Errorf("what the worker knew of: %s, %d attempts; want sent with one", d.State, len(attempts))
	}
}

// At the end of a Run, attempts under way finish within the grace period, and the rest waits
// again at once, without an attempt.
func TestDrain(t *testing.T) { synctest.Test(t, testDrain) }

func testDrain(t *testing.T) {
	st := openStore(t)
	begun, goOn := make(chan bool, 2), make(chan bool)
	w := &way{name: "harbour", answer: func(provider.Handover) provider.Result {
		begun <- true
		<-goOn
		return provider.Result{Class: retry.Accepted}
	}}
	for i := range 6 {
		put(t, st, fmt.Sprintf("p%d@ternisle.example", i), store.Normal, nil)
	}
	ctx, stop := context.WithCancel(t.Context())
	c := quick
	c.Senders = 2
	ended := make(chan error, 1)
	go func() { ended <- outbox.New(st, plain{}, []provider.Provider{w}, time.Now, quiet(c)).Run(ctx) }()
	<-begun
	<-begun
	stop()
	close(goOn)
	if err := <-ended; err != nil {
		t.Fatal(err)
	}
	sum, err := st.Summary(t.Context(), time.Now())
	if err != nil || sum.Count[store.Sent] != 2 || sum.Count[store.Waiting] != 4 || !sum.LastSeen.IsZero() {
		t.Errorf("%+v, %v; want 2 sent, 4 waiting, no worker", sum, err)
	}
}

// Letters that are due and nobody to deliver them: every surface can say so.
func TestNobodyWorks(t *testing.T) { synctest.Test(t, testNobodyWorks) }

func testNobodyWorks(t *testing.T) {
	st := openStore(t)
	put(t, st, "mara@ternisle.example", store.Normal, nil)
	now := time.Now()
	for _, tt := range []struct {
		after time.Duration
		want  bool
	}{{30 * time.Second, false}, {61 * time.Second, true}} {
		sum, err := st.Summary(t.Context(), now.Add(tt.after))
		if got := sum.NobodyWorks(now.Add(tt.after)); err != nil || got != tt.want {
			t.Errorf("after %v: %v, %v; want %v", tt.after, got, err, tt.want)
		}
	}
	if err := st.Beat(t.Context(), store.Worker{ID: "w", Seen: now.Add(50 * time.Second),
		Lease: now.Add(80 * time.Second)}); err != nil {
		t.Fatal(err)
	}
	if sum, err := st.Summary(t.Context(), now.Add(61*time.Second)); err != nil ||
		sum.NobodyWorks(now.Add(61*time.Second)) {
		t.Errorf("a worker was seen just now: %+v, %v", sum, err)
	}
}

// One sender takes what has been due the longest first, however the database returns a claim.
func TestOldestFirst(t *testing.T) { synctest.Test(t, testOldestFirst) }

func testOldestFirst(t *testing.T) {
	st, harbour := openStore(t), &way{name: "harbour"}
	const n = 20
	var want []string
	for i := range n { // the last one is the oldest
		address := fmt.Sprintf("p%d@ternisle.example", i)
		put(t, st, address, store.Normal,
			func(d *store.Delivery) { d.Due = d.Due.Add(-time.Duration(i) * time.Second) })
		want = append(want, address)
	}
	slices.Reverse(want)
	c := quick
	c.Senders = 1
	run(t, st, c, harbour)
	if !slices.Equal(harbour.sent, want) {
		t.Errorf("they went in the order %v", harbour.sent)
	}
}

// A worker whose loop does not come round says so: its process is not ready.
func TestStuckIsTold(t *testing.T) {
	st := openStore(t)
	put(t, st, "mara@ternisle.example", store.Normal, nil)
	c, hold := quick, make(chan struct{})
	c.Screen = func(context.Context, []outbox.Addressed) (map[string]string, error) {
		<-hold
		return nil, nil
	}
	o := outbox.New(st, plain{}, []provider.Provider{&way{name: "harbour"}}, time.Now, quiet(c))
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- o.Run(ctx) }()
	for deadline := time.Now().Add(20 * time.Second); o.Stuck() == ""; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("it is not told")
		}
	}
	if said := o.Stuck(); !strings.Contains(said, "looked for letters of lane normal") {
		t.Errorf("it says %q", said)
	}
	close(hold)
	for deadline := time.Now().Add(20 * time.Second); o.Stuck() != ""; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("afterwards: %s", o.Stuck())
		}
	}
	stop()
	<-ended
	if said := o.Stuck(); said != "" {
		t.Errorf("without a worker: %s", said)
	}
}
