// Package storetest is the conformance suite of stores: [Run] plays it against one. Every database,
// and every driver, has to behave alike.
package storetest

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/retry"
	"github.com/illumicode/illumicode/store"
)

// Run plays the suite. open returns a store on an empty database; it closes it at the end of the
// test that it was opened for.
func Run(t *testing.T, open func(testing.TB) *store.Store) {
	for _, one := range []struct {
		name string
		play func(*bed)
	}{
		{"migrations", migrations}, {"claims are exclusive", exclusive}, {"claims go by lane, due and mark", claims},
		{"attempts and ends", attempts}, {"fencing", fencing}, {"a begin that failed", unsent}, {"recovery", recovery}, {"collapse", collapse},
		{"holds and pauses", holds}, {"bulk changes", bulk}, {"reminders move", moves}, {"lists expand once", lists},
		{"keys are used once", once}, {"events", events}, {"nested", nested}, {"one challenge, many callers", accept},
		{"attachments", attachments}, {"retention", retention}, {"preferences and settings", settings},
	} {
		t.Run(one.name, func(t *testing.T) {
			st := open(t)
			if _, err := st.Migrate(t.Context(), start); err != nil {
				t.Fatal(err)
			}
			if err := st.Ready(t.Context()); err != nil {
				t.Fatal(err)
			}
			one.play(&bed{T: t, st: st})
		})
	}
}

var start = time.Date(2031, 3, 4, 5, 6, 7, 0, time.UTC)

// A bed is a store under test.
type bed struct {
	*testing.T
	st *store.Store
}

func (b *bed) must(err error) {
	b.Helper()
	if err != nil {
		b.Fatal(err)
	}
}

func (b *bed) write(fn func(store.Tx) error) { b.Helper(); b.must(b.st.Write(b.Context(), fn)) }

func newID() string { return uuid.Must(uuid.NewV7()).String() }

// put adds a delivery that is due at start.
func (b *bed) put(change func(*store.Delivery)) string {
	b.Helper()
	d := store.Delivery{ID: newID(), Letter: "moved", Locale: "en", Address: "mara@ternisle.example", Data: `{"n":1}`, Lane: store.Normal, Created: start, Due: start}
	if change != nil {
		change(&d)
	}
	b.write(func(t store.Tx) error { return t.InsertDelivery(b.Context(), d) })
	return d.ID
}

func (b *bed) get(id string) store.Delivery {
	b.Helper()
	d, err := b.st.Delivery(b.Context(), id)
	b.must(err)
	return d
}

// worker registers a worker whose lease ends a minute after start.
func (b *bed) worker(id string) {
	b.Helper()
	b.must(b.st.Beat(b.Context(), store.Worker{ID: id, Started: start, Seen: start, Lease: start.Add(time.Minute)}))
}

func (b *bed) claim(worker string, n int) []store.Delivery {
	b.Helper()
	all, err := b.st.Claim(b.Context(), worker, store.Normal, store.Mark{}, n, start)
	b.must(err)
	return all
}

// begin records the begin of the next attempt of a claimed delivery.
func (b *bed) begin(d store.Delivery) error {
	d.Fixed, d.Signature = start, "DKIM-Signature: x\r\n"
	a := store.Attempt{Delivery: d.ID, Number: d.Attempts + 1, Provider: "harbour", Begun: start}
	return b.st.Write(b.Context(), func(t store.Tx) error {
		begun, err := t.BeginAttempts(b.Context(), []store.Beginning{{Delivery: d, Attempt: a}})
		if err == nil && !begun[d.ID] {
			err = store.ErrFenced
		}
		return err
	})
}

// end records what an attempt has led to.
func (b *bed) end(d store.Delivery, state store.State, class retry.Class, change func(*store.End)) {
	b.Helper()
	e := store.End{Claim: d.Claim, State: state, Spent: d.Spent + 1, Bundle: d.Bundle, Collapse: d.Collapse != "",
		Attempt: store.Attempt{Delivery: d.ID, Number: d.Attempts + 1, Ended: start.Add(time.Second), Class: class, Code: 250, Reply: "250 ok", Remote: "r1"}}
	if change != nil {
		change(&e)
	}
	b.write(func(t store.Tx) error { return t.EndAttempts(b.Context(), []store.End{e}) })
}

