package main

import (
	"database/sql"
	"encoding/csv"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/retry"
)

// A wrong notice to 60 people is stopped half-way: paused, its list exported, the rest cancelled,
// one that failed tried again; every verb says what it did, and asks before it does much.
func TestOperator(t *testing.T) {
	p := newPlace(t)
	p.fill(60)
	if out := p.must("outbox", "pause", "letter", "trial", "--why", "wrong pier"); !strings.Contains(out,
		"Paused letter trial") {
		t.Error(out)
	}
	p.must("deliver", "--until-empty") // holds them all
	if out := p.must("outbox", "list", "--most", "2"); !strings.Contains(out, "PAUSED: letter trial") ||
		!strings.Contains(out, ": wrong pier.\n  Continue with") ||
		!strings.Contains(out, "60 held") || !strings.Contains(out, "--before") {
		t.Error(out)
	}
	if _, errOut, code := p.do("outbox", "cancel", "--letter", "trial"); code != exitMisused ||
		!strings.Contains(errOut, "60 deliveries would be cancelled. Say --yes") {
		t.Errorf("without a person to ask: exit %d\n%s", code, errOut)
	}
	if out := p.must("outbox", "cancel", "--to", address(7), "--yes"); !strings.Contains(out, "1 cancelled.") {
		t.Error(out)
	}
	if out := p.must("outbox", "resume", "letter", "trial"); !strings.Contains(out,
		"59 deliveries that it held go on") {
		t.Error(out)
	}
	if _, errOut, code := p.do("outbox", "resume", "letter", "trial"); code != exitFailed ||
		!strings.Contains(errOut, "is not paused") {
		t.Errorf("exit %d: %s", code, errOut)
	}
	p.must("deliver", "--until-empty")
	rows, err := csv.NewReader(
		strings.NewReader(p.must("outbox", "export", "--state", "sent", "--provider", "harbour"))).ReadAll()
	if err != nil || len(rows) != 60 || rows[0][5] != "address" {
		t.Errorf("%d rows, %v", len(rows), err)
	}
	if n, _ := p.arrived(60); n != 59 {
		t.Errorf("%d arrived, want all but the cancelled one", n)
	}
	if lines := strings.Count(p.must("outbox", "export", "--json", "--state", "cancelled"), "\n"); lines != 1 {
		t.Errorf("%d cancelled", lines)
	}
	p.must("outbox", "pause", "lane", "normal")
	for kind, has := range map[string]string{"letter": "trial", "provider": "harbour"} {
		if _, errOut, code := p.do("outbox", "pause", kind, "trail"); code != exitDone ||
			!strings.Contains(errOut, "has no "+kind+` "trail". It has `) || !strings.Contains(errOut, has) {
			t.Errorf("exit %d: %s", code, errOut)
		}
		p.must("outbox", "resume", kind, "trail")
	}
	if _, errOut, code := p.do("notify", "--to", "late@ternisle.example"); code != exitFailed ||
		!strings.Contains(errOut, "lane normal is paused, so the letter waits") {
		t.Errorf("a letter by hand in a paused lane: exit %d, %s", code, errOut)
	}
	_, id, _ := strings.Cut(p.must("outbox", "list", "--to", "late@ternisle.example"), "…")
	if out := p.must("outbox", "show", id[:8]); !strings.Contains(out,
		"nothing, until `illumicode outbox resume lane normal`") {
		t.Error(out)
	}
	p.must("outbox", "resume", "lane", "normal")
	for _, bad := range [][]string{{"outbox", "cancel"}, {"outbox", "cancel", "x", "--lane", "bulk"},
		{"outbox", "list", "--state", "lost"}, {"outbox", "pause", "ship", "x"},
		{"outbox", "pause", "lane", "slow"}, {"outbox", "export", "--format", "xml"}} {
		if _, errOut, code := p.do(bad...); code != exitMisused {
			t.Errorf("%v: exit %d\n%s", bad, code, errOut)
		}
	}
}

