package illumicode_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/jackc/pgx/v5"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/core/event"
	"github.com/illumicode/illumicode/core/letter"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/core/retry"
	"github.com/illumicode/illumicode/core/token"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/outbox"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/capture"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/postgres"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// pierLetters are a service's own: each says what it is given.
var pierLetters = fstest.MapFS{
	"en.toml": {Data: []byte(`
[letter.moved]
subject = "Moved to {{.pier}}"
instruction = "Go to {{.pier}}."
sms = "Go to {{.pier}}."
[letter.digest]
subject = "{{.count}} changes"
[letter.refund]
subject = "Your refund"
instruction = "It is {{.amount}}."
`)},
	"digest.txt":   {Data: []byte("{{range .items}}{{.pier}}; {{end}}")},
	"letters.toml": {Data: []byte("[moved]\ncategory = \"sailings\"\n[refund]\nat_most_once = true\n")},
}

// withPier gives a service the letters of the pier.
func withPier(tb testing.TB) func(*illumicode.Config) {
	tb.Helper()
	set, err := letters.Load(pierLetters, "en")
	if err != nil {
		tb.Fatal(err)
	}
	return func(c *illumicode.Config) { c.Letters = set }
}

func pier(n int) map[string]any { return map[string]any{"pier": fmt.Sprintf("pier %d", n)} }

// ended waits until a delivery has the state, and returns it.
func ended(tb testing.TB, k *illumicodetest.Kit, id string, want store.State) store.Delivery {
	tb.Helper()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(2 * time.Millisecond) {
		d, err := k.Service.Store().Delivery(tb.Context(), id)
		if err != nil {
			tb.Fatal(err)
		}
		if d.State == want {
			return d
		}
		if time.Now().After(deadline) || d.State.Final() {
			tb.Fatalf("delivery is %s (%s, held by %q), want %s", d.State, d.Note, d.HeldBy, want)
		}
	}
}

func notify(tb testing.TB, k *illumicodetest.Kit, n illumicode.Notice) string {
	tb.Helper()
	if n.To.Address == "" {
		n.To.Address = mara
	}
	ids, err := k.Service.Notify(tb.Context(), n)
	if err != nil {
		tb.Fatal(err)
	}
	return ids[0]
}

// A reminder comes before its moment, moves with it, and vanishes with its key.
func TestReminder(t *testing.T) {
	k := illumicodetest.New(t, withPier(t))
	sails := k.Clock.Now().Add(5 * time.Hour)
	remind := func(of time.Time) string {
		return notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1), Key: "sailing 7", Remind: illumicode.Reminder{Of: of, Before: 2 * time.Hour}})
	}
	first := remind(sails)
	if n, err := k.Service.Move(t.Context(), "sailing 7", sails.Add(3*time.Hour)); err != nil || n != 1 {
		t.Fatalf("moved %d, %v", n, err)
	}
	k.Clock.Move(4 * time.Hour) // past the first moment's reminder, before the second's
	time.Sleep(100 * time.Millisecond)
	if d, err := k.Service.Store().Delivery(t.Context(), first); err != nil || d.State != store.Waiting {
		t.Fatalf("after the sailing was moved: %+v, %v", d, err)
	}
	k.Clock.Move(2*time.Hour + time.Second)
	ended(t, k, first, store.Sent)
	second := remind(k.Clock.Now().Add(5 * time.Hour))
	if n, err := k.Service.Cancel(t.Context(), "sailing 7"); err != nil || n != 1 {
		t.Errorf("cancelled %d, %v", n, err)
	}
	ended(t, k, second, store.Cancelled)
}

// Many notices in a while are one letter, and each is told in it.
func TestCollapse(t *testing.T) {
	k := illumicodetest.New(t, withPier(t))
	var ids []string
	for i := range 3 {
		ids = append(ids, notify(t, k, illumicode.Notice{Letter: "digest", Data: pier(i), Collapse: illumicode.Collapse{Key: "day", Window: time.Hour}}))
	}
	if ids[0] != ids[1] || ids[1] != ids[2] {
		t.Fatalf("three notices are deliveries %v", ids)
	}
	k.Clock.Move(time.Hour + time.Second)
	ended(t, k, ids[0], store.Sent)
	l := k.Letter(mara, 1)
	if l.Subject != "3 changes" || !strings.Contains(l.Text, "pier 0; pier 1; pier 2;") {
		t.Errorf("%q:\n%s", l.Subject, l.Text)
	}
	if next := notify(t, k, illumicode.Notice{Letter: "digest", Data: pier(3), Collapse: illumicode.Collapse{Key: "day", Window: time.Hour}}); next == ids[0] {
		t.Error("a notice joined a letter that was sent")
	}
}