func migrations(b *bed) {
	if done, err := b.st.Migrate(b.Context(), start); err != nil || len(done) != 0 {
		b.Errorf("a second migration did %v, %v", done, err)
	}
	b.write(func(t store.Tx) error { return nil })
	// A database that a newer program has changed is refused, whatever else it holds.
	if _, err := b.st.DB().Exec("INSERT INTO illumicode_migration VALUES (9999, 'later', 0)"); err != nil {
		b.Fatal(err)
	}
	if err := b.st.Ready(b.Context()); !errors.Is(err, store.ErrNewer) {
		b.Errorf("tables of a newer version: %v", err)
	}
}

// Eight claimers share 200 deliveries, and each delivery has one.
func exclusive(b *bed) {
	for range 200 {
		b.put(nil)
	}
	var mu sync.Mutex
	got := make(map[string]int)
	var all sync.WaitGroup
	for i := range 8 {
		worker := fmt.Sprintf("w%d", i)
		b.worker(worker)
		all.Go(func() {
			for empty := 0; empty < 3; {
				claimed, err := b.st.Claim(b.Context(), worker, store.Normal, store.Mark{}, 7, start)
				if err != nil {
					b.Error(err)
					return
				}
				if len(claimed) == 0 {
					empty++
				}
				mu.Lock()
				for _, d := range claimed {
					got[d.ID]++
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	for id, n := range got {
		if n != 1 {
			b.Errorf("%s was claimed %d times", id, n)
		}
	}
	if len(got) != 200 {
		b.Errorf("%d of 200 were claimed", len(got))
	}
}

func claims(b *bed) {
	b.worker("w")
	late := b.put(func(d *store.Delivery) { d.Due = start.Add(time.Hour) })
	newer := b.put(func(d *store.Delivery) { d.Version = store.Version + 1 })
	first := b.put(func(d *store.Delivery) { d.Due = start.Add(-2 * time.Second) })
	second := b.put(func(d *store.Delivery) { d.Due = start.Add(-time.Second) })
	b.put(func(d *store.Delivery) { d.Lane = store.Bulk })
	mark := store.Mark{Due: start.Add(-2 * time.Second), ID: first}
	got, err := b.st.Claim(b.Context(), "w", store.Normal, mark, 10, start)
	if err != nil || len(got) != 1 || got[0].ID != second || got[0].State != store.Claimed || got[0].Claim != 1 {
		b.Fatalf("behind the mark: %+v, %v", got, err)
	}
	for _, probe := range []struct {
		after store.Mark
		want  bool
	}{{store.Mark{}, true}, {store.Mark{Due: start, ID: "g"}, false}} {
		if any, err := b.st.AnyDue(b.Context(), store.Normal, probe.after, start); err != nil || any != probe.want {
			b.Errorf("anything due behind %v: %v, %v", probe.after, any, err)
		}
	}
	if got := b.claim("w", 10); len(got) != 1 || got[0].ID != first {
		b.Errorf("from the head: %+v", got)
	}
	if b.get(late).State != store.Waiting || b.get(newer).State != store.Waiting {
		b.Error("what is not due, or of a newer version, was claimed")
	}
	d, err := b.st.ClaimOne(b.Context(), "w", late, start)
	if err != nil || d.ID != late {
		b.Errorf("ClaimOne of what is not due: %+v, %v", d, err)
	}
	b.must(b.st.Unclaim(b.Context(), d, start.Add(time.Minute), "given back"))
	if d := b.get(late); d.State != store.Waiting || !d.Due.Equal(start.Add(time.Hour)) || d.Note != "given back" {
		b.Errorf("given back: %+v", d)
	}
}

func attempts(b *bed) {
	b.worker("w")
	ids := make(map[string]string)
	for _, name := range []string{"sent", "again", "failed", "held", "dropped"} {
		ids[name] = b.put(func(d *store.Delivery) { d.Address = name + "@ternisle.example"; d.Fallback = "+4790012345" })
	}
	for _, d := range b.claim("w", 10) {
		name, _, _ := strings.Cut(d.Address, "@")
		if name == "dropped" {
			b.must(b.st.Drop(b.Context(), d, store.Suppressed, "unsubscribed", start))
			continue
		}
		b.must(b.begin(d))
		switch name {
		case "sent":
			b.end(d, store.Sent, retry.Accepted, nil)
		case "again":
			b.end(d, store.Waiting, retry.Transient, func(e *store.End) { e.Due = start.Add(time.Minute) })
		case "failed":
			other := d
			other.ID, other.Address, other.Fallback = newID(), d.Fallback, ""
			ids["other"] = other.ID
			b.end(d, store.Failed, retry.RecipientRefused, func(e *store.End) { e.Note, e.Fallback = "550 no", &other })
		case "held":
			b.end(d, store.Held, retry.Ambiguous, func(e *store.End) { e.HeldBy = store.HeldUnsure })
		}
	}
	for name, want := range map[string]struct {
		state store.State
		data  string
		tries int
	}{"sent": {store.Sent, "{}", 1}, "again": {store.Waiting, `{"n":1}`, 1}, "failed": {store.Failed, `{"n":1}`, 1},
		"held": {store.Held, `{"n":1}`, 1}, "dropped": {store.Suppressed, "{}", 0}, "other": {store.Waiting, `{"n":1}`, 0}} {
		d := b.get(ids[name])
		if d.State != want.state || d.Data != want.data || d.Attempts != want.tries || d.State.Final() == d.Ended.IsZero() {
			b.Errorf("%s: %+v, want %+v", name, d, want)
		}
	}
	tried, err := b.st.Attempts(b.Context(), ids["again"])
	if err != nil || len(tried) != 1 || tried[0].Class != retry.Transient || !tried[0].Fixed.Equal(start) || tried[0].Signature == "" || tried[0].Remote != "r1" || tried[0].Worker != "w" {
		b.Errorf("the attempt: %+v, %v", tried, err)
	}
	if n, err := b.st.Revive(b.Context(), store.Filter{State: store.Failed}, start); err != nil || n != 1 {
		b.Errorf("revived %d, %v", n, err)
	}
	if d := b.get(ids["failed"]); d.State != store.Waiting || d.Attempts != 1 || d.Spent != 0 {
		b.Errorf("revived: %+v", d)
	}
}

// The record of a begin was made, and its worker was told that it failed: nothing was sent, and
// the next attempt is another one.
func unsent(b *bed) {
	b.worker("w")
	id := b.put(nil)
	d := b.claim("w", 1)[0]
	b.must(b.begin(d))
	b.must(b.st.Unbegin(b.Context(), d, start, start))
	d = b.claim("w", 1)[0]
	if d.Attempts != 1 {
		b.Errorf("%d attempts", d.Attempts)
	}
	b.must(b.begin(d))
	b.end(d, store.Sent, retry.Accepted, nil)
	if tried, err := b.st.Attempts(b.Context(), id); err != nil || len(tried) != 2 || tried[0].Class != retry.Transient || tried[0].Ended.IsZero() {
		b.Errorf("%+v, %v", tried, err)
	}
}

// A worker whose claim was given to another can neither begin nor end for it.
func fencing(b *bed) {
	b.worker("slow")
	id := b.put(nil)
	old := b.claim("slow", 1)[0]
	b.must(b.begin(old))
	released, underWay, err := b.st.Recover(b.Context(), start.Add(2*time.Minute))
	if err != nil || released != 1 || underWay != 1 {
		b.Fatalf("Recover = %d, %d, %v", released, underWay, err)
	}
	late := old
	late.Attempts = 1
	if err := b.begin(late); !errors.Is(err, store.ErrFenced) {
		b.Errorf("begin under a lost claim: %v", err)
	}
	for _, state := range []store.State{store.Sent, store.Failed, store.Waiting} {
		b.end(old, state, retry.Accepted, nil)
		if d := b.get(id); d.State != store.Waiting || d.Attempts != 1 || d.Note == "" {
			b.Errorf("an end as %s under a lost claim: %+v", state, d)
		}
	}
}

// Several workers recover at once what a dead one held: everything once, and no more.
func recovery(b *bed) {
	b.must(b.st.Beat(b.Context(), store.Worker{ID: "dead", Seen: start, Lease: start.Add(time.Second)}))
	b.put(nil)
	unsure := b.put(func(d *store.Delivery) { d.Once = true })
	b.put(nil)
	claimed := b.claim("dead", 3)
	for _, d := range claimed[:2] {
		b.must(b.begin(d))
	}
	if claimed[2].ID == unsure {
		b.must(b.begin(claimed[2]))
	}
	var released, underWay atomic.Int64
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			r, u, err := b.st.Recover(b.Context(), start.Add(time.Minute))
			if err != nil {
				b.Error(err)
			}
			released.Add(r)
			underWay.Add(u)
		})
	}
	all.Wait()
	if released.Load() != 3 || underWay.Load() < 2 {
		b.Errorf("%d released, %d perhaps sent", released.Load(), underWay.Load())
	}
	if d := b.get(unsure); d.State != store.Held || d.HeldBy != store.HeldUnsure || d.Attempts != 1 {
		b.Errorf("at most once, after a crash: %+v", d)
	}
}

func collapse(b *bed) {
	join := func(n int) string {
		d := store.Delivery{ID: newID(), Letter: "moved", Address: "m@ternisle.example", Data: fmt.Sprintf(`{"n":%d}`, n), Lane: store.Normal, Created: start, Due: start, Collapse: "k"}
		var id string
		b.write(func(t store.Tx) (err error) { id, err = t.Join(b.Context(), d, newID()); return err })
		return id
	}
	ids := make(map[string]bool)
	var all sync.WaitGroup
	var mu sync.Mutex
	for i := range 10 {
		all.Go(func() {
			id := join(i)
			mu.Lock()
			defer mu.Unlock()
			ids[id] = true
		})
	}
	all.Wait()
	if len(ids) != 1 {
		b.Fatalf("ten notices became %d deliveries", len(ids))
	}
	b.worker("w")
	d := b.claim("w", 5)[0]
	next := join(10)
	items, err := b.st.Items(b.Context(), d.ID, 100)
	if err != nil || len(items) != 10 || next == d.ID {
		b.Errorf("%d items, %v; the next joined %s", len(items), err, next)
	}
	b.must(b.st.Unclaim(b.Context(), d, start, "")) // beside the one that waits under the key now
	if d := b.get(d.ID); d.State != store.Waiting || d.Collapse != d.ID {
		b.Errorf("given back: %+v", d)
	}
}

func holds(b *bed) {
	b.worker("w")
	asked := b.put(func(d *store.Delivery) { d.HeldBy = store.HeldAsked })
	paused := b.put(nil)
	pause := store.Pause{Kind: "letter", Name: "moved", Since: start, Note: "wrong pier"}
	b.must(b.st.Pause(b.Context(), pause))
	b.must(b.st.Pause(b.Context(), pause))
	b.must(b.st.Hold(b.Context(), b.claim("w", 5)[0], pause.HeldBy(), "paused"))
	if got, err := b.st.Pauses(b.Context()); err != nil || len(got) != 1 || got[0] != pause {
		b.Errorf("pauses %+v, %v", got, err)
	}
	if n, err := b.st.ReleaseStray(b.Context()); err != nil || n != 0 {
		b.Errorf("%d released while the pause lasts, %v", n, err)
	}
	if n, err := b.st.Resume(b.Context(), pause); err != nil || n != 1 || b.get(paused).State != store.Waiting || b.get(asked).State != store.Held {
		b.Errorf("resumed %d, %v", n, err)
	}
	if _, err := b.st.Resume(b.Context(), pause); !errors.Is(err, store.ErrNotFound) {
		b.Errorf("resumed twice: %v", err)
	}
	b.must(b.st.Hold(b.Context(), b.claim("w", 5)[0], pause.HeldBy(), "paused")) // a worker that had not seen the end
	if n, err := b.st.ReleaseStray(b.Context()); err != nil || n != 1 {
		b.Errorf("%d strays, %v", n, err)
	}
	if n, err := b.st.Release(b.Context(), store.Filter{ID: asked}); err != nil || n != 1 || b.get(asked).State != store.Waiting {
		b.Errorf("released %d, %v", n, err)
	}
}

func bulk(b *bed) {
	b.worker("w")
	for i := range 1203 { // more than two steps
		b.put(func(d *store.Delivery) {
			d.Key = fmt.Sprint("k", i%2)
			d.Due = start.Add(time.Duration(i) * time.Second)
		})
	}
	claimed := b.claim("w", 1)
	n, err := b.st.Cancel(b.Context(), store.Filter{Key: "k0"}, "storm", start)
	if err != nil || n != 601 {
		b.Errorf("cancelled %d, %v; want 601, as one is in hand", n, err)
	}
	count, err := b.st.Matching(b.Context(), store.Filter{})
	if err != nil || count[store.Cancelled] != 601 || count[store.Waiting] != 601 || count[store.Claimed] != 1 {
		b.Errorf("%v, %v", count, err)
	}
	if n, err := b.st.Hurry(b.Context(), store.Filter{Key: "k1"}, start); err != nil || n != 601 {
		b.Errorf("hurried %d, %v", n, err)
	}
	seen, before := 0, ""
	b.must(b.st.Each(b.Context(), store.Filter{Letter: "moved"}, func(d store.Delivery) error {
		if before != "" && d.ID >= before {
			return fmt.Errorf("%s after %s", d.ID, before)
		}
		seen, before = seen+1, d.ID
		return nil
	}))
	if seen != 1203 {
		b.Errorf("%d of 1203 exported", seen)
	}
	if all, err := b.st.List(b.Context(), store.Filter{Provider: "harbour"}, "", 10); err != nil || len(all) != 0 {
		b.Errorf("%d through a provider that had none, %v", len(all), err)
	}
	b.must(b.begin(claimed[0]))
	if all, err := b.st.List(b.Context(), store.Filter{Provider: "harbour", CreatedAfter: start, CreatedBefore: start.Add(time.Second), State: store.Claimed, Lane: store.Normal, Address: claimed[0].Address}, "", 10); err != nil || len(all) != 1 {
		b.Errorf("%d through the provider that has it, %v", len(all), err)
	}
	if found, err := b.st.DeliveriesByTail(b.Context(), claimed[0].ID[24:]); err != nil || len(found) != 1 {
		b.Errorf("%d by the tail, %v", len(found), err)
	}
}

func moves(b *bed) {
	remind := b.put(func(d *store.Delivery) {
		d.Key, d.Lead, d.Due, d.DeliverBefore = "sailing 7", 2*time.Hour, start.Add(time.Hour), start.Add(3*time.Hour)
	})
	other := b.put(func(d *store.Delivery) { d.Key = "sailing 7" })
	b.write(func(t store.Tx) error {
		return t.InsertFanout(b.Context(), store.Fanout{ID: newID(), Draft: store.Delivery{Key: "sailing 7", Lead: time.Hour, Due: start, Created: start}})
	})
	b.write(func(t store.Tx) error {
		n, err := t.Move(b.Context(), "sailing 7", start.Add(9*time.Hour))
		if n != 2 {
			b.Errorf("moved %d, want the reminder and the list", n)
		}
		return err
	})
	if d := b.get(remind); !d.Due.Equal(start.Add(7*time.Hour)) || !d.DeliverBefore.Equal(start.Add(9*time.Hour)) {
		b.Errorf("moved to %v, until %v", d.Due, d.DeliverBefore)
	}
	if d := b.get(other); !d.Due.Equal(start) {
		b.Errorf("what is no reminder moved to %v", d.Due)
	}
	b.write(func(t store.Tx) error {
		n, err := t.CancelKey(b.Context(), "sailing 7", "called off", start)
		if n != 3 {
			b.Errorf("cancelled %d, want 3", n)
		}
		return err
	})
}

// A list of 450 in three pieces is expanded by four at once: everybody gets one letter.
func lists(b *bed) {
	f := store.Fanout{ID: newID(), Draft: store.Delivery{Letter: "moved", Data: `{"n":1}`, Lane: store.Bulk, Due: start, Created: start, AskedBy: "the application", Key: "k"}}
	b.write(func(t store.Tx) error {
		if err := t.InsertFanout(b.Context(), f); err != nil {
			return err
		}
		for piece, n := range []int{200, 200, 50} {
			var people []store.Person
			for i := range n {
				people = append(people, store.Person{Address: fmt.Sprintf("p%d-%d@ternisle.example", piece, i), Locale: "en"})
			}
			people[0].Data = []byte(`{"n":2}`)
			if err := t.InsertPeople(b.Context(), f.ID, piece, people); err != nil {
				return err
			}
		}
		return nil
	})
	if left, err := b.st.Left(b.Context()); err != nil || !left {
		b.Errorf("a list is nothing left to do: %v", err)
	}
	var total atomic.Int64
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for {
				n, err := b.st.Expand(b.Context(), newID)
				if err != nil {
					b.Error(err)
				}
				if n == 0 {
					return
				}
				total.Add(int64(n))
			}
		})
	}
	all.Wait()
	for {
		n, err := b.st.Expand(b.Context(), newID) // one that skipped a locked piece may have ended early
		b.must(err)
		if n == 0 {
			break
		}
		total.Add(int64(n))
	}
	count, err := b.st.Matching(b.Context(), store.Filter{Letter: "moved", Key: "k"})
	if err != nil || total.Load() != 450 || count[store.Waiting] != 450 {
		b.Errorf("expanded to %d, %v, %v", total.Load(), count, err)
	}
	one, err := b.st.List(b.Context(), store.Filter{Address: "p1-0@ternisle.example"}, "", 5)
	if err != nil || len(one) != 1 || one[0].Data != `{"n":2}` || one[0].AskedBy != "the application" {
		b.Errorf("%+v, %v", one, err)
	}
	sum, err := b.st.Summary(b.Context(), start)
	if err != nil || sum.Lists != 0 || sum.Count[store.Waiting] != 450 || !sum.OldestDue.Equal(start) {
		b.Errorf("%+v, %v", sum, err)
	}
}

