package illumicode_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/letter"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// pierLetters are a service's own: each says what it is given.
var pierLetters = fstest.MapFS{
	"en.toml": {Data: []byte(`
[letter.moved]
subject = "Moved to {{.pier}}"
main = "Go to {{.pier}}."
sms = "Go to {{.pier}}."
[letter.digest]
subject = "{{.count}} changes"
[letter.refund]
subject = "Your refund"
main = "It is {{.amount}}."
[letter.failed]
subject = "A letter has failed"
main = "{{.letter}} to {{.address}} ({{.delivery}}, {{.key}}): {{.reason}}"
`)},
	"digest.txt":   {Data: []byte("{{range .items}}{{.pier}}; {{end}}")},
	"letters.toml": {Data: []byte("[moved]\ncategory = \"sailings\"\n[refund]\nat_most_once = true\n")},
}

// withPier gives a service the letters of the pier.
func withPier(tb testing.TB) func(*illumicode.Config) {
	tb.Helper()
	set, err := pierLettersOnce()
	if err != nil {
		tb.Fatal(err)
	}
	return func(c *illumicode.Config) { c.Letters = set }
}

var pierLettersOnce = sync.OnceValues(func() (*letter.Set, error) { return letters.Load(pierLetters, "en") })

func pier(n int) map[string]any { return map[string]any{"pier": fmt.Sprintf("pier %d", n)} }

// ended waits until a delivery has the state, and returns it.
func ended(tb testing.TB, k *illumicodetest.Kit, id string, want store.State) store.Delivery {
	tb.Helper()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(2 * time.Millisecond) {
		d, err := flow.Of(k.Service).Store.Delivery(tb.Context(), id)
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
	if n.To.Address == "" && n.To.Subject == "" {
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
		return notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1), Key: "sailing 7",
			Remind: illumicode.Reminder{Of: of, Before: 2 * time.Hour}})
	}
	first := remind(sails)
	if n, err := inTxCount(t, k, func(tx illumicode.Tx) (int64, error) {
		return tx.Move(t.Context(), "sailing 7", sails.Add(3*time.Hour))
	}); err != nil || n != 1 {
		t.Fatalf("moved %d, %v", n, err)
	}
	k.Clock.Move(4 * time.Hour) // past the first moment's reminder, before the second's
	time.Sleep(100 * time.Millisecond)
	if d, err := flow.Of(k.Service).Store.Delivery(t.Context(), first); err != nil || d.State != store.Waiting {
		t.Fatalf("after the sailing was moved: %+v, %v", d, err)
	}
	k.Clock.Move(2*time.Hour + time.Second)
	ended(t, k, first, store.Sent)
	second := remind(k.Clock.Now().Add(5 * time.Hour))
	if n, err := inTxCount(t, k, func(tx illumicode.Tx) (int64, error) {
		return tx.Cancel(t.Context(), "sailing 7")
	}); err != nil || n != 1 {
		t.Errorf("cancelled %d, %v", n, err)
	}
	ended(t, k, second, store.Cancelled)
}

// Many notices in a while are one letter, and each is told in it.