// A second notice under one de-duplication key has no effect; another under it is refused.
func TestOnce(t *testing.T) {
	k := illumicodetest.Idle(t, withPier(t))
	n := illumicode.Notice{Letter: "moved", Data: pier(1), Once: "order 7"}
	first := notify(t, k, n)
	if again := notify(t, k, n); again != first {
		t.Errorf("the second is %s, the first was %s", again, first)
	}
	n.To.Address, n.Data = mara, pier(2)
	if _, err := k.Service.Notify(t.Context(), n); !errors.Is(err, illumicode.ErrDifferent) {
		t.Errorf("other data under the key: %v", err)
	}
	if all, err := k.Service.Store().List(t.Context(), store.Filter{}, "", 10); err != nil || len(all) != 1 {
		t.Errorf("%d deliveries, %v", len(all), err)
	}
}

// An SMS that fails becomes a letter to the other address.
func TestFallback(t *testing.T) {
	gateway := outage{}
	k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) { c.Providers = append(c.Providers, gateway) })
	id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(4), To: illumicode.Request{Address: "+4790012345"}, Fallback: mara})
	ended(t, k, id, store.Failed)
	if l := k.Letter(mara, 1); l.Subject != "Moved to pier 4" {
		t.Errorf("the letter is %q", l.Subject)
	}
}

// An outage is a gateway that knows no number.
type outage struct{}

func (outage) Name() string          { return "signal" }
func (outage) Can() provider.Ability { return provider.Ability{SMS: true} }
func (outage) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.NotBegun(err)
	}
	return provider.Result{Class: retry.RecipientRefused, Reply: "no such number"}
}

// A letter that goes out once at most is held when nobody knows whether it did.
func TestAtMostOnce(t *testing.T) {
	k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) { c.Providers = []provider.Provider{silence{}} })
	id := notify(t, k, illumicode.Notice{Letter: "refund", Data: map[string]any{"amount": "12.00"}})
	if d := ended(t, k, id, store.Held); d.HeldBy != store.HeldUnsure || d.Attempts != 1 {
		t.Errorf("%+v", d)
	}
}

// Silence takes letters and never says so.
type silence struct{}

func (silence) Name() string          { return "silence" }
func (silence) Can() provider.Ability { return provider.Ability{Mail: true} }
func (silence) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.NotBegun(err)
	}
	return provider.Result{Class: retry.Ambiguous, Reply: "no answer"}
}

// Who has unsubscribed gets no more notices of that kind, and codes as ever.
func TestPreferences(t *testing.T) {
	k := illumicodetest.New(t, withPier(t))
	if err := k.Service.Prefer(t.Context(), "Mara@TERNISLE.example", "sailings", false); err != nil {
		t.Fatal(err)
	}
	id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1)})
	if d := ended(t, k, id, store.Suppressed); !strings.Contains(d.Note, "unsubscribed from sailings") {
		t.Errorf("note %q", d.Note)
	}
	begin(t, k, "a")
	if l := k.Letter(mara, 1); l.Code() == "" {
		t.Error("the code did not arrive")
	}
	if err := k.Service.Prefer(t.Context(), mara, "codes", false); err == nil {
		t.Error("a category that no letter has was taken")
	}
}

// What the guard keeps in stays in, and says so.
func TestGuard(t *testing.T) {
	caught := new(capture.Provider)
	for _, tt := range []struct {
		guard   outbox.Guard
		state   store.State
		capture provider.Provider
	}{
		{outbox.Guard{Mode: outbox.Allow, Domains: []string{"gullquay.example"}}, store.Held, nil},
		{outbox.Guard{Mode: outbox.Hold}, store.Waiting, nil},
		{outbox.Guard{Mode: outbox.Capture}, store.Sent, caught},
	} {
		k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) { c.Guard, c.Capture = tt.guard, tt.capture })
		id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1)})
		time.Sleep(60 * time.Millisecond) // three polls
		ended(t, k, id, tt.state)
		if n := len(k.Inbox.Letters("")); n != 0 {
			t.Errorf("%s: %d letters left", tt.guard.Mode, n)
		}
		if !strings.Contains(k.Log.String(), "THE GUARD IS ON "+strings.ToUpper(string(tt.guard.Mode))) {
			t.Errorf("%s: the log does not say so", tt.guard.Mode)
		}
	}
	if len(caught.Letters()) != 1 {
		t.Errorf("%d captured", len(caught.Letters()))
	}
}

