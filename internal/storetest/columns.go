package storetest

import (
	"fmt"
	"reflect"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
)

// filled returns a row in which every field has a value of its own.
func filled[T any]() (row T) {
	n := 0
	var fill func(v reflect.Value)
	fill = func(v reflect.Value) {
		for i := range v.NumField() {
			f := v.Field(i)
			if n++; !f.CanSet() {
				continue
			}
			switch f.Interface().(type) {
			case time.Time:
				f.Set(reflect.ValueOf(start.Add(time.Duration(n) * time.Hour)))
				continue
			case time.Duration:
				f.SetInt(int64(time.Duration(n) * time.Minute))
				continue
			}
			switch f.Kind() {
			case reflect.String:
				f.SetString("the " + v.Type().Field(i).Name)
			case reflect.Int, reflect.Int64:
				f.SetInt(int64(n))
			case reflect.Bool:
				f.SetBool(true)
			case reflect.Struct:
				fill(f)
			}
		}
	}
	fill(reflect.ValueOf(&row).Elem())
	return row
}

// kept returns what a row's fields are in the tables, by the columns' names: those of the fields, or as in names.
func kept(row any, names map[string]string) map[string]any {
	all := make(map[string]any)
	var add func(v reflect.Value)
	add = func(v reflect.Value) {
		for i := range v.NumField() {
			f, field := v.Field(i), v.Type().Field(i)
			if !field.IsExported() {
				continue
			}
			name := names[field.Name]
			if name == "" {
				name = snake(field.Name)
			}
			switch x := f.Interface().(type) {
			case time.Time:
				all[name] = x.UnixMilli()
				continue
			case time.Duration:
				all[name] = x.Milliseconds()
				continue
			}
			switch f.Kind() {
			case reflect.String:
				all[name] = f.String()
			case reflect.Int, reflect.Int64:
				all[name] = f.Int()
			case reflect.Bool:
				all[name] = int64(1)
			case reflect.Struct:
				add(f)
			}
		}
	}
	add(reflect.ValueOf(row))
	return all
}

// snake turns DeliverBefore into deliver_before, and PID into pid.
func snake(name string) string {
	if strings.ToUpper(name) == name {
		return strings.ToLower(name)
	}
	var b strings.Builder
	for i, r := range name {
		if 'A' <= r && r <= 'Z' && i > 0 {
			b.WriteByte('_')
		}
		b.WriteString(strings.ToLower(string(r)))
	}
	return b.String()
}

// holds checks that each column of the one row of a table for which a condition is true holds what want says.
func (b *bed) holds(table, where string, want map[string]any) {
	b.Helper()
	rows, err := b.st.DB().QueryContext(b.Context(), b.st.Words("SELECT * FROM @"+table+" WHERE "+where))
	b.must(err)
	defer rows.Close()
	names, err := rows.Columns()
	b.must(err)
	if !rows.Next() {
		b.Fatalf("%s has no row: %v", table, rows.Err())
	}
	got, dest := make([]any, len(names)), make([]any, len(names))
	for i := range got {
		dest[i] = &got[i]
	}
	b.must(rows.Scan(dest...))
	for i, name := range names {
		w, ok := want[name]
		if raw, is := got[i].([]byte); is {
			got[i] = string(raw)
		}
		if !ok || fmt.Sprint(got[i]) != fmt.Sprint(w) {
			b.Errorf("%s.%s is %v, want %v", table, name, got[i], w)
		}
	}
}

func with(all map[string]any, more map[string]any) map[string]any {
	for name, v := range more {
		all[name] = v
	}
	return all
}

// What is in a column is what its name says, wherever rows are written: two that were swapped in writing and in
// reading would not be noticed otherwise.
func columns(b *bed) {
	ctx := b.Context()
	d := filled[store.Delivery]()
	waits := map[string]any{"state": "held", "claim": 0, "worker": "", "claimed": 0, "attempts": 0, "spent": 0,
		"ended": 0}
	b.write(func(t store.Tx) error { return t.InsertDelivery(ctx, d) })
	b.holds("delivery", "1 = 1", with(kept(d, map[string]string{"Key": "app_key"}), waits))

	c := filled[store.Challenge]()
	letter := d
	letter.ID, letter.HeldBy, letter.Lane, letter.Version = "letter", "", store.Urgent, store.Version
	b.write(func(t store.Tx) error {
		_, err := t.Begin(ctx, store.NewChallenge{Challenge: c, Letter: letter, NewAddress: true, Network: "net"})
		return err
	})
	b.holds("challenge", "1 = 1", with(kept(c, nil), map[string]any{"why": "", "tried": 0, "proved": 0, "proved_by": "",
		"accepted": 0}))
	b.holds("address", "subject <> ''", map[string]any{"subject": c.Subject, "address": c.Address, "mailbox": c.Mailbox,
		"standing": "unconfirmed", "since": c.Created.UnixMilli(), "reason": "", "asked": 0, "grace_ends": 0,
		"locale": "", "heard": 1})
	b.holds("trail", "1 = 1", map[string]any{"seq": 1, "challenge": c.ID, "subject": c.Subject, "mailbox": c.Mailbox,
		"at": c.Created.UnixMilli(), "what": "begun", "outcome": c.Purpose, "network": "net", "actor": ""})
	b.ends(letter)
	b.putBack(letter)
	b.others()
}

