package illumicode_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/event"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/letters"
)

// boarding gives a service a letter with values of the event and of its reader, and rules for it.
func boarding(tb testing.TB) func(*illumicode.Config) {
	tb.Helper()
	set, err := letters.Load(fstest.MapFS{"en.toml": {Data: []byte(`
[letter.boarding]
subject = "Seat {{.seat}}, {{.pier}}"
main = "{{.name}}: {{.note}}."
[letter.gangway]
subject = "Boarding at {{.pier}}"
`)}}, "en")
	if err != nil {
		tb.Fatal(err)
	}
	return func(c *illumicode.Config) {
		c.Letters = set
		c.Events = []illumicode.EventRule{
			{Type: "sailing.boarding", Letter: "boarding", To: "/passengers"},
			{Type: "sailing.boarding", Letter: "gangway",
				Fixed: []illumicode.Request{{Address: "pier@gullquay.example"}}},
			{Type: "pier.closed", Letter: "gangway", Fixed: []illumicode.Request{{Address: "pier@gullquay.example"}}},
			{Type: "sailing.tide", Letter: "gangway", To: "/passengers", Gather: time.Hour},
		}
	}
}

func passenger(i int) string {
	return fmt.Sprintf(`{"address":"p%d@ternisle.example","name":"P %d","seat":"%dB","note":"mind the gap"}`, i, i, i)
}

// settled waits until no list is left, and returns the rows of a table.
func settled(tb testing.TB, k *illumicodetest.Kit, table string) (n, longest int) {
	tb.Helper()
	st := flow.Of(k.Service).Store
	for {
		if n, _, err := st.Expand(tb.Context(), flow.NewID, nil); err != nil {
			tb.Fatal(err)
		} else if n == 0 {
			break
		}
	}
	if err := st.DB().QueryRowContext(tb.Context(), st.Words("SELECT COUNT(*), COALESCE(MAX(LENGTH(data)), 0) FROM @"+
		table)).Scan(&n, &longest); err != nil {
		tb.Fatal(err)
	}
	return n, longest
}

// Each delivery of an event has its own recipient's values and no others'; what all share stands once, until the last
// has ended.
func TestRecipientsOfTheirOwn(t *testing.T) {
	k := illumicodetest.Idle(t, boarding(t))
	data := func(n int) string {
		all := make([]string, n)
		for i := range all {
			all[i] = passenger(i)
		}
		return fmt.Sprintf(`{"pier":"pier 9","log":%q,"passengers":[%s]}`, strings.Repeat("fog ", 5000),
			strings.Join(all, ","))
	}
	e := event.Event{Source: "/harbour", ID: "1", Type: "sailing.boarding", Data: []byte(data(1000))}
	if err := k.Service.Receive(t.Context(), e); err != nil {
		t.Fatal(err)
	}
	if n, longest := settled(t, k, "delivery"); n != 1001 || longest > 100 {
		t.Errorf("%d deliveries, the longest with %d bytes of data", n, longest)
	}
	e.ID, e.Data = "2", []byte(strings.Replace(data(3), `"seat":"2B",`, "", 1))
	if err := k.Service.Receive(t.Context(), e); err == nil || !strings.Contains(err.Error(), "recipient 3") ||
		!strings.Contains(err.Error(), "seat") {
		t.Errorf("a recipient without a value of its letter: %v", err)
	}
	if n, _ := settled(t, k, "shared"); n != 2 { // of the list, and of the rule with one fixed address
		t.Errorf("%d rows are shared", n)
	}

	k = illumicodetest.New(t, boarding(t), func(c *illumicode.Config) { c.Outbox.Poll = 10 * time.Millisecond })
	e.Data = []byte(data(3))
	if err := k.Service.Receive(t.Context(), e); err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		l := k.Letter(fmt.Sprintf("p%d@ternisle.example", i), 1)
		if l.Subject != fmt.Sprintf("Seat %dB, pier 9", i) || !strings.Contains(l.Text,
			fmt.Sprintf("P %d: mind the gap", i)) {
			t.Errorf("%q: %s", l.Subject, l.Text)
		}
	}
	k.Letter("pier@gullquay.example", 1)
	eventually(t, func() bool { n, _ := settled(t, k, "shared"); return n == 0 })
}

// streamed returns an event with recipients in lines.
func streamed(id string, people []string, end string) string {
	return fmt.Sprintf(`{"specversion":"1.0","source":"/harbour","id":%q,"type":"sailing.boarding",`+
		`"data":{"pier":"pier 9"}}`, id) + "\n" + strings.Join(people, "\n") + "\n" + end
}