func TestCollapse(t *testing.T) {
	k := illumicodetest.New(t, withPier(t))
	var ids []string
	for i := range 3 {
		ids = append(ids,
			notify(t, k, illumicode.Notice{Letter: "digest", Data: pier(i), Gather: illumicode.Gather{
				Topic: "day", For: time.Hour}}))
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
	if next := notify(t, k,
		illumicode.Notice{Letter: "digest", Data: pier(3),
			Gather: illumicode.Gather{Topic: "day", For: time.Hour}}); next == ids[0] {
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
	n.Data = pier(1)
	for name, change := range map[string]func(*illumicode.Notice){
		"name":       func(n *illumicode.Notice) { n.To.Name = "Mara" },
		"locale":     func(n *illumicode.Notice) { n.To.Locale = "nb" },
		"zone":       func(n *illumicode.Notice) { n.To.Zone = "Europe/Oslo" },
		"hold":       func(n *illumicode.Notice) { n.Hold = true },
		"gather":     func(n *illumicode.Notice) { n.Gather = illumicode.Gather{Topic: "day", For: time.Hour} },
		"attachment": func(n *illumicode.Notice) { n.Attachments = ticket() },
		"reminder": func(n *illumicode.Notice) {
			n.Remind = illumicode.Reminder{Of: k.Clock.Now().Add(9 * time.Hour), Before: time.Hour}
		},
	} {
		other := n
		change(&other)
		if _, err := k.Service.Notify(t.Context(), other); !errors.Is(err, illumicode.ErrDifferent) {
			t.Errorf("another %s under the key: %v", name, err)
		}
	}
	n.At = k.Clock.Now().Add(time.Minute)
	if again := notify(t, k, n); again != first {
		t.Errorf("asked for at another time it is %s, the first was %s", again, first)
	}
	if all, err := flow.Of(k.Service).Store.List(t.Context(), store.Filter{}, "", 10); err != nil || len(all) != 1 {
		t.Errorf("%d deliveries, %v", len(all), err)
	}
	moment := k.Clock.Now().Add(9 * time.Hour)
	n = illumicode.Notice{Letter: "moved", Data: pier(1), Once: "order 8"}
	n.Remind = illumicode.Reminder{Of: moment.UTC(), Before: time.Hour}
	first = notify(t, k, n)
	n.Remind.Of = moment.In(time.FixedZone("ferry", 2*3600)) // the same moment
	if again := notify(t, k, n); again != first {
		t.Errorf("in another zone it is %s, the first was %s", again, first)
	}
}

func ticket() []message.Attachment {
	return []message.Attachment{{Name: "8215.txt", Type: "text/plain", Body: strings.NewReader("pier 4")}}
}

// Who is in a list twice gets one letter where both say the same, and so does who gets a copy besides.
func TestListedTwice(t *testing.T) {
	k := illumicodetest.Idle(t, withPier(t))
	people := []illumicode.Recipient{{Request: illumicode.Request{Address: mara}},
		{Request: illumicode.Request{Address: "ole@skerry.example"}}, {Request: illumicode.Request{Address: mara}},
		{Request: illumicode.Request{Address: mara}, Data: pier(9)}}
	count, err := k.Service.NotifyAll(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1)},
		func(yield func(illumicode.Recipient, error) bool) {
			for _, one := range people {
				if !yield(one, nil) {
					return
				}
			}
		})
	if err != nil || count != 3 {
		t.Errorf("%d letters, %v, want 3", count, err)
	}
	if logged := k.Logged(); !strings.Contains(logged, "left_out=1") {
		t.Errorf("the log says\n%s", logged)
	}
	ids, err := k.Service.Notify(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1),
		To: illumicode.Request{Address: mara}, Bcc: []string{"crew@ternisle.example", mara}})
	if err != nil || len(ids) != 2 {
		t.Errorf("%d letters, %v, want one to her and one to the crew", len(ids), err)
	}
}

// An SMS that fails becomes a letter to the other address.

func TestFallback(t *testing.T) {
	gateway := outage{}
	k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) { c.Providers = append(c.Providers, gateway) })
	id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(4), To: illumicode.Request{Address: "+4790012345"},
		Fallback: mara})
	ended(t, k, id, store.Failed)
	if l := k.Letter(mara, 1); l.Subject != "Moved to pier 4" {
		t.Errorf("the letter is %q", l.Subject)
	}
}

// An outage is a gateway that knows no number.
type outage struct{}

func (outage) Name() string { return "foghorn" }

func (outage) Can() provider.Ability { return provider.Ability{SMS: true} }

func (outage) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	return provider.Result{Class: retry.RecipientRefused, Reply: "no such number"}
}

// A letter that goes out once at most is held when nobody knows whether it did.

// Silence takes letters and never says so.

func (silence) Name() string { return "silence" }

func (silence) Can() provider.Ability { return provider.Ability{Mail: true} }

func (silence) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	return provider.Result{Class: retry.Ambiguous, Reply: "no answer"}
}

// Who has unsubscribed gets no more notices of that kind, and codes as ever.