func once(b *bed) {
	var firsts atomic.Int64
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			err := b.st.Write(b.Context(), func(t store.Tx) error {
				first, stands, err := t.Once(b.Context(), store.Once{Name: "k", Digest: "d", Result: fmt.Sprint(i), Made: start})
				if first {
					firsts.Add(1)
				} else if err == nil && (stands.Digest != "d" || stands.Result == "") {
					b.Errorf("what stands is %+v", stands)
				}
				return err
			})
			if err != nil {
				b.Error(err)
			}
		})
	}
	all.Wait()
	if firsts.Load() != 1 {
		b.Errorf("%d were the first", firsts.Load())
	}
}

func events(b *bed) {
	for i := range 3 {
		if _, err := b.st.DB().Exec(fmt.Sprintf(`INSERT INTO illumicode_event (source, id, type, data) VALUES ('/quay', '%d', 'x', '{"n":%d}')`, i, i)); err != nil {
			b.Fatal(err)
		}
	}
	failed := errors.New("rolled back")
	err := b.st.Write(b.Context(), func(t store.Tx) error {
		got, err := t.TakeEvents(b.Context(), 10)
		if err != nil || len(got) != 3 {
			b.Errorf("%+v, %v", got, err)
		}
		return failed
	})
	if !errors.Is(err, failed) {
		b.Fatal(err)
	}
	b.write(func(t store.Tx) error {
		got, err := t.TakeEvents(b.Context(), 2)
		if err != nil || len(got) != 2 || got[0].Data == "" {
			b.Fatalf("after a rollback: %+v, %v", got, err)
		}
		return t.SetAside(b.Context(), got[0], "no rule", start)
	})
	aside, err := b.st.Aside(b.Context(), 10)
	if err != nil || len(aside) != 1 || aside[0].Reason != "no rule" || !aside[0].At.Equal(start) {
		b.Fatalf("%+v, %v", aside, err)
	}
	b.must(b.st.Readmit(b.Context(), aside[0].Seq))
	if err := b.st.Forget(b.Context(), aside[0].Seq); !errors.Is(err, store.ErrNotFound) {
		b.Errorf("forgotten twice: %v", err)
	}
	b.write(func(t store.Tx) error {
		got, err := t.TakeEvents(b.Context(), 10)
		if len(got) != 2 {
			b.Errorf("%d events left, want 2", len(got))
		}
		return err
	})
}