// A delivery that failed is tried again by hand; show tells its story and how it looks.
func TestRetryAndShow(t *testing.T) {
	p := newPlace(t)
	p.change(`base = "20ms"`, "base = \"20ms\"\nattempts = 1")
	p.change("name = \"harbour\"", "name = \"harbour\"\nsenders = [\"ternisle.example\"]")
	p.change("user = \"crew\"", "user = \"nobody\"\ncommand = \"1s\"")
	p.change(fmt.Sprintf("port = %s", p.port()), "port = 1")
	p.fill(1)
	p.must("deliver", "--until-empty")
	id := strings.Split(strings.Split(p.must("outbox", "export"), "\n")[1], ",")[0]
	out := p.must("outbox", "show", id[28:])
	for _, want := range []string{"failed", "asked for by", "attempt 1 through harbour", "outbox retry", "Subject: ",
		"Tern Isle Ferry"} {
		if !strings.Contains(out, want) {
			t.Errorf("show does not say %q:\n%s", want, out)
		}
	}
	p.change("port = 1", fmt.Sprintf("port = %s", p.port()))
	p.with(func(svc *illumicode.Service) {
		const unknown = "UPDATE illumicode_ended SET state = 'unknown'"
		if _, err := svc.Store().DB().ExecContext(t.Context(), unknown); err != nil {
			t.Fatal(err)
		}
	})
	if out := p.must("outbox", "retry", "--state", "unknown", "--yes"); !strings.Contains(out, "0 tried again") {
		t.Error(out)
	}
	if _, errOut, code := p.do("outbox", "retry", id); code != exitFailed ||
		!strings.Contains(errOut, "may have been sent") || !strings.Contains(errOut, "--perhaps-sent") {
		t.Errorf("exit %d: %s", code, errOut)
	}
	if out := p.must("outbox", "retry", id, "--perhaps-sent"); !strings.Contains(out, "1 tried again") {
		t.Error(out)
	}
	p.must("deliver", "--until-empty")
	if out := p.must("outbox", "show", id); !strings.Contains(out, "attempt 2 through harbour") ||
		!strings.Contains(out, "erased when it ended") {
		t.Error(out)
	}
	if _, errOut, code := p.do("outbox", "cancel", id); code != exitFailed ||
		!strings.Contains(errOut, "is sent; only what is waiting, held or claimed can be cancelled") {
		t.Errorf("exit %d: %s", code, errOut)
	}
}

// A copy of the database on another site sends nothing until it is adopted.
func TestAdopt(t *testing.T) {
	p := newPlace(t)
	p.fill(1)
	p.must("deliver", "--until-empty")
	p.change("https://ferry.example", "https://staging.example")
	if _, errOut, code := p.do("notify", "--to", address(2)); code != exitFailed ||
		!strings.Contains(errOut, "guard holds everything") || !strings.Contains(errOut, "outbox adopt") {
		t.Errorf("exit %d: %s", code, errOut)
	}
	if out := p.must("outbox", "list"); !strings.Contains(out,
		"SENDS FOR ANOTHER SITE, https://ferry.example, so nothing is sent for https://staging.example") {
		t.Error(out)
	}
	if out := p.must("outbox", "adopt", "--yes"); !strings.Contains(out, "sends for https://staging.example now") {
		t.Error(out)
	}
	p.must("deliver", "--until-empty")
	if n, _ := p.arrived(5); n != 2 {
		t.Errorf("%d arrived", n)
	}
}

// A copy of the file sends nothing, also for the same site, until it is adopted. A backup that is put in its place is
// none.
func TestCopyOfTheFile(t *testing.T) {
	p := newPlace(t)
	p.fill(1)
	p.must("deliver", "--until-empty")
	raw, err := os.ReadFile(p.file("outbox.db"))
	if err != nil {
		t.Fatal(err)
	}
	p.write("copy.db", string(raw))
	p.change("outbox.db", "copy.db")
	if _, errOut, code := p.do("notify", "--to", address(2)); code != exitFailed ||
		!strings.Contains(errOut, "THIS DATABASE IS A COPY") {
		t.Errorf("exit %d: %s", code, errOut)
	}
	if out := p.must("outbox", "list"); !strings.Contains(out, "THIS DATABASE LOOKS LIKE A COPY") {
		t.Error(out)
	}
	if n, _ := p.arrived(5); n != 1 {
		t.Errorf("%d arrived", n)
	}
	p.must("outbox", "adopt", "--yes")
	p.must("deliver", "--until-empty")
	if n, _ := p.arrived(5); n != 2 {
		t.Errorf("%d arrived after it was adopted", n)
	}
	p.write("backup.db", string(raw))
	if err := os.Rename(p.file("backup.db"), p.file("outbox.db")); err != nil {
		t.Fatal(err)
	}
	p.change("copy.db", "outbox.db")
	p.must("notify", "--to", address(3))
}

