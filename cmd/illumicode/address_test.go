package main

import (
	"encoding/json"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/inbox"
	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/flow"
)

// The operator's verbs on addresses: backfill, the story, suppress, restore, confirm, forget.
func TestAddressVerbs(t *testing.T) {
	p := newPlace(t)
	file := filepath.Join(t.TempDir(), "accounts.csv")
	csv := "\ufeffSubject,address,since,locale\n1,old@ternisle.example,2019-05-01,de\n" +
		"2,new@ternisle.example,2026-11-20T08:00:00Z,\n3,nonsense,,\n4,x@ternisle.example,last week,\n"
	if err := os.WriteFile(file, []byte(csv), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"--dry-run"}, nil, nil} {
		out, errOut, code := p.do(append([]string{"address", "import", file, "--grandfather-before", "2026-11-01"},
			args...)...)
		if code != exitFailed || !strings.Contains(out, "4 rows: ") || !strings.Contains(out, "line 4: ") ||
			!strings.Contains(out, `"last week" is no day`) || !strings.Contains(errOut, "2 rows were left out") {
			t.Errorf("import %v: exit %d\n%s%s", args, code, out, errOut)
		}
	}
	out := p.must("address", "show", "OLD@ternisle.example")
	if !strings.Contains(out, "confirmed for subject 1 since 2019-05-01") ||
		!strings.Contains(out, "older than the confirmation") {
		t.Errorf("show:\n%s", out)
	}
	p.must("address", "suppress", "old@ternisle.example", "--all", "--reason", "asked by phone")
	p.do("notify", "--to", "old@ternisle.example") // waits, and fails, as it must
	if out := p.must("address", "forget", "--resume"); !strings.Contains(out, "No erasure was broken off") {
		t.Errorf("resume: %s", out)
	}
	p.with(func(svc *illumicode.Service) { // one that was broken off
		st := flow.Of(svc).Store
		e, err := st.Erase(t.Context(), "new@ternisle.example", "new@ternisle.example", time.Now())
		for err == nil && e.Stage < 3 {
			_, err = e.Step(t.Context())
		}
		if err != nil {
			t.Fatal(err)
		}
	})
	if out := p.must("outbox", "list"); !strings.Contains(out, "NOT FORGOTTEN YET: 1") {
		t.Errorf("list:\n%s", out)
	}
	if _, errOut, code := p.do("address", "forget", "x@ternisle.example", "--resume"); code != exitMisused {
		t.Errorf("exit %d: %s", code, errOut)
	}
	if out := p.must("address", "forget", "--resume"); !strings.Contains(out, "Forgotten. ") {
		t.Errorf("resume: %s", out)
	}
	if out := p.must("outbox", "list"); strings.Contains(out, "NOT FORGOTTEN") {
		t.Errorf("list:\n%s", out)
	}
	if out := p.must("address", "show", "old@ternisle.example"); !strings.Contains(out, "SUPPRESSED (all letters)") ||
		!strings.Contains(out, "asked by phone") || !strings.Contains(out, "trial          suppressed") {
		t.Errorf("show, suppressed:\n%s", out)
	}
	p.must("address", "restore", "old@ternisle.example", "--reason", "asked again")
	p.must("address", "confirm", "new@ternisle.example", "--subject", "2", "--reason", "seen the passport")
	var story struct{ Standings []struct{ Standing string } }
	if err := json.Unmarshal([]byte(p.must("address", "show", "new@ternisle.example", "--json")), &story); err != nil ||
		len(story.Standings) != 1 || story.Standings[0].Standing != "confirmed" {
		t.Errorf("show --json: %+v, %v", story, err)
	}
	if _, errOut, code := p.do("address", "forget", "old@ternisle.example"); code != exitMisused ||
		!strings.Contains(errOut, "--yes") {
		t.Errorf("forget without a terminal and without --yes: exit %d\n%s", code, errOut)
	}
	if out := p.must("address", "forget", "old@ternisle.example", "--yes"); !strings.Contains(out,
		"The address stands in no text of any table") {
		t.Errorf("forget: %s", out)
	}
	if out := p.must("address", "show", "old@ternisle.example"); !strings.Contains(out, "No account has it") {
		t.Errorf("show, forgotten:\n%s", out)
	}
	for _, args := range [][]string{{"show"}, {"confirm", "a@ternisle.example"}, {"suppress", "a@ternisle.example"},
		{"restore", "a@ternisle.example"}, {"import", file, "--grandfather-before", "soon"}} {
		if _, errOut, code := p.do(append([]string{"address"}, args...)...); code != exitMisused || errOut == "" {
			t.Errorf("address %v: exit %d\n%s", args, code, errOut)
		}
	}
}