// What fails inside leaves what was written before, and the transaction can go on.
func nested(b *bed) {
	wrong := errors.New("wrong")
	d := store.Delivery{Letter: "moved", Lane: store.Normal, Data: "{}", Created: start, Due: start}
	before, inside, after := newID(), newID(), newID()
	b.write(func(t store.Tx) error {
		d.ID = before
		b.must(t.InsertDelivery(b.Context(), d))
		if err := t.Nested(b.Context(), func() error {
			d.ID = inside
			b.must(t.InsertDelivery(b.Context(), d))
			if err := t.InsertDelivery(b.Context(), d); !errors.Is(err, store.ErrDatabase) {
				b.Errorf("a second row of one id: %v", err)
			}
			return wrong
		}); !errors.Is(err, wrong) {
			b.Errorf("nested: %v", err)
		}
		d.ID = after
		return t.InsertDelivery(b.Context(), d)
	})
	if _, err := b.st.Delivery(b.Context(), inside); !errors.Is(err, store.ErrNotFound) {
		b.Errorf("what was undone is there: %v", err)
	}
	b.get(before)
	b.get(after)
}

// Of many callers that accept one proven challenge, one wins; tries are spent one by one.
func accept(b *bed) {
	c := store.Challenge{Challenge: challenge.Challenge{ID: newID(), Purpose: "signup", Subject: "7", Address: "m@ternisle.example", State: challenge.Open,
		Created: start, Ends: start.Add(time.Hour), TriesAllowed: 5, Generation: 1}, Ticket: newID()}
	b.write(func(t store.Tx) error { return t.InsertChallenge(b.Context(), c) })
	var spent, won atomic.Int64
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			if _, err := b.st.SpendTry(b.Context(), c.Ticket); err == nil {
				spent.Add(1)
			} else if !errors.Is(err, store.ErrNotFound) {
				b.Error(err)
			}
			if err := b.st.MarkProved(b.Context(), c.ID, challenge.Link, start); err != nil {
				b.Error(err)
			}
			err := b.st.Write(b.Context(), func(t store.Tx) error {
				ok, err := t.Accept(b.Context(), c.ID, start)
				if ok {
					won.Add(1)
				}
				return err
			})
			if err != nil {
				b.Error(err)
			}
		})
	}
	all.Wait()
	if won.Load() != 1 || spent.Load() > 5 {
		b.Errorf("%d won, %d tries", won.Load(), spent.Load())
	}
	b.write(func(t store.Tx) error {
		first, err := t.Confirm(b.Context(), "7", "m@ternisle.example", "m@ternisle.example", start)
		b.must(err)
		other, err := t.Confirm(b.Context(), "8", "m@ternisle.example", "m@ternisle.example", start)
		if !first || other {
			b.Errorf("one mailbox, two holders: %v and %v", first, other)
		}
		return err
	})
}