// Events come from a file or from other programs' rows; what no rule takes is shown with the reason.
func TestEvents(t *testing.T) {
	p := newPlace(t)
	p.change("[serve]", "[[event]]\ntype = \"ferry.tried\"\nletter = \"trial\"\nto = \"/who\"\n[serve]")
	p.write("event.json",
		fmt.Sprintf(`[{"specversion": "1.0", "source": "/quay", "id": "1", "type": "ferry.tried", "data": {"who": `+
			`[%q, %q]}}]`, address(1), address(2)))
	if out := p.must("notify", "--event", p.file("event.json")); !strings.Contains(out, "Events taken: 1") {
		t.Error(out)
	}
	p.must("deliver", "--until-empty")
	if n, _ := p.arrived(3); n != 2 {
		t.Errorf("%d arrived", n)
	}
	for body, want := range map[string]string{
		`{"specversion": "0.3", "source": "/q", "id": "1", "type": "x"}`:            "specversion",
		`{"specversion": "1.0", "source": "/q", "id": "1", "type": "x", "Pier": 1}`: "lower-case",
		`{"specversion": "1.0", "source": "/q", "id": "1", "type": "ferry.sunk"}`:   "no rule",
		`[{"specversion": "1.0", "source": "/q", "id": "1", "type": "ferry.tried"}`: "JSON array",
	} {
		p.write("bad.json", body)
		if _, errOut, code := p.do("notify", "--event", p.file("bad.json")); code != exitFailed ||
			!strings.Contains(errOut, want) {
			t.Errorf("%s: exit %d, %s", body, code, errOut)
		}
	}
	lines := `{"specversion": "1.0", "source": "/q", "id": "2", "type": "ferry.tried"}` + "\n" +
		fmt.Sprintf("%q\n{\"address\": %q}\n", address(3), address(4))
	p.write("lines.jsonl", lines)
	if _, errOut, code := p.do("notify", "--event", p.file("lines.jsonl")); code != exitFailed ||
		!strings.Contains(errOut, `it ends after line 3, without its last line {"end": 2}`) {
		t.Errorf("a list without its end: exit %d, %s", code, errOut)
	}
	p.write("lines.jsonl", lines+`{"end": 2}`)
	if out := p.must("notify", "--event", p.file("lines.jsonl")); !strings.Contains(out, "with 2 recipients") {
		t.Error(out)
	}
	p.must("deliver", "--until-empty")
	if n, _ := p.arrived(5); n != 4 {
		t.Errorf("%d arrived", n)
	}
	if out := p.must("outbox", "events"); !strings.Contains(out, "No event was set aside") {
		t.Error(out)
	}
}

// Events that wait where no rule is for any are not passed over in silence.
func TestEventsWithoutRules(t *testing.T) {
	p := newPlace(t)
	db, err := sql.Open("sqlite", p.file("outbox.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(
		"INSERT INTO illumicode_event (source, id, type, data) VALUES ('/quay', '1', 'moved', '{}')"); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	if out := p.must("outbox", "events"); !strings.Contains(out, "1 INSERTED EVENTS WAIT") {
		t.Error(out)
	}
	if out := p.must("outbox", "events", "--json"); !strings.Contains(out, `"waiting": 1`) {
		t.Error(out)
	}
}

// The list says which recipient domains get letters slowly, why, and what frees them.
func TestSlowDomainIsTold(t *testing.T) { onBoth(t, slowDomainIsTold) }

func slowDomainIsTold(t *testing.T, p *place) {
	say := func(domain string, class retry.Class) {
		p.with(func(svc *illumicode.Service) {
			if _, _, err := flow.Of(svc).Store.UpdatePace(t.Context(), "harbour", domain, svc.Now(),
				func(h choose.Health) choose.Health {
					return h.After(choose.Answer{Class: class}, choose.Breaker{}, svc.Now(), 0)
				}); err != nil {
				t.Fatal(err)
			}
		})
	}
	say("gale.example", retry.Throttled)
	say("squall.example", retry.Misconfigured)
	out := p.must("outbox", "list")
	for _, want := range []string{"provider harbour, domain gale.example asked to slow down: letters keep 50ms",
		"provider harbour, domain squall.example: our account was refused there",
		"`illumicode outbox resume domain squall.example` tries at once"} {
		if !strings.Contains(out, want) {
			t.Errorf("the list lacks %q:\n%s", want, out)
		}
	}
	p.must("outbox", "resume", "domain", "squall.example")
	if out := p.must("outbox", "list", "--json"); strings.Contains(out, "squall.example") ||
		!strings.Contains(out, `"gap": "50ms"`) {
		t.Errorf("after it was resumed:\n%s", out)
	}
}