// The worker of a copy of the database, for another site, sends nothing until it is adopted.
func TestCopyOfTheDatabaseHolds(t *testing.T) {
	k := illumicodetest.New(t, withPier(t))
	ended(t, k, notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1)}), store.Sent)
	other := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) {
		c.Store, c.Site.BaseURL = k.Service.Store(), "https://staging.example"
		c.Outbox.Poll = 10 * time.Millisecond
	})
	time.Sleep(50 * time.Millisecond)
	if !strings.Contains(other.Log.String(), "SENDS FOR ANOTHER SITE") {
		t.Error("the log of the copy does not say so")
	}
	ended(t, k, notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(2)}), store.Sent)
	if n := len(other.Inbox.Letters("")); n != 0 {
		t.Errorf("the copy sent %d letters", n)
	}
}

// A pause stops a letter on the way, everywhere; what it held goes on afterwards.
func TestPause(t *testing.T) {
	k := illumicodetest.New(t, withPier(t))
	for _, p := range []store.Pause{{Kind: "letter", Name: "moved"}, {Kind: "domain", Name: "ternisle.example"}, {Kind: "provider", Name: "inbox"}, {Kind: "lane", Name: "normal"}} {
		if err := k.Service.Store().Pause(t.Context(), p); err != nil {
			t.Fatal(err)
		}
		time.Sleep(60 * time.Millisecond)
		id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1)})
		if p.Kind == "lane" {
			time.Sleep(60 * time.Millisecond)
			ended(t, k, id, store.Waiting)
		} else if d := ended(t, k, id, store.Held); d.HeldBy != p.HeldBy() {
			t.Errorf("held by %q", d.HeldBy)
		}
		if _, err := k.Service.Store().Resume(t.Context(), p); err != nil {
			t.Fatal(err)
		}
		ended(t, k, id, store.Sent)
	}
}

func rules(c *illumicode.Config) {
	c.Events = []illumicode.EventRule{
		{Type: "sailing.moved", Letter: "moved", To: "/passengers", Key: "/sailing"},
		{Type: "sailing.*", Letter: "digest", Fixed: []illumicode.Request{{Address: "pier@gullquay.example"}}, Collapse: time.Hour},
	}
}

func sailing(id, data string) event.Event {
	return event.Event{Source: "/harbour", ID: id, Type: "sailing.moved", Data: []byte(data)}
}

// An event has its effect once, whole, or not at all.
func TestReceive(t *testing.T) {
	k := illumicodetest.Idle(t, withPier(t), rules)
	good := sailing("1", `{"pier": "pier 9", "sailing": "7", "passengers": ["mara@ternisle.example", {"address": "jens@ternisle.example", "name": "Jens"}]}`)
	for range 2 {
		if err := k.Service.Receive(t.Context(), good); err != nil {
			t.Fatal(err)
		}
	}
	changed := good
	changed.Data = []byte(`{"pier": "pier 8"}`)
	for name, tt := range map[string]struct {
		e    event.Event
		want string
	}{
		"other contents":          {changed, "something else"},
		"no rule":                 {event.Event{Source: "/harbour", ID: "2", Type: "tide.turned"}, "no rule"},
		"a value is missing":      {sailing("3", `{"sailing": "7", "passengers": ["mara@ternisle.example"]}`), "pier"},
		"nobody at the pointer":   {sailing("4", `{"pier": "pier 9", "sailing": "7"}`), "/passengers"},
		"a bad address among two": {sailing("5", `{"pier": "pier 9", "sailing": "7", "passengers": ["mara@ternisle.example", "nobody"]}`), "recipient 2"},
		"not an object":           {sailing("6", `[1]`), "no JSON object"},
		"no source":               {event.Event{ID: "7", Type: "sailing.moved"}, `"source" is missing`},
	} {
		if err := k.Service.Receive(t.Context(), tt.e); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q in it", name, err, tt.want)
		}
	}
	for {
		if n, err := k.Service.Store().Expand(t.Context(), func() string { return fmt.Sprint(time.Now().UnixNano()) }); err != nil || n == 0 {
			break
		}
	}
	count, err := k.Service.Store().Matching(t.Context(), store.Filter{})
	if err != nil || count[store.Waiting] != 3 {
		t.Errorf("%v, %v; want two letters and a digest of the one good event", count, err)
	}
}