func attachments(b *bed) {
	big := strings.Repeat("manifest ", 60_000)
	bundle := newID()
	id := b.put(func(d *store.Delivery) { d.Bundle = bundle })
	b.write(func(t store.Tx) error {
		_, err := t.InsertAttachment(b.Context(), store.Attachment{Bundle: bundle, Name: "m.txt"}, strings.NewReader(big), 1<<20)
		return err
	})
	files, err := b.st.Attachments(b.Context(), bundle)
	if err != nil || len(files) != 1 || files[0].Size != int64(len(big)) {
		b.Fatalf("%+v, %v", files, err)
	}
	var got strings.Builder
	buf := make([]byte, 10_000)
	for r := b.st.OpenAttachment(b.Context(), files[0]); ; {
		n, err := r.Read(buf)
		got.Write(buf[:n])
		if err != nil {
			break
		}
	}
	if got.String() != big {
		b.Errorf("%d of %d bytes came back, or others", got.Len(), len(big))
	}
	b.worker("w")
	d := b.claim("w", 1)[0]
	b.must(b.begin(d))
	b.end(d, store.Sent, retry.Accepted, nil)
	if files, err := b.st.Attachments(b.Context(), bundle); err != nil || len(files) != 0 || b.get(id).State != store.Sent {
		b.Errorf("after the last delivery: %+v, %v", files, err)
	}
}