func TestPreferences(t *testing.T) {
	k := illumicodetest.New(t, withPier(t))
	if err := k.Service.Prefer(t.Context(), illumicode.Preference{Address: "Mara@TERNISLE.example",
		Category: "sailings", Wanted: false}); err != nil {
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
	if err := k.Service.Prefer(t.Context(), illumicode.Preference{Address: mara, Category: "codes",
		Wanted: false}); err == nil {
		t.Error("a category that no letter has was taken")
	}
}

// What the guard keeps in stays in, and says so.

// The worker of a copy of the database, for another site, sends nothing until it is adopted.

// A pause stops a letter on the way, everywhere; what it held goes on afterwards.

// An event has its effect once, whole, or not at all.

// Events that other programs insert are taken once; what no rule can take is set aside.

// Times that cannot be kept are refused, and leave nothing.

func TestNoticeTimes(t *testing.T) {
	k := illumicodetest.Idle(t, withPier(t))
	now := k.Clock.Now()
	for name, n := range map[string]illumicode.Notice{
		"past":                  {At: now.Add(-time.Hour)},
		"before it is due":      {At: now.Add(2 * time.Hour), DeliverBefore: now.Add(time.Hour)},
		"reminder without lead": {Remind: illumicode.Reminder{Of: now.Add(time.Hour)}},
		"reminder of the past":  {Remind: illumicode.Reminder{Of: now.Add(-time.Hour), Before: time.Hour}},
		"reminder and time": {
			At: now.Add(time.Hour), Remind: illumicode.Reminder{Of: now.Add(time.Hour), Before: time.Minute}},
		"collapse without while": {Gather: illumicode.Gather{Topic: "x"}},
		"fallback that cannot":   {Fallback: "+4790012345"},
		"collapse and fallback": {Gather: illumicode.Gather{Topic: "x", For: time.Hour},
			Fallback: "jens@ternisle.example"},
		"copies and fallback": {Cc: []string{"ida@ternisle.example"}, Fallback: "jens@ternisle.example"},
		"an item that does not fit": {Letter: "digest", Data: map[string]any{"quay": 1},
			Gather: illumicode.Gather{Topic: "x", For: time.Hour}},
		"two megabytes": {Data: map[string]any{"pier": strings.Repeat("x", 2<<20)}},
	} {
		if n.To.Address = mara; n.Letter == "" {
			n.Letter = "moved"
		}
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
		if err == nil || name == "bad address" &&
			(!errors.Is(err, message.ErrAddress) || !strings.Contains(err.Error(), "recipient 251")) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if left, err := flow.Of(k.Service).Store.Left(t.Context(), k.Clock.Now()); err != nil || left {
		t.Errorf("something was left behind: %v, %v", left, err)
	}
}

// people yields n good addresses, and then the others.

// Of many, each gets their own data, or what all share and nobody else's; and each way of writing the
// letter is tried, not that of the first alone.

func TestListData(t *testing.T) {
	files := maps.Clone(pierLetters)
	files["de.toml"] = &fstest.MapFile{
		Data: []byte("[letter.moved]\nsubject = \"Statt {{.was}} nun {{.pier}}\"\nmain = \"Nun {{.pier}}.\"\n")}
	set, err := letters.Load(files, "en")
	if err != nil {
		t.Fatal(err)
	}
	k := illumicodetest.New(t, func(c *illumicode.Config) { c.Letters = set })
	list := func(all ...illumicode.Recipient) error {
		_, err := k.Service.NotifyAll(t.Context(),
			illumicode.Notice{Letter: "moved", Data: pier(1), ReplyTo: "harbour@ternisle.example"},
			func(yield func(illumicode.Recipient, error) bool) {
				for _, r := range all {
					if !yield(r, nil) {
						return
					}
				}
			})
		return err
	}
	to := func(address, locale string, data any) illumicode.Recipient {
		return illumicode.Recipient{Request: illumicode.Request{Address: address, Locale: locale}, Data: data}
	}
	for name, second := range map[string]illumicode.Recipient{
		"own data that do not fit": to("jens@ternisle.example", "en", map[string]any{"quay": 1}),
		"shared data, in German":   to("jens@ternisle.example", "de", nil),
	} {
		if err := list(to(mara, "en", nil), second); !errors.Is(err, render.ErrMissing) ||
			!strings.Contains(err.Error(), "recipient 2") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := list(to(mara, "en", pier(7)), to("jens@ternisle.example", "en", nil)); err != nil {
		t.Fatal(err)
	}
	for address, subject := range map[string]string{
		mara: "Moved to pier 7", "jens@ternisle.example": "Moved to pier 1"} {
		if l := k.Letter(address, 1); l.Subject != subject {
			t.Errorf("%s got %q, want %q", address, l.Subject, subject)
		}
	}
}

func people(n int, others ...string) iter.Seq2[illumicode.Recipient, error] {
	return func(yield func(illumicode.Recipient, error) bool) {
		for i := range n {
			if !yield(illumicode.Recipient{
				Request: illumicode.Request{Address: fmt.Sprintf("p%d@ternisle.example", i)}}, nil) {
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

// On PostgreSQL: a signup, a notice in a transaction of pgx, a list. The worker never polls: it is

// woken, by its own process and by another.

// Two machines whose clocks differ by ten minutes agree on every instant: neither takes the other

// for dead, and nothing is sent before it is due or twice.

// The one link wins once, whoever presses it from wherever, on PostgreSQL too.

// A worker that does not know a letter leaves it to one that does, and says so: a rolling deploy

// loses nothing.

// What an operator is shown of a letter has its secrets masked.

func TestPreviewIsMasked(t *testing.T) {
	k := illumicodetest.Idle(t, withPier(t))
	begin(t, k, "a")
	confirm, err := flow.Of(k.Service).Store.List(t.Context(), store.Filter{}, "", 1)
	if err != nil || len(confirm) != 1 {
		t.Fatal(err)
	}
	p, err := desk.New(k.Service).Preview(t.Context(), confirm[0].ID)
	if err != nil || !strings.Contains(p.Text, "••• •••") || !strings.Contains(p.Text, "?t=") ||
		strings.Contains(p.Text, "eyJ") || strings.Contains(p.HTML, "eyJ") || p.Subject == "" {
		t.Errorf("%+v, %v", p, err)
	}
	id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(6)})
	d, err := flow.Of(k.Service).Store.Delivery(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	if p, err := desk.New(k.Service).Preview(t.Context(), d.ID); err != nil || p.Subject != "Moved to pier 6" {
		t.Errorf("%+v, %v", p, err)
	}
}

// Rules that could never work are refused at start, by their place.

// The printed roles are enough for each kind of process, and no more: the one that confirms cannot

// touch attempts, the one that reports events cannot even read.