// Events that other programs insert are taken once; what no rule can take is set aside.
func TestInsertedEvents(t *testing.T) {
	k := illumicodetest.New(t, withPier(t), rules)
	for i, data := range []string{`{"pier": "pier 3", "sailing": "8", "passengers": "mara@ternisle.example"}`, `{"pier": "pier 3"}`, `nonsense`} {
		if _, err := k.Service.Store().DB().Exec("INSERT INTO illumicode_event (source, id, type, data) VALUES ('/quay', ?, 'sailing.moved', ?)", fmt.Sprint(i), data); err != nil {
			t.Fatal(err)
		}
	}
	if l := k.Letter(mara, 1); l.Subject != "Moved to pier 3" {
		t.Errorf("%q", l.Subject)
	}
	var aside []store.Event
	for deadline := time.Now().Add(10 * time.Second); len(aside) < 2 && time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		var err error
		if aside, err = k.Service.Store().Aside(t.Context(), 10); err != nil {
			t.Fatal(err)
		}
	}
	if len(aside) != 2 || !strings.Contains(aside[0].Reason, "/sailing") || !strings.Contains(aside[1].Reason, "JSON object") {
		t.Errorf("set aside: %+v", aside)
	}
}

// Times that cannot be kept are refused, and leave nothing.
func TestNoticeTimes(t *testing.T) {
	k := illumicodetest.Idle(t, withPier(t))
	now := k.Clock.Now()
	for name, n := range map[string]illumicode.Notice{
		"past":                   {At: now.Add(-time.Hour)},
		"before it is due":       {At: now.Add(2 * time.Hour), DeliverBefore: now.Add(time.Hour)},
		"reminder without lead":  {Remind: illumicode.Reminder{Of: now.Add(time.Hour)}},
		"reminder of the past":   {Remind: illumicode.Reminder{Of: now.Add(-time.Hour), Before: time.Hour}},
		"reminder and time":      {At: now.Add(time.Hour), Remind: illumicode.Reminder{Of: now.Add(time.Hour), Before: time.Minute}},
		"collapse without while": {Collapse: illumicode.Collapse{Key: "x"}},
		"fallback that cannot":   {Fallback: "+4790012345"},
		"two megabytes":          {Data: map[string]any{"pier": strings.Repeat("x", 2<<20)}},
	} {
		n.Letter, n.To.Address = "moved", mara
		if n.Data == nil {
			n.Data = pier(1)
		}
		if _, err := k.Service.Notify(t.Context(), n); err == nil {
			t.Errorf("%s was taken", name)
		}
	}
	for name, to := range map[string]iter.Seq2[illumicode.Recipient, error]{
		"nobody":      func(func(illumicode.Recipient, error) bool) {},
		"bad address": people(250, "nobody"),
	} {
		_, err := k.Service.NotifyAll(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1)}, to)
		if err == nil || name == "bad address" && (!errors.Is(err, message.ErrAddress) || !strings.Contains(err.Error(), "recipient 251")) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if left, err := k.Service.Store().Left(t.Context()); err != nil || left {
		t.Errorf("something was left behind: %v, %v", left, err)
	}
}

// people yields n good addresses, and then the others.
func people(n int, others ...string) iter.Seq2[illumicode.Recipient, error] {
	return func(yield func(illumicode.Recipient, error) bool) {
		for i := range n {
			if !yield(illumicode.Recipient{Request: illumicode.Request{Address: fmt.Sprintf("p%d@ternisle.example", i)}}, nil) {
				return
			}
		}
		for _, o := range others {
			if !yield(illumicode.Recipient{Request: illumicode.Request{Address: o}}, nil) {
				return
			}
		}
	}
}