// putBack has an attempt end that leaves its delivery where it is.
func (b *bed) putBack(d store.Delivery) {
	b.Helper()
	ctx, now := b.Context(), d.Due.Add(time.Minute)
	d.ID, d.Challenge, d.Key = "another", "", ""
	b.write(func(t store.Tx) error { return t.InsertDelivery(ctx, d) })
	claimed, err := b.st.ClaimOne(ctx, "w", d.ID, now)
	b.must(err)
	a := store.Attempt{Delivery: d.ID, Number: 1, Begun: now, Ended: now, Class: retry.Ambiguous}
	_, err = b.st.Record(ctx, []store.Beginning{{Delivery: claimed, Attempt: a}}, nil)
	b.must(err)
	_, err = b.st.Record(ctx, nil,
		[]store.End{{Attempt: a, Claim: 1, State: store.Held, Due: now.Add(time.Hour), Spent: 2,
			HeldBy: "who", Note: "why"}})
	b.must(err)
	b.holds("delivery", "id = 'another'", with(kept(d, map[string]string{"Key": "app_key"}), map[string]any{
		"state": "held", "claim": 1, "worker": "", "claimed": now.UnixMilli(), "attempts": 1, "spent": 2, "ended": 0,
		"due": now.Add(time.Hour).UnixMilli(), "held_by": "who", "note": "why", "collapse": "another"}))
}

// ends follows a delivery that is claimed, attempted, fails and is revived.
func (b *bed) ends(d store.Delivery) {
	b.Helper()
	ctx, now := b.Context(), d.Due.Add(time.Minute)
	b.must(b.st.Beat(ctx, store.Worker{ID: "w", Lease: now.Add(time.Hour)}))
	claimed, err := b.st.ClaimOne(ctx, "w", d.ID, now)
	b.must(err)
	if claimed.Claimed, claimed.Worker = d.Claimed, d.Worker; claimed != claimedOnce(d, claimed.Claim) {
		b.Errorf("claimed %+v\nof %+v", claimed, d)
	}
	a := filled[store.Attempt]()
	a.Delivery, a.Number, a.Claim, a.Worker, a.Class = d.ID, 1, 1, "w", retry.MessageRefused
	claimed.Fixed, claimed.Signature = a.Fixed, a.Signature
	_, err = b.st.Record(ctx, []store.Beginning{{Delivery: claimed, Attempt: a}}, nil)
	b.must(err)
	end := store.End{Attempt: a, Claim: 1, State: store.Failed, Spent: 2, Note: "the note"}
	_, err = b.st.Record(ctx, nil, []store.End{end})
	b.must(err)
	b.holds("attempt", "1 = 1", kept(a, nil))
	ended := with(kept(d, map[string]string{"Key": "app_key"}),
		map[string]any{"state": "failed", "claim": 1, "worker": "w",
			"claimed": now.UnixMilli(), "attempts": 1, "spent": 2, "ended": a.Ended.UnixMilli(), "note": "the note",
			"held_by": ""})
	b.holds("ended", "1 = 1", ended)
	if _, err := b.st.Revive(ctx, store.Filter{ID: d.ID}, false, now); err != nil {
		b.Fatal(err)
	}
	b.holds("delivery", "id = 'letter'", with(ended, map[string]any{"state": "waiting", "due": now.UnixMilli(),
		"worker": "", "claimed": 0, "free": 0, "spent": 0, "ended": 0, "note": "",
		"collapse": "letter", "fallback": ""}))
}

func claimedOnce(d store.Delivery, claim int64) store.Delivery {
	d.State, d.Claim, d.Attempts, d.Spent, d.Ended = store.Claimed, claim, 0, 0, time.Time{}
	d.Fixed, d.Sign, d.Signature = time.Time{}, false, ""
	return d
}