// An account whose change of address was taken back is seen to be frozen, and settled by a person, once
// the address that stays was proven.
func TestAddressSettle(t *testing.T) {
	p := newPlace(t)
	const mara, thief = "mara@ternisle.example", "thief@skerry.example"
	last := func(to, subject string) *inbox.Letter {
		t.Helper()
		p.must("deliver", "--until-empty")
		for _, l := range slices.Backward(p.inbox.Letters(to)) {
			if strings.HasPrefix(l.Subject, subject) {
				return l
			}
		}
		t.Fatalf("no letter about %q", subject)
		return nil
	}
	confirm := func(l *inbox.Letter) {
		t.Helper()
		u, err := url.Parse(l.Link())
		if err != nil {
			t.Fatal(err)
		}
		p.with(func(svc *illumicode.Service) {
			if err := svc.Confirm(t.Context(), illumicode.Link(u.Query().Get("t")), nil); err != nil {
				t.Fatal(err)
			}
		})
	}
	p.with(func(svc *illumicode.Service) {
		if err := desk.New(svc).Confirm(t.Context(), illumicode.Holding{Subject: "7", Address: mara},
			"a test"); err != nil {
			t.Fatal(err)
		}
		if _, err := svc.ChangeAddress(t.Context(), illumicode.Holding{Subject: "7", Address: mara},
			illumicode.Request{Address: thief}); err != nil {
			t.Fatal(err)
		}
	})
	confirm(last(thief, "Confirm"))
	_, undo, _ := strings.Cut(last(mara, "Your email address").Text, "/not-me?t=")
	p.with(func(svc *illumicode.Service) {
		if _, err := svc.Undo(t.Context(), illumicode.Link(strings.Fields(undo)[0]), nil); err != nil {
			t.Fatal(err)
		}
	})
	_, shown, ok := strings.Cut(p.must("address", "show", mara), "illumicode address settle ")
	if !ok {
		t.Fatalf("a frozen account is not shown:\n%s", p.must("address", "show", mara))
	}
	id := shown[:36]
	settle := []string{"address", "settle", id, "--keep", mara, "--reason", "showed a ticket"}
	if _, errOut, code := p.do(settle...); code != exitFailed || !strings.Contains(errOut, "was not proven since") {
		t.Errorf("before its owner has proven it: exit %d, %s", code, errOut)
	}
	confirm(last(mara, "Do you still"))
	if out := p.must(settle...); !strings.Contains(out, mara+" stays") {
		t.Error(out)
	}
	if _, errOut, code := p.do(settle...); code != exitFailed || !strings.Contains(errOut, "is frozen") {
		t.Errorf("twice: exit %d, %s", code, errOut)
	}
	if out := p.must("address", "show", mara); strings.Contains(out, "TAKEN BACK") ||
		!strings.Contains(out, "the change was settled: showed a ticket") {
		t.Errorf("afterwards:\n%s", out)
	}
	if out := p.must("address", "show", thief); strings.Contains(out, "confirmed for subject") {
		t.Errorf("the thief's, afterwards:\n%s", out)
	}
	if _, errOut, code := p.do("address", "settle", id); code != exitMisused || !strings.Contains(errOut, "--keep") {
		t.Errorf("without --keep: exit %d, %s", code, errOut)
	}
}

// Addresses from before mailboxes were normalised are found again after a rekey, which can be run again.
func TestRekeyRespells(t *testing.T) {
	p := newPlace(t)
	f, err := config.Load(p.config)
	if err != nil {
		t.Fatal(err)
	}
	svc, closeAll, err := f.Open(t.Context(), slog.New(slog.DiscardHandler), nil)
	if err != nil {
		t.Fatal(err)
	}
	const was, is = "rene\u0301@ternisle.example", "ren\u00e9@ternisle.example"
	for _, query := range []string{
		`INSERT INTO illumicode_address (subject, address, mailbox, standing, since)
			VALUES ('7', ?, ?, 'confirmed', 1)`,
		`INSERT INTO illumicode_holder (mailbox, subject, since) VALUES (?, '7', substr(?, 1, 0) + 1)`,
	} {
		if _, err := svc.Store().DB().Exec(query, was, was); err != nil {
			t.Fatal(err)
		}
	}
	if err := closeAll(); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"1 addresses are under their mailbox", "0 rows are under"} {
		if out := p.must("keys", "rekey"); !strings.Contains(out, want) {
			t.Errorf("rekey says %q, want %q", out, want)
		}
	}
	if out := p.must("address", "show", is); !strings.Contains(out, "confirmed") {
		t.Errorf("it is not found:\n%s", out)
	}
}