// onPostgres gives a service a database of its own on a PostgreSQL server.
func onPostgres(tb testing.TB, conn string) func(*illumicode.Config) {
	tb.Helper()
	st, err := postgres.Open(tb.Context(), conn, postgres.Options{})
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { st.Close() })
	if _, err := st.Migrate(tb.Context(), time.Now()); err != nil {
		tb.Fatal(err)
	}
	return func(c *illumicode.Config) { c.Store, c.Outbox.Poll = st, time.Hour }
}

// On PostgreSQL: a signup, a notice in a transaction of pgx, a list. The worker never polls: it is
// woken, by its own process and by another.
func TestOnPostgres(t *testing.T) {
	conn := pgtest.Fresh(t)
	worker := illumicodetest.New(t, withPier(t), onPostgres(t, conn))
	pending := begin(t, worker, "a")
	if err := worker.Service.ConfirmCode(t.Context(), pending.Ticket, worker.Letter(mara, 1).Code(), nil); err != nil || !confirmed(t, worker, "a") {
		t.Fatalf("ConfirmCode = %v", err)
	}
	web := illumicodetest.Idle(t, withPier(t), onPostgres(t, conn))
	db, err := pgx.Connect(t.Context(), conn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	for _, commit := range []bool{false, true} {
		tx, err := db.Begin(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		n := illumicode.Notice{Letter: "moved", Data: map[string]any{"pier": fmt.Sprint("committed ", commit)}, To: illumicode.Request{Address: mara}}
		if _, err := web.Service.On(postgres.In(web.Service.Store(), tx)).Notify(t.Context(), n); err != nil {
			t.Fatal(err)
		}
		if commit {
			err = tx.Commit(t.Context())
		} else {
			err = tx.Rollback(t.Context())
		}
		if err != nil {
			t.Fatal(err)
		}
		web.Service.Wake()
	}
	if l := worker.Letter(mara, 2); l.Subject != "Moved to committed true" {
		t.Errorf("%q", l.Subject)
	}
	if n, err := web.Service.NotifyAll(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1)}, people(450)); err != nil || n != 450 {
		t.Fatalf("NotifyAll = %d, %v", n, err)
	}
	worker.Letter("p449@ternisle.example", 1)
}

// Two machines whose clocks differ by ten minutes agree on every instant: neither takes the other
// for dead, and nothing is sent before it is due or twice.
func TestClocksThatDiffer(t *testing.T) {
	conn := pgtest.Fresh(t)
	way := new(capture.Provider)
	var kits []*illumicodetest.Kit
	for _, skew := range []time.Duration{-10 * time.Minute, 10 * time.Minute} {
		kits = append(kits, illumicodetest.New(t, withPier(t), onPostgres(t, conn), func(c *illumicode.Config) {
			c.Now = func() time.Time { return time.Now().Add(skew) }
			c.Providers, c.Outbox.Poll, c.Outbox.Lease = []provider.Provider{way}, 20*time.Millisecond, 300*time.Millisecond
			c.Outbox.Senders = 2
		}))
	}
	for _, k := range kits {
		if off := time.Until(k.Service.Now()).Abs(); off > 2*time.Second {
			t.Errorf("the service's clock is %v off", off)
		}
	}
	late := notify(t, kits[0], illumicode.Notice{Letter: "moved", Data: pier(2), At: kits[0].Service.Now().Add(5 * time.Minute), To: illumicode.Request{Address: "late@ternisle.example"}})
	if _, err := kits[1].Service.NotifyAll(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1)}, people(300)); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(30 * time.Second); len(way.Letters()) < 300 && time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
	}
	time.Sleep(400 * time.Millisecond) // longer than a lease
	if n := len(way.Letters()); n != 300 {
		t.Errorf("%d letters went out, want 300", n)
	}
	ended(t, kits[1], late, store.Waiting)
	sum, err := kits[0].Service.Store().Summary(t.Context(), kits[0].Service.Now())
	if err != nil || sum.Repeats != 0 {
		t.Errorf("%d repeats, %v", sum.Repeats, err)
	}
}