func retention(b *bed) {
	old, young := start.Add(-40*24*time.Hour), start
	made := func(at time.Time) string {
		id := uuid.Must(uuid.NewV7())
		ms := uint64(at.UnixMilli())
		for i := range 6 {
			id[i] = byte(ms >> (8 * (5 - i)))
		}
		return id.String()
	}
	b.worker("w")
	ids := make(map[string]string)
	for name, at := range map[string]time.Time{"old": old, "young": young} {
		ids[name] = b.put(func(d *store.Delivery) { d.ID, d.Created = made(at), at })
		d, err := b.st.ClaimOne(b.Context(), "w", ids[name], at)
		b.must(err)
		b.must(b.begin(d))
		b.end(d, store.Sent, retry.Accepted, func(e *store.End) { e.Attempt.Ended = at })
		b.write(func(t store.Tx) error {
			_, _, err := t.Once(b.Context(), store.Once{Name: name, Made: at})
			return err
		})
	}
	waits := b.put(func(d *store.Delivery) { d.ID, d.Created = made(old), old })
	n, err := b.st.Sweep(b.Context(), start.Add(-30*24*time.Hour), start.Add(-7*24*time.Hour))
	if err != nil || n != 3 {
		b.Errorf("swept %d rows, %v; want the old delivery, its attempt and its key", n, err)
	}
	if _, err := b.st.Delivery(b.Context(), ids["old"]); !errors.Is(err, store.ErrNotFound) {
		b.Errorf("the old one: %v", err)
	}
	b.get(ids["young"])
	b.get(waits)
	if left, err := b.st.Attempts(b.Context(), ids["young"]); err != nil || len(left) != 1 {
		b.Errorf("%d attempts of the young one, %v", len(left), err)
	}
}

