package storetest

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
)

func collapse(b *bed) {
	join := func(n int) string {
		d := store.Delivery{ID: newID(), Letter: "moved", Address: "m@ternisle.example",
			Data: fmt.Sprintf(`{"n":%d}`, n), Lane: store.Normal, Created: start, Due: start, Collapse: "k"}
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
	// What joined it stays with a letter that failed, for another try, and goes with one that was sent.
	left := func(when string, want int) {
		if items, err := b.st.Items(b.Context(), d.ID, 100); err != nil || len(items) != want {
			b.Errorf("%s: %d items, %v; want %d", when, len(items), err, want)
		}
	}
	finish := func(state store.State, class retry.Class) {
		again, err := b.st.ClaimOne(b.Context(), "w", d.ID, start)
		b.must(err)
		b.must(b.begin(again))
		b.end(again, state, class, nil)
	}
	finish(store.Failed, retry.MessageRefused)
	left("failed", 10)
	if n, err := b.st.Revive(b.Context(), store.Filter{ID: d.ID}, false, start); err != nil || n != 1 {
		b.Fatalf("revived %d, %v", n, err)
	}
	if d := b.get(d.ID); d.Collapse != d.ID {
		b.Errorf("revived: %+v", d)
	}
	finish(store.Sent, retry.Accepted)
	left("sent", 0)
}

func moves(b *bed) {
	remind := b.put(func(d *store.Delivery) {
		d.Key, d.Lead, d.Due, d.DeliverBefore = "sailing 7", 2*time.Hour, start.Add(time.Hour), start.Add(3*time.Hour)
	})
	other := b.put(func(d *store.Delivery) { d.Key = "sailing 7" })
	b.write(func(t store.Tx) error {
		return t.InsertFanout(b.Context(),
			store.Fanout{ID: newID(), Draft: store.Delivery{Key: "sailing 7", Lead: time.Hour, Due: start,
				Created: start}}, "")
	})
	b.write(func(t store.Tx) error {
		n, err := t.Move(b.Context(), "sailing 7", start.Add(9*time.Hour))
		if n != 3 {
			b.Errorf("moved %d, want the reminder, the notice and the list", n)
		}
		return err
	})
	if d := b.get(remind); !d.Due.Equal(start.Add(7*time.Hour)) || !d.DeliverBefore.Equal(start.Add(9*time.Hour)) {
		b.Errorf("moved to %v, until %v", d.Due, d.DeliverBefore)
	}
	if d := b.get(other); !d.Due.Equal(start.Add(9*time.Hour)) || !d.DeliverBefore.IsZero() {
		b.Errorf("what is no reminder moved to %v, until %v", d.Due, d.DeliverBefore)
	}
	b.write(func(t store.Tx) error {
		n, err := t.CancelKey(b.Context(), "sailing 7", "called off", start)
		if n != 3 {
			b.Errorf("cancelled %d, want 3", n)
		}
		return err
	})
}

func lists(b *bed) {
	f := store.Fanout{ID: newID(), Draft: store.Delivery{Letter: "moved", Data: `{"n":1}`, Lane: store.Bulk, Due: start,
		Created: start, AskedBy: "the application", Key: "k"}}
	insertList(b, f)
	if left, err := b.st.Left(b.Context(), start.Add(24*time.Hour)); err != nil || !left {
		b.Errorf("a list is nothing left to do: %v", err)
	}
	var total atomic.Int64
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for {
				n, _, err := b.st.Expand(b.Context(), newID, nil)
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
		n, _, err := b.st.Expand(b.Context(), newID, nil) // one that skipped a locked piece may have ended early
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

// insertList adds a list to 450 people.
func insertList(b *bed, f store.Fanout) {
	b.Helper()
	b.write(func(t store.Tx) error {
		if err := t.InsertFanout(b.Context(), f, ""); err != nil {
			return err
		}
		for piece, n := range []int{200, 200, 50} {
			var people []store.Person
			for i := range n {
				people = append(people, store.Person{Address: fmt.Sprintf("p%d-%d@ternisle.example", piece, i),
					Locale: "en"})
			}
			people[0].Data = []byte(`{"n":2}`)
			if err := t.InsertPeople(b.Context(), store.Piece{List: f.ID, Number: piece, People: people}); err != nil {
				return err
			}
		}
		return nil
	})
}

func once(b *bed) {
	var firsts atomic.Int64
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			err := b.st.Write(b.Context(), func(t store.Tx) error {
				first, stands,
					err := t.Once(b.Context(), store.Once{Name: "k", Digest: "d", Result: fmt.Sprint(i), Made: start})
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
		if _, err := b.st.DB().Exec(b.st.Words(fmt.Sprintf(
			`INSERT INTO @event (source, id, type, data) VALUES ('/quay', '%d', 'x', '{"n":%d}')`, i, i))); err != nil {
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

func accept(b *bed) {
	c := store.Challenge{
		Challenge: proof.Challenge{ID: newID(), Purpose: "signup", Subject: "7", Address: "m@ternisle.example",
			State:   proof.Open,
			Created: start, Ends: start.Add(time.Hour), TriesAllowed: 5, Generation: 1}, Ticket: newID()}
	c.Data, c.Mailbox = "{}", c.Address
	b.write(func(t store.Tx) error {
		_, err := t.Begin(b.Context(),
			store.NewChallenge{Challenge: c, Letter: store.Delivery{ID: newID(), Challenge: c.ID, Letter: "confirm",
				Address: c.Address, Data: "{}", Lane: store.Urgent, Created: start, Due: start}, NewAddress: true,
				Network: "192.0.2.7"})
		return err
	})
	var spent, won atomic.Int64
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			for before := range 5 {
				if _, err := b.st.SpendTry(b.Context(), c.Ticket, before, start); err == nil {
					spent.Add(1)
				} else if !errors.Is(err, store.ErrNotFound) {
					b.Error(err)
				}
			}
			b.write(func(t store.Tx) error {
				return t.MarkProved(b.Context(), c.ID, challenge.Link, c.StepOf("proved", "link", "", start))
			})
			b.write(func(t store.Tx) error {
				_, err := t.Accept(b.Context(), c.ID, "", start)
				if errors.Is(err, store.ErrNotFound) {
					return nil
				}
				won.Add(1)
				return err
			})
		})
	}
	all.Wait()
	if won.Load() != 1 || spent.Load() > 5 {
		b.Errorf("%d won, %d tries", won.Load(), spent.Load())
	}
	b.write(func(t store.Tx) error {
		first, err := t.Confirm(b.Context(), "m@ternisle.example", nil,
			store.Step{Subject: "7", Mailbox: "m@ternisle.example", At: start, What: "accepted"})
		b.must(err)
		other, err := t.Confirm(b.Context(), "m@ternisle.example", nil,
			store.Step{Subject: "8", Mailbox: "m@ternisle.example", At: start, What: "accepted"})
		if first != store.Took || other != store.Others {
			b.Errorf("one mailbox, two holders: %v and %v", first, other)
		}
		return err
	})
	steps, err := b.st.Trail(b.Context(), c.Mailbox, 100)
	b.must(err)
	if n := len(steps); n < 21 || steps[n-1].What != "begun" || steps[n-1].Network != "192.0.2.7" {
		b.Errorf("%d lines of trail, the first %+v", n, steps[max(0, n-1)])
	}
}

func attachments(b *bed) {
	big := strings.Repeat("manifest ", 60_000)
	bundle := newID()
	id := b.put(func(d *store.Delivery) { d.Bundle = bundle })
	b.write(func(t store.Tx) error {
		_, err := t.InsertAttachment(b.Context(), store.Attachment{Bundle: bundle, Name: "m.txt"},
			strings.NewReader(big), 1<<20)
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
	if files, err := b.st.Attachments(b.Context(), bundle); err != nil || len(files) != 0 ||
		b.get(id).State != store.Sent {
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
	gathered := store.Delivery{ID: made(old), Letter: "moved", Address: "m@ternisle.example", Lane: store.Normal,
		Created: old, Due: old, Collapse: "k"}
	b.write(func(t store.Tx) error { _, err := t.Join(b.Context(), gathered, newID()); return err })
	d, err := b.st.ClaimOne(b.Context(), "w", gathered.ID, old)
	b.must(err)
	b.must(b.begin(d))
	b.end(d, store.Failed, retry.MessageRefused, func(e *store.End) { e.Attempt.Ended = old })
	n := int64(0)
	for s, done := b.st.Sweep(start.Add(-30*24*time.Hour), start.Add(-7*24*time.Hour)), false; !done; {
		var some int64
		some, done, err = s.Piece(b.Context())
		b.must(err)
		n += some
	}
	if n != 6 {
		b.Errorf("swept %d rows, %v; want two old deliveries, their attempts, what joined one, and a key", n, err)
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
		b.must(b.st.Prefer(ctx, store.Preference{Mailbox: "m@ternisle.example", Category: "sailings", Wanted: wanted,
			Since: start}))
		if no, err := b.st.Unwanted(ctx, "m@ternisle.example", "sailings"); err != nil || no == wanted {
			b.Errorf("unwanted is %v after wanted %v, %v", no, wanted, err)
		}
	}
	if all, err := b.st.Preferences(ctx, "m@ternisle.example"); err != nil || len(all) != 1 || all[0].Wanted {
		b.Errorf("%+v, %v", all, err)
	}
	for _, site := range []string{"https://ferry.example", "https://copy.example"} {
		if got, err := b.st.SetOnce(ctx, store.SettingSite, site); err != nil || got != "https://ferry.example" {
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