// The one link wins once, whoever presses it from wherever, on PostgreSQL too.
func TestOneLinkManyCallersOnPostgres(t *testing.T) {
	k := illumicodetest.New(t, onPostgres(t, pgtest.Fresh(t)))
	begin(t, k, "a")
	tok := k.Token(k.Letter(mara, 1))
	var mu sync.Mutex
	won, used := 0, 0
	var all sync.WaitGroup
	for range 40 {
		all.Go(func() {
			err := k.Service.Confirm(t.Context(), tok, nil)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				won++
			case errors.Is(err, illumicode.ErrUsed):
				used++
			default:
				t.Error(err)
			}
		})
	}
	all.Wait()
	if won != 1 || used != 39 {
		t.Errorf("%d won, %d were told that it was used", won, used)
	}
}

// A worker that does not know a letter leaves it to one that does, and says so: a rolling deploy
// loses nothing.
func TestUnknownLetterIsLeft(t *testing.T) {
	k := illumicodetest.New(t) // the default letters only
	d := store.Delivery{ID: "01a2083e-0000-7000-8000-000000000001", Letter: "moved", Locale: "en", Address: mara, Data: `{"pier": "pier 1"}`,
		Lane: store.Normal, Created: k.Clock.Now(), Due: k.Clock.Now()}
	newer := d
	newer.ID, newer.Letter, newer.Version = "01a2083e-0000-7000-8000-000000000002", "trial", store.Version+1
	err := k.Service.Store().Write(t.Context(), func(tx store.Tx) error {
		return errors.Join(tx.InsertDelivery(t.Context(), d), tx.InsertDelivery(t.Context(), newer))
	})
	if err != nil {
		t.Fatal(err)
	}
	k.Service.Wake()
	for deadline := time.Now().Add(10 * time.Second); !strings.Contains(k.Log.String(), "left to a newer worker") && time.Now().Before(deadline); {
		time.Sleep(5 * time.Millisecond)
	}
	for _, id := range []string{d.ID, newer.ID} {
		if got := ended(t, k, id, store.Waiting); got.Attempts != 0 {
			t.Errorf("%+v", got)
		}
	}
	knows := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) { c.Store = k.Service.Store() })
	knows.Clock.Move(time.Minute)
	knows.Service.Wake()
	ended(t, k, d.ID, store.Sent)
}

// What an operator is shown of a letter has its secrets masked.
func TestPreviewIsMasked(t *testing.T) {
	k := illumicodetest.Idle(t, withPier(t))
	begin(t, k, "a")
	confirm, err := k.Service.Store().List(t.Context(), store.Filter{}, "", 1)
	if err != nil || len(confirm) != 1 {
		t.Fatal(err)
	}
	p, err := k.Service.Preview(t.Context(), confirm[0])
	if err != nil || !strings.Contains(p.Text, "••• •••") || !strings.Contains(p.Text, "?t=") || strings.Contains(p.Text, "eyJ") || strings.Contains(p.HTML, "eyJ") || p.Subject == "" {
		t.Errorf("%+v, %v", p, err)
	}
	id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(6)})
	d, err := k.Service.Store().Delivery(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	if p, err := k.Service.Preview(t.Context(), d); err != nil || p.Subject != "Moved to pier 6" {
		t.Errorf("%+v, %v", p, err)
	}
}

// Rules that could never work are refused at start, by their place.
func TestRulesAreChecked(t *testing.T) {
	good := illumicode.EventRule{Type: "x", Letter: "moved", To: "/who"}
	for want, change := range map[string]func(*illumicode.EventRule){
		"has no type":        func(r *illumicode.EventRule) { r.Type = "" },
		"and has 0":          func(r *illumicode.EventRule) { r.To = "" },
		"and has 2":          func(r *illumicode.EventRule) { r.Fixed = []illumicode.Request{{Address: mara}} },
		"which there is not": func(r *illumicode.EventRule) { r.Letter = "sunk" },
		"carries a proof":    func(r *illumicode.EventRule) { r.Letter = "confirm" },
		"is no pointer":      func(r *illumicode.EventRule) { r.Key = "sailing" },
		"Before go together": func(r *illumicode.EventRule) { r.Remind = "/departs" },
		"a reminder cannot":  func(r *illumicode.EventRule) { r.Remind, r.Before, r.Collapse = "/departs", time.Hour, time.Hour },
		"address":            func(r *illumicode.EventRule) { r.To, r.Fixed = "", []illumicode.Request{{Address: "nobody"}} },
	} {
		r := good
		change(&r)
		k := illumicodetest.Idle(t, withPier(t))
		_, err := illumicode.New(illumicode.Config{Store: k.Service.Store(), Keys: keyring(t), From: address(t, "crew@ternisle.example"), Providers: []provider.Provider{k.Way},
			Site: illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"}, Letters: pierSet(t), Events: []illumicode.EventRule{good, r}})
		if err == nil || !strings.Contains(err.Error(), "Events[1]") || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q in it", err, want)
		}
	}
	for want, g := range map[string]outbox.Guard{"say live, allow": {Mode: "loud"}, "no domain": {Mode: outbox.Allow}, "goes with allow": {Domains: []string{"x.example"}}} {
		if _, err := g.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("guard %+v: %v, want %q", g, err, want)
		}
	}
}