// others are the rows that are written as a whole.
func (b *bed) others() {
	b.Helper()
	ctx := b.Context()
	change, step := filled[store.Change](), filled[store.Step]()
	change.State = store.Pending
	suppressed, event := filled[store.Suppression](), filled[store.Event]()
	back, once, file := filled[store.Feedback](), filled[store.Once](), filled[store.Attachment]()
	known := filled[store.Browser]()
	f := store.Fanout{ID: "list", Draft: filled[store.Delivery]()}
	b.write(func(t store.Tx) error {
		b.must(t.InsertChange(ctx, change))
		b.must(t.Record(ctx, step))
		b.must(t.KeepBrowser(ctx, known))
		b.must(t.Suppress(ctx, suppressed))
		b.must(t.InsertEvent(ctx, event))
		b.must(t.SetAside(ctx, event, event.Reason, event.At))
		_, err := t.InsertFeedback(ctx, back)
		b.must(err)
		_, _, err = t.Once(ctx, once)
		b.must(err)
		file.Size = 0
		file.Size, err = t.InsertAttachment(ctx, file, strings.NewReader("seven b"), 10)
		b.must(err)
		return t.InsertFanout(ctx, f, "")
	})
	inChange := map[string]string{"Old": "old_address", "New": "new_address"}
	b.holds("change", "1 = 1", kept(change, inChange))
	change.Challenge, change.New, change.NewMailbox, change.Bound = "another", "new@", "mailbox@", "bound anew"
	b.write(func(t store.Tx) error {
		if done, err := t.CorrectChange(ctx, change); err != nil || !done {
			b.Errorf("a pending change is corrected: %v, %v", done, err)
		}
		return nil
	})
	b.holds("change", "1 = 1", kept(change, inChange))
	b.holds("browser", "1 = 1", with(kept(known, nil), map[string]any{"tries": 0, "tries_from": 0, "lettered": 0}))
	b.holds("trail", "actor <> ''", with(kept(step, nil), map[string]any{"seq": 2}))
	b.holds("suppression", "1 = 1", with(kept(suppressed, nil), map[string]any{"let_at": 0, "let_challenge": ""}))
	b.holds("event", "1 = 1", with(kept(event, nil), map[string]any{"seq": 1}))
	b.holds("event_aside", "1 = 1", kept(event, nil))
	b.holds("feedback", "id = 'the ID'",
		with(kept(back, nil), map[string]any{"mailbox": "", "state": "waiting", "note": "",
			"next": back.Taken.UnixMilli()}))
	b.holds("once", "1 = 1", kept(once, nil))
	b.holds("attachment", "1 = 1", with(kept(file, map[string]string{"ContentID": "cid"}), map[string]any{"size": 7}))
	draft := kept(f.Draft, map[string]string{"Key": "app_key"})
	draft["id"] = f.ID
	rows, err := b.st.DB().QueryContext(ctx, b.st.Words(`SELECT draft FROM @fanout`))
	b.must(err)
	for rows.Next() {
		var raw string
		b.must(rows.Scan(&raw))
		draft["draft"] = raw
	}
	b.holds("fanout", "1 = 1", draft)
	b.alone()
}

// alone are those that are transactions of their own.
func (b *bed) alone() {
	b.Helper()
	ctx := b.Context()
	wish, pause, worker := filled[store.Preference](), filled[store.Pause](), filled[store.Worker]()
	b.must(b.st.Prefer(ctx, wish))
	b.must(b.st.Pause(ctx, pause))
	b.must(b.st.Beat(ctx, worker))
	b.holds("preference", "1 = 1", kept(wish, nil))
	b.holds("pause", "1 = 1", kept(pause, nil))
	b.holds("worker", "host <> ''", with(kept(worker, nil), map[string]any{"keyed": 1}))

	taken := filled[store.Backfill]()
	taken.Subject = "another"
	if _, _, err := b.st.TakeOver(ctx, []store.Backfill{taken}, false); err != nil {
		b.Fatal(err)
	}
	b.holds("address", "standing = 'the Standing'", with(kept(taken.Address, nil), map[string]any{"asked": 0}))
	b.standings()
}

// standings follows an address that bounces, and is made stale.
func (b *bed) standings() {
	b.Helper()
	ctx := b.Context()
	row := filled[store.Backfill]()
	row.Subject, row.Mailbox, row.Standing, row.GraceEnds = "relies", "relies@", store.Confirmed, time.Time{}
	if _, _, err := b.st.TakeOver(ctx, []store.Backfill{row}, false); err != nil {
		b.Fatal(err)
	}
	bounced, grace, stale := start.Add(time.Hour), start.Add(2*time.Hour), start.Add(3*time.Hour)
	b.write(func(t store.Tx) error { return t.SetBounced(ctx, row.Mailbox, "came back", grace, bounced) })
	want := with(kept(row.Address, nil), map[string]any{"standing": "bounced", "since": bounced.UnixMilli(),
		"reason": "came back", "grace_ends": grace.UnixMilli(), "asked": bounced.UnixMilli()})
	b.holds("address", "subject = 'relies'", want)
	b.write(func(t store.Tx) error {
		_, err := t.SetStanding(ctx, store.Address{Subject: row.Subject, Mailbox: row.Mailbox, Standing: store.Stale,
			Since: stale, Reason: "old", GraceEnds: grace})
		return err
	})
	b.holds("address", "subject = 'relies'", with(want, map[string]any{"standing": "stale", "since": stale.UnixMilli(),
		"reason": "old", "asked": 0}))
}