func settings(b *bed) {
	ctx := b.Context()
	for _, wanted := range []bool{true, false} {
		b.must(b.st.Prefer(ctx, store.Preference{Mailbox: "m@ternisle.example", Category: "sailings", Wanted: wanted, Since: start}))
		if no, err := b.st.Unwanted(ctx, "m@ternisle.example", "sailings"); err != nil || no == wanted {
			b.Errorf("unwanted is %v after wanted %v, %v", no, wanted, err)
		}
	}
	if all, err := b.st.Preferences(ctx, "m@ternisle.example"); err != nil || len(all) != 1 || all[0].Wanted {
		b.Errorf("%+v, %v", all, err)
	}
	for _, site := range []string{"https://ferry.example", "https://copy.example"} {
		if got, err := b.st.Settle(ctx, store.SettingSite, site); err != nil || got != "https://ferry.example" {
			b.Errorf("settled on %q, %v", got, err)
		}
	}
	b.must(b.st.Set(ctx, store.SettingSite, "https://copy.example"))
	if got, err := b.st.Setting(ctx, store.SettingSite); err != nil || got != "https://copy.example" {
		b.Errorf("set to %q, %v", got, err)
	}
	if _, err := b.st.Offset(context.WithoutCancel(ctx), time.Now); err != nil {
		b.Error(err)
	}
}