func pierSet(tb testing.TB) *letter.Set {
	tb.Helper()
	var c illumicode.Config
	withPier(tb)(&c)
	return c.Letters
}

func keyring(tb testing.TB) *token.Keyring {
	tb.Helper()
	ring, err := token.NewKeyring(token.GenerateKey(time.Now()))
	if err != nil {
		tb.Fatal(err)
	}
	return ring
}

func address(tb testing.TB, s string) message.Address {
	tb.Helper()
	a, err := message.ParseAddress(s)
	if err != nil {
		tb.Fatal(err)
	}
	return a
}

// The printed roles are enough for each kind of process, and no more: the one that confirms cannot
// touch attempts, the one that reports events cannot even read.
func TestLeastPrivilege(t *testing.T) {
	conn := pgtest.Fresh(t)
	owner := illumicodetest.Idle(t, withPier(t), onPostgres(t, conn))
	if _, err := owner.Service.Store().DB().Exec(postgres.Roles); err != nil {
		t.Fatal(err)
	}
	as := func(role string) func(*illumicode.Config) {
		st, err := postgres.Open(t.Context(), conn+" options='-c role="+role+"'", postgres.Options{})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { st.Close() })
		return func(c *illumicode.Config) { c.Store = st; rules(c) }
	}
	worker := illumicodetest.New(t, withPier(t), as("illumicode_worker"))
	web := illumicodetest.Idle(t, withPier(t), as("illumicode_web"), func(c *illumicode.Config) { c.Keys = keyring(t) })
	if _, err := web.Service.NotifyAll(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1), Key: "k"}, people(120, mara)); err != nil {
		t.Fatal(err)
	}
	worker.Letter(mara, 1)
	for _, step := range []func() error{
		func() error { _, err := web.Service.Cancel(t.Context(), "k"); return err },
		func() error { return web.Service.Prefer(t.Context(), mara, "sailings", true) },
		func() error {
			_, err := web.Service.Signup(t.Context(), illumicode.Request{Address: "jens@ternisle.example"}, illumicode.Subject("j"))
			return err
		},
	} {
		if err := step(); err != nil {
			t.Error(err)
		}
	}
	db := owner.Service.Store().DB()
	event := "INSERT INTO illumicode_event (source, id, type, data) VALUES ('/quay', '1', 'sailing.moved', '{\"pier\": \"pier 3\", \"sailing\": \"8\", \"passengers\": \"ida@ternisle.example\"}')"
	for statement, allowed := range map[string]bool{
		"SET ROLE illumicode_events; " + event:                                             true,
		"SET ROLE illumicode_events; SELECT COUNT(*) FROM illumicode_event":                false,
		"SET ROLE illumicode_events; SELECT COUNT(*) FROM illumicode_delivery":             false,
		"SET ROLE illumicode_web; UPDATE illumicode_attempt SET class = 'accepted'":        false,
		"SET ROLE illumicode_web; INSERT INTO illumicode_pause VALUES ('lane','x',0,'')":   false,
		"SET ROLE illumicode_worker; UPDATE illumicode_address SET standing = 'confirmed'": false,
		"SET ROLE illumicode_worker; INSERT INTO illumicode_holder VALUES ('x', 'y', 0)":   false,
	} {
		c, err := db.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		_, err = c.ExecContext(t.Context(), statement)
		if (err == nil) != allowed {
			t.Errorf("%s: %v", statement, err)
		}
		c.ExecContext(t.Context(), "RESET ROLE")
		c.Close()
	}
	worker.Letter("ida@ternisle.example", 1)
}
