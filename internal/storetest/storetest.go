// Package storetest is the conformance suite of stores: [Run] plays it against one. Every database,
// and every driver, has to behave alike.
package storetest

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
)

// Run plays the suite. open returns a store on an empty database; it closes it at the end of the
// test that it was opened for.
func Run(t *testing.T, open func(testing.TB) *store.Store) {
	for _, one := range []struct {
		name string
		play func(*bed)
	}{
		{"migrations", migrations}, {"columns", columns}, {"claims are exclusive", exclusive},
		{"claims go by lane, due and mark", claims},
		{"attempts and ends", attempts}, {"a group larger than a statement", groups}, {"fencing", fencing},
		{"fences", fences}, {"revived", revived},
		{"tries", tries},
		{"a begin that failed", unsent}, {"recovery", recovery}, {"claims unheard of", unheard}, {"collapse", collapse},
		{"holds and pauses", holds}, {"bulk changes", bulk},
		{"copies", homes}, {"recalls", recalls}, {"what recalls choose", recallChoices}, {"a wrong list", wrongList},
		{"reminders move", moves},
		{"lists expand once", lists},
		{"keys are used once", once}, {"events", events}, {"nested", nested}, {"one challenge, many callers", accept},
		{"attachments", attachments}, {"retention", retention}, {"preferences and settings", settings},
		{"tallies", tallies}, {"tallies under concurrency", talliesAtOnce}, {"what is known of providers", ways},
		{"what is known of domains", paces}, {"an erasure", erasure}, {"who comes back", returned},
		{"who looks alike", lookalikes},
		{"who is escaped", escaped},
		{"processes", processes},
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

// write runs fn in a transaction of the kind that callbacks of applications get.
func (b *bed) write(fn func(store.Tx) error) {
	b.Helper()
	b.must(b.st.Transact(b.Context(), func(_ any, tx store.Tx) error { return fn(tx) }))
}

func newID() string { return uuid.Must(uuid.NewV7()).String() }

// put adds a delivery that is due at start.
func (b *bed) put(change func(*store.Delivery)) string {
	b.Helper()
	d := store.Delivery{ID: newID(), Letter: "moved", Locale: "en", Address: "mara@ternisle.example", Data: `{"n":1}`,
		Lane: store.Normal, Created: start, Due: start}
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
	all, err := b.st.Claim(b.Context(), worker, store.Reach{Lane: store.Normal, Most: n}, start)
	b.must(err)
	return all
}

// begin records the begin of the next attempt of a claimed delivery.
func (b *bed) begin(d store.Delivery) error {
	d.Fixed, d.Signature = start, "DKIM-Signature: x\r\n"
	a := store.Attempt{Delivery: d.ID, Number: d.Attempts + 1, Provider: "harbour", Begun: start}
	begun, err := b.st.Record(b.Context(), []store.Beginning{{Delivery: d, Attempt: a}}, nil)
	if err == nil && !begun[d.ClaimKey()] {
		err = store.ErrFenced
	}
	return err
}

// end records what an attempt has led to.
func (b *bed) end(d store.Delivery, state store.State, class retry.Class, change func(*store.End)) {
	b.Helper()
	e := store.End{Claim: d.Claim, State: state, Spent: d.Spent + 1, Bundle: d.Bundle, Collapse: d.Collapse != "",
		Attempt: store.Attempt{Delivery: d.ID, Number: d.Attempts + 1, Ended: start.Add(time.Second), Class: class,
			Code: 250, Reply: "250 ok", Remote: "r1"}}
	if change != nil {
		change(&e)
	}
	_, err := b.st.Record(b.Context(), nil, []store.End{e})
	b.must(err)
}

func migrations(b *bed) {
	if done, err := b.st.Migrate(b.Context(), start); err != nil || len(done) != 0 {
		b.Errorf("a second migration did %v, %v", done, err)
	}
	b.write(func(t store.Tx) error { return nil })
	// A database that a newer program has changed is refused, whatever else it holds.
	if _, err := b.st.DB().Exec(b.st.Words("INSERT INTO @migration VALUES (9999, 'later', 0)")); err != nil {
		b.Fatal(err)
	}
	if err := b.st.Ready(b.Context()); !errors.Is(err, store.ErrNewer) {
		b.Errorf("tables of a newer version: %v", err)
	}
}

// Eight claimers share 200 deliveries, and each delivery has one.

func attempts(b *bed) {
	b.worker("w")
	ids := make(map[string]string)
	for _, name := range []string{"sent", "again", "failed", "unknown", "dropped"} {
		ids[name] = b.put(func(d *store.Delivery) {
			d.Address = name + "@ternisle.example"
			d.Fallback = "+4790012345"
		})
	}
	for _, d := range b.claim("w", 10) {
		name, _, _ := strings.Cut(d.Address, "@")
		if name == "dropped" {
			b.must(b.st.Drop(b.Context(), d, store.Ending{State: store.Suppressed, Note: "unsubscribed", At: start}))
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
			b.end(d, store.Failed, retry.RecipientRefused, func(e *store.End) {
				e.Note, e.Then.Fallback = "550 no", &other
			})
		case "unknown":
			b.end(d, store.Unknown, retry.Ambiguous, nil)
		}
	}
	for name, want := range map[string]struct {
		state store.State
		data  string
		tries int
	}{"sent": {store.Sent, "{}", 1}, "again": {store.Waiting, `{"n":1}`, 1}, "failed": {store.Failed, `{"n":1}`, 1},
		"unknown": {store.Unknown, `{"n":1}`, 1}, "dropped": {store.Suppressed, "{}", 0},
		"other": {store.Waiting, `{"n":1}`, 0}} {
		d := b.get(ids[name])
		if d.State != want.state || d.Data != want.data || d.Attempts != want.tries ||
			d.State.Final() == d.Ended.IsZero() {
			b.Errorf("%s: %+v, want %+v", name, d, want)
		}
	}
	tried, err := b.st.Attempts(b.Context(), ids["again"])
	if err != nil || len(tried) != 1 || tried[0].Class != retry.Transient || !tried[0].Fixed.Equal(start) ||
		tried[0].Signature == "" || tried[0].Remote != "r1" || tried[0].Worker != "w" {
		b.Errorf("the attempt: %+v, %v", tried, err)
	}
	revives(b, ids)
}

// revives tries again what has failed of some deliveries by name, and what may have been sent only if asked to.
func revives(b *bed, ids map[string]string) {
	if n, err := b.st.Revive(b.Context(), store.Filter{}, false, start); err != nil || n != 1 {
		b.Errorf("revived %d, %v", n, err)
	}
	if d := b.get(ids["unknown"]); d.State != store.Unknown {
		b.Errorf("what may have been sent is revived unasked: %+v", d)
	}
	if n, err := b.st.Revive(b.Context(), store.Filter{}, true, start); err != nil || n != 1 {
		b.Errorf("revived %d, %v, of what may have been sent", n, err)
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
	if tried, err := b.st.Attempts(b.Context(), id); err != nil || len(tried) != 2 ||
		tried[0].Class != retry.Transient || tried[0].Ended.IsZero() {
		b.Errorf("%+v, %v", tried, err)
	}
}

// groups begins and ends more attempts at once than one statement holds. Whose claim was lost neither
// begins nor ends, whether its group goes in one round trip or, as one of it is more than a letter that was
// sent, step by step.
func groups(b *bed) {
	const n = 70
	for _, other := range []store.State{store.Sent, store.Failed} {
		b.worker("w")
		for range n {
			b.put(nil)
		}
		all := b.claim("w", n)
		lost := all[n-1]
		b.must(b.st.Unclaim(b.Context(), lost, start.Add(time.Hour), ""))
		var begins []store.Beginning
		var ends []store.End
		for _, d := range all {
			a := store.Attempt{Delivery: d.ID, Number: 1, Provider: "harbour", Begun: start,
				Ended: start.Add(time.Second), Class: retry.Accepted, Code: 250, Reply: "250 ok"}
			begins = append(begins, store.Beginning{Delivery: d, Attempt: a})
			ends = append(ends, store.End{Claim: d.Claim, State: store.Sent, Spent: 1, Attempt: a})
		}
		begun, err := b.st.Record(b.Context(), begins[1:], nil)
		if err != nil || len(begun) != n-2 || begun[lost.ClaimKey()] {
			b.Fatalf("%d of %d began, %v; the one whose claim was lost: %v", len(begun), n-2, err,
				begun[lost.ClaimKey()])
		}
		ends[0].State = other // begun in the same moment
		if other == store.Sent {
			_, err := b.st.Record(b.Context(), nil, ends[1:])
			b.must(err)
			ends = ends[:1]
		}
		if begun, err = b.st.Record(b.Context(), append(begins[:1:1], begins[n-1]), ends); err != nil ||
			len(begun) != 1 || !begun[all[0].ClaimKey()] {
			b.Fatalf("then %v began, %v; want the first alone", begun, err)
		}
		for i, d := range all {
			want, tries := store.Sent, 1
			switch i {
			case 0:
				want = other
			case n - 1:
				want, tries = store.Waiting, 0
			}
			made, err := b.st.Attempts(b.Context(), d.ID)
			b.must(err)
			if got := b.get(d.ID); got.State != want || got.Attempts != tries || len(made) != tries || tries > 0 &&
				(made[0].Class != retry.Accepted || made[0].Ended.IsZero()) {
				b.Errorf("delivery %d is %s after %d attempts, %+v; want %s after %d", i, got.State, got.Attempts, made,
					want, tries)
			}
		}
		if _, err := b.st.Cancel(b.Context(), store.Filter{}, "", start); err != nil { // the one that waits
			b.Fatal(err)
		}
	}
}

// A worker whose claim was given to another can neither begin nor end for it.

// What has failed and waits again is what it was, column for column.
func revived(b *bed) {
	b.worker("w")
	id := b.put(func(d *store.Delivery) {
		*d = store.Delivery{ID: d.ID, Letter: "moved", Locale: "nb", Address: "mara@ternisle.example", Name: "Mara",
			Data: `{"n":2}`, Lane: store.Normal, Zone: "Europe/Oslo", Visible: `{"Cc":["jens@ternisle.example"]}`,
			Bundle: "a bundle", Created: start.Add(-time.Hour), Due: start, DeliverBefore: start.Add(time.Hour),
			Once: true, Key: "a key", Lead: time.Minute, AskedBy: "who asked", Trace: "a trace"}
	})
	want := b.get(id)
	b.end(b.claim("w", 1)[0], store.Failed, retry.MessageRefused, nil)
	if n, err := b.st.Revive(b.Context(), store.Filter{ID: id}, false, start); err != nil || n != 1 {
		b.Fatalf("%d revived, %v", n, err)
	}
	got := b.get(id)
	got.Claim, got.Claimed, got.Attempts = want.Claim, want.Claimed, want.Attempts // what has happened besides
	if got != want {
		b.Errorf("it was  %+v\nand is %+v", want, got)
	}
}

// A challenge has as many tries as it allows, and not one more.
func tries(b *bed) {
	c := store.Challenge{Challenge: proof.Challenge{ID: newID(), Purpose: "signup", Subject: "7",
		Address: "m@ternisle.example", State: proof.Open, Created: start, Ends: start.Add(time.Hour), TriesAllowed: 3,
		Generation: 1}, Ticket: newID()}
	c.Data, c.Mailbox = "{}", c.Address
	b.write(func(t store.Tx) error {
		_, err := t.Begin(b.Context(), store.NewChallenge{Challenge: c, NewAddress: true,
			Letter: store.Delivery{ID: newID(), Challenge: c.ID, Letter: "confirm", Address: c.Address, Data: "{}",
				Lane: store.Urgent, Created: start, Due: start}})
		return err
	})
	for spent := range 5 {
		_, err := b.st.SpendTry(b.Context(), c.Ticket, spent, start)
		if spent < c.TriesAllowed && err != nil || spent >= c.TriesAllowed && !errors.Is(err, store.ErrNotFound) {
			b.Errorf("try %d of %d: %v", spent+1, c.TriesAllowed, err)
		}
	}
}

// Several workers recover at once what a dead one held: everything once, and no more.

// A list of 450 in three pieces is expanded by four at once: everybody gets one letter.

// What fails inside leaves what was written before, and the transaction can go on.

// Of many callers that accept one proven challenge, one wins; tries are spent one by one.