// A list in lines is there as a whole with its last line, and not before; nothing of what is wrong stays.
func TestReceiveList(t *testing.T) {
	k := illumicodetest.Idle(t, boarding(t))
	people := make([]string, 400) // more than two pieces
	for i := range people {
		people[i] = passenger(i)
	}
	empty := func(why string) {
		t.Helper()
		for _, table := range []string{"fanout_piece", "shared", "delivery", "once"} {
			st := flow.Of(k.Service).Store
			n := 0
			if err := st.DB().QueryRow(st.Words("SELECT COUNT(*) FROM @" + table)).Scan(&n); err != nil || n != 0 {
				t.Errorf("%s: %d rows in %s, %v", why, n, table, err)
			}
		}
	}
	for name, tt := range map[string]struct{ body, want string }{
		"cut off":     {streamed("1", people, ""), `without its last line {"end": 400}`},
		"one too few": {streamed("1", people, `{"end": 401}`), "says 401 recipients, and 400 came"},
		"nobody":      {streamed("1", nil, `{"end": 0}`), "no recipients follow it"},
		"a value is missing": {streamed("1", append(people[:399:399], `{"address":"a@b.example"}`), `{"end": 400}`),
			"line 401"},
		"no address at all": {streamed("1", append(people[:399:399], `"nobody"`), `{"end": 400}`), "line 401"},
		"also in the data": {strings.Replace(streamed("1", people, ""), `"pier":`, `"passengers":[],"pier":`, 1),
			"/passengers"},
		"a rule that gathers": {strings.Replace(streamed("1", people, ""), "boarding", "tide", 1), "gathers"},
		"a type without list": {strings.Replace(streamed("1", people, ""), "sailing.boarding", "pier.closed", 1),
			"of their own"},
		"no rule": {strings.Replace(streamed("1", people, ""), "boarding", "sunk", 1), "no rule"},
	} {
		n, err := k.Service.ReceiveList(t.Context(), strings.NewReader(tt.body))
		if err == nil || n != 0 || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %d, %v; want %q", name, n, err, tt.want)
		}
		if !errors.Is(err, event.ErrMalformed) && !errors.Is(err, event.ErrNoRule) {
			t.Errorf("%s: nobody is at fault: %v", name, err)
		}
		empty(name)
	}
	for range 2 { // a repeat has no effect
		if n, err := k.Service.ReceiveList(t.Context(), strings.NewReader(streamed("1", people,
			`{"end": 400}`))); err != nil ||
			n != 400 {
			t.Fatalf("%d, %v", n, err)
		}
	}
	if _, err := k.Service.ReceiveList(t.Context(), strings.NewReader(streamed("1", people[:9],
		`{"end": 9}`))); !errors.Is(err,
		illumicode.ErrDifferent) {
		t.Errorf("other recipients under the same id: %v", err)
	}
	if n, longest := settled(t, k, "delivery"); n != 401 || longest > 100 {
		t.Errorf("%d deliveries, the longest with %d bytes of data", n, longest)
	}
}

// While a list arrives nobody sees its pieces; if nothing comes for an hour it is given up, and its end is refused.
func TestAbandonedList(t *testing.T) {
	k := illumicodetest.Idle(t, boarding(t))
	st := flow.Of(k.Service).Store
	p := store.Spool{ID: flow.NewID(), Lists: []string{flow.NewID()}}
	now := time.Now()
	add := func(n int, at time.Time) error {
		return st.AddSpooled(t.Context(), p.ID, store.Piece{List: p.Lists[0], Number: n,
			People: []store.Person{{Address: mara}}}, at)
	}
	if err := errors.Join(st.BeginSpool(t.Context(), p, now), add(0, now), add(1, now.Add(time.Hour))); err != nil {
		t.Fatal(err)
	}
	if n, _, err := st.Expand(t.Context(), flow.NewID, nil); n != 0 || err != nil {
		t.Errorf("expanded %d before its end, %v", n, err)
	}
	if left, err := st.Left(t.Context(), now.Add(time.Hour)); left || err != nil {
		t.Errorf("it is work for somebody: %v, %v", left, err)
	}
	for want, before := range []time.Time{now.Add(time.Hour), now.Add(time.Hour + time.Second)} {
		if n, err := st.SweepSpools(t.Context(), before); n != want || err != nil {
			t.Errorf("of what came last before %v %d were given up, %v; want %d", before, n, err, want)
		}
	}
	if err := add(2, now); !errors.Is(err, store.ErrGivenUp) {
		t.Errorf("a piece for what was given up: %v", err)
	}
	err := st.Write(t.Context(), func(tx store.Tx) error { return tx.PublishSpool(t.Context(), p.ID) })
	if !errors.Is(err, store.ErrGivenUp) {
		t.Errorf("its end: %v", err)
	}
	if n, _ := settled(t, k, "shared"); n != 0 {
		t.Errorf("%d rows are left", n)
	}
}
