package storetest

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
)

const erased = "Mara_Quist@ternisle.example"

// erasure erases somebody who stands in thousands of rows, is broken off again and again, and ends with the address
// nowhere; others' rows are as they were.
func erasure(b *bed) {
	everyTable(b)
	mailbox := strings.ToLower(erased)
	b.worker("w")
	own := b.put(func(d *store.Delivery) { d.Address = erased })
	letters := b.claim("w", 1)
	b.must(b.begin(letters[0]))
	e, err := b.st.Erase(b.Context(), mailbox, erased, start.Add(time.Hour))
	b.must(err)
	for err == nil && e.Stage < 3 {
		_, err = e.Step(b.Context())
	}
	if !errors.Is(err, store.ErrUnderWay) {
		b.Fatalf("an attempt was under way: %v at stage %d", err, e.Stage)
	}
	b.end(letters[0], store.Sent, retry.Accepted, nil)

	b.put(func(d *store.Delivery) { d.Address = erased }) // claimed, and not begun
	claimed := b.claim("w", 1)[0]
	fallback := b.put(func(d *store.Delivery) { d.Fallback = erased })
	var others []string
	for i := range 1200 { // more than two pieces
		others = append(others, b.put(func(d *store.Delivery) {
			d.Address = fmt.Sprintf("p%d@ternisle.example", i)
			if i%400 == 399 {
				d.Data = `{"n":"with ` + strings.ToUpper(erased) + `"}`
			}
		}))
	}
	listWith(b, erased)
	e = brokenOff(b, e)
	for _, id := range []string{own, claimed.ID} {
		if _, err := b.st.Delivery(b.Context(), id); !errors.Is(err, store.ErrNotFound) {
			b.Errorf("a letter to somebody erased is there: %v", err)
		}
	}
	if err := b.begin(claimed); err == nil {
		b.Error("an attempt begins at a letter that was erased")
	}
	if d := b.get(fallback); d.Fallback != "" {
		b.Errorf("a letter falls back to %q", d.Fallback)
	}
	for i, id := range others {
		want := `{"n":1}`
		if i%400 == 399 {
			want = `{"n":"with forgotten@invalid"}`
		}
		if d := b.get(id); d.Data != want || d.State != store.Waiting {
			b.Fatalf("letter %d of others: %s, %s", i, d.State, d.Data)
		}
	}
	if n, err := b.st.CountErasures(b.Context()); n != 0 || err != nil {
		b.Errorf("%d erasures are left, %v", n, err)
	}
	if found, err := Search(b.Context(), b.st, mailbox); err != nil || len(found) != 0 || len(e.Remains) != 0 {
		b.Errorf("%+v, %v, %v", found, e.Remains, err)
	}
}

// lookalikes are longer addresses that contain the one that is erased: they stay as they are.
func lookalikes(b *bed) {
	akin := b.put(func(d *store.Delivery) { // whose address only looks alike
		d.Address, d.Fallback = "jo."+erased, erased+".org"
		d.Data = `{"n":"jo.` + erased + ` and ` + erased + `.org, not ` + erased + `."}`
	})
	e, err := b.st.Erase(b.Context(), strings.ToLower(erased), erased, start)
	b.must(err)
	for done := false; !done; {
		done, err = e.Step(b.Context())
		b.must(err)
	}
	if d := b.get(akin); d.Address != "jo."+erased || d.Fallback != erased+".org" ||
		d.Data != `{"n":"jo.`+erased+` and `+erased+`.org, not forgotten@invalid."}` {
		b.Errorf("one with a longer address: %+v", d)
	}
	if len(e.Remains) != 0 {
		b.Errorf("remains: %v", e.Remains)
	}
}

// returned is somebody who comes back while being erased: what is younger stays, and is named.
func returned(b *bed) {
	e, err := b.st.Erase(b.Context(), strings.ToLower(erased), erased, start)
	b.must(err)
	var id string
	for done := false; !done; {
		if e.Stage == 2 && id == "" {
			id = b.put(func(d *store.Delivery) { d.Address, d.Created = erased, start.Add(time.Second) })
			b.must(b.st.Prefer(b.Context(), store.Preference{Mailbox: strings.ToLower(erased), Category: "sailings"}))
		}
		done, err = e.Step(b.Context())
		b.must(err)
	}
	if d := b.get(id); d.Address != erased {
		b.Errorf("%+v", d)
	}
	if len(e.Remains) != 2 || e.Remains["preference.mailbox"] != 1 || e.Remains["delivery.address"] != 1 {
		b.Errorf("remains: %v", e.Remains)
	}
}

// everyTable fails for a table of which erasures know nothing.
func everyTable(b *bed) {
	tables, err := b.st.TextColumns(b.Context())
	b.must(err)
	for _, c := range tables {
		if table := strings.TrimPrefix(c[0], "illumicode_"); store.Walked(table) == slices.Contains(store.NotWalked,
			table) {
			b.Errorf("table %s has texts, and erasures do not say whether they look through it", table)
		}
	}
}

// listWith adds a list that has somebody in it, twice, and mentions them.
func listWith(b *bed, erased string) {
	list := store.Fanout{ID: newID(), Draft: store.Delivery{Letter: "moved", Data: "{}", Lane: store.Bulk, Due: start,
		Created: start}}
	b.write(func(t store.Tx) error {
		b.must(t.InsertFanout(b.Context(), list, `{"beside":"`+erased+`"}`))
		b.must(t.InsertPeople(b.Context(), store.Piece{List: list.ID, People: []store.Person{{Address: erased}}}))
		return t.InsertPeople(b.Context(), store.Piece{List: list.ID, Number: 1,
			People: []store.Person{{Address: "jens@ternisle.example", Own: []byte(`{"with":"` + erased + `"}`)},
				{Address: strings.ToLower(erased)}}})
	})
}

// brokenOff ends an erasure, which another process goes on with again and again.
func brokenOff(b *bed, e *store.Erasure) *store.Erasure {
	steps, expanded := 0, false
	for done := false; !done; steps++ {
		if steps%3 == 0 { // broken off: another process goes on
			all, err := b.st.Erasures(b.Context())
			if err != nil || len(all) != 1 || all[0].ID != e.ID {
				b.Fatalf("%d erasures are left, %v", len(all), err)
			}
			e, err = b.st.Erase(b.Context(), e.Mailbox, erased, start.Add(2*time.Hour))
			b.must(err)
		}
		if e.Stage == 2 && !expanded { // a piece becomes letters between the steps
			expanded = true
			_, _, err := b.st.Expand(b.Context(), newID, nil)
			b.must(err)
		}
		var err error
		done, err = e.Step(b.Context())
		b.must(err)
	}
	return e
}

// escaped is an address that JSON writes with an escape.
func escaped(b *bed) {
	const address = "mara&jens@ternisle.example"
	data, err := json.Marshal(map[string]string{"n": "with " + address})
	b.must(err)
	id := b.put(func(d *store.Delivery) { d.Data = string(data) })
	e, err := b.st.Erase(b.Context(), address, address, start)
	b.must(err)
	for done := false; !done; {
		done, err = e.Step(b.Context())
		b.must(err)
	}
	if d := b.get(id); d.Data != `{"n":"with forgotten@invalid"}` {
		b.Errorf("%s", d.Data)
	}
}
