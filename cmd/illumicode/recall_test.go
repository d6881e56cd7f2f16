package main

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
)

// In the middle of 900 letters all are called back. Nothing is begun after the command has returned; it says who has
// it; what it holds can be let go in part, and the rest cancelled; who has it is told, once.
func TestRecall(t *testing.T) {
	const letters = 900
	p := newPlace(t)
	p.change(`lease = "30s"`, "lease = \"2s\"\nsenders = 2")
	p.fill(letters)
	worker := tool(t, "--config", p.config, "deliver")
	if err := worker.Start(); err != nil {
		t.Fatal(err)
	}
	defer worker.Process.Kill()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	if _, err := p.inbox.Wait(ctx, "", 60); err != nil {
		t.Fatal(err)
	}
	var r struct {
		ID        string
		HaveIt    int `json:"have_it"`
		MayHaveIt int `json:"may_have_it"`
		WillNot   int `json:"will_not"`
	}
	recall := func(args ...string) {
		t.Helper()
		if err := json.Unmarshal([]byte(p.must(append(args, "--json")...)), &r); err != nil {
			t.Fatal(err)
		}
	}
	recall("outbox", "recall", "--letter", "trial", "--why", "the wrong pier")
	if r.HaveIt+r.MayHaveIt+r.WillNot != letters || r.WillNot == 0 {
		t.Fatalf("%+v of %d", r, letters)
	}
	time.Sleep(500 * time.Millisecond) // what had begun arrives
	after := len(p.inbox.Letters(""))
	p.fill(3) // asked for later
	time.Sleep(3 * time.Second)
	if n := len(p.inbox.Letters("")); n != after || after > r.HaveIt+r.MayHaveIt {
		t.Errorf("%d letters arrived, %d a moment after the recall, which knew of %d and %d", n, after, r.HaveIt,
			r.MayHaveIt)
	}
	if out := p.must("outbox", "list", "--most", "1"); !strings.Contains(out, "RECALLED: letter trial") ||
		!strings.Contains(out, fmt.Sprintf("%d held", letters+3-after)) {
		t.Errorf("outbox list:\n%s", out)
	}
	who := p.must("outbox", "recall", "show", r.ID)
	if n := strings.Count(who, "has it "); n != after || strings.Count(who, "will not ") != letters+3-after {
		t.Errorf("%d have it, want %d:\n%s", n, after, who)
	}
	// Those to one are let go, and the others are cancelled.
	_, line, _ := strings.Cut(who[strings.Index(who, "will not"):], "  ")
	to := strings.Fields(line)[1]
	if out := p.must("outbox", "recall", "release", r.ID, "--to", to, "--letter", "trial"); !strings.Contains(out,
		"released.") {
		t.Errorf("release: %s", out)
	}
	if _, err := p.inbox.Wait(ctx, to, strings.Count(who, to)); err != nil { // some have two
		t.Errorf("%s has no letter: %v", to, err)
	}
	if _, errOut, code := p.do("outbox", "recall", "correct", r.ID, "--letter", "trial"); code == 0 ||
		!strings.Contains(errOut, "hold its own correction") {
		t.Errorf("a correction that the recall would hold: %d %s", code, errOut)
	}
	if out := p.must("outbox", "recall", "end", r.ID, "--cancel"); !strings.Contains(out, "The recall has ended") {
		t.Errorf("end: %s", out)
	}
	if left, _ := p.summary(); left["held"]+left["waiting"] != 0 {
		t.Errorf("left: %v", left)
	}
	before := len(p.inbox.Letters(""))
	for _, want := range []string{"corrections are in the outbox", "Nobody has it, or they were told before"} {
		for end := time.Now().Add(time.Minute); ; time.Sleep(100 * time.Millisecond) {
			out, errOut, _ := p.do("outbox", "recall", "correct", r.ID, "--letter", "welcome", "--data",
				"name=passenger")
			if strings.Contains(out, want) {
				break
			}
			if time.Now().After(end) {
				t.Fatalf("correct: %s%s", out, errOut)
			}
		}
		if _, err := p.inbox.Wait(ctx, "", before+after); err != nil {
			t.Fatal(err)
		}
	}
}

// A recall says what is wrong with it, and takes nothing then.
func TestRecallRefused(t *testing.T) {
	p := newPlace(t)
	p.fill(1)
	for want, args := range map[string][]string{
		"pause the lanes":      {"--why", "all"},
		"wants --why":          {"--letter", "trial"},
		"and not by state":     {"--why", "x", "--state", "waiting"},
		"not by state, by wh":  {"--why", "x", "--provider", "harbour"},
		"no recall 2026-01-01": {"end", "2026-01-01", "--send"},
		"--send or --cancel":   {"end", "2026-01-01"},
		"wants flags":          {"release", "2026-01-01"},
	} {
		if _, errOut, code := p.do(append([]string{"outbox", "recall"}, args...)...); code == 0 ||
			!strings.Contains(errOut, want) {
			t.Errorf("%v: exit %d, %s; want %q", args, code, errOut, want)
		}
	}
	if out := p.must("outbox", "recall", "--letter", "nothing", "--why", "a trial"); !strings.Contains(out,
		"matches nothing so far") {
		t.Errorf("%s", out)
	}
	if out := p.must("outbox", "recall", "show"); !strings.Contains(out, "letter nothing") {
		t.Errorf("%s", out)
	}
	if left, _ := p.summary(); left["waiting"] != 1 {
		t.Errorf("%v", left)
	}
	// What a recall holds is released by its own verb, and the other one does not say that it was.
	p.must("outbox", "recall", "--letter", "trial", "--older", "1ms", "--why", "a trial")
	_, id, _ := strings.Cut(p.must("outbox", "list", "--state", "held"), "…")
	id, _, _ = strings.Cut(id, " ")
	if _, errOut, code := p.do("outbox", "release", id); code != exitFailed ||
		!strings.Contains(errOut, "outbox recall release") {
		t.Errorf("release of what is recalled: exit %d, %s", code, errOut)
	}
	out := p.must("outbox", "recall", "--letter", "trial", "--older", "1h", "--why", "a trial")
	if !strings.Contains(out, "matches nothing so far") || strings.Contains(out, "What is asked for later") {
		t.Errorf("a recall of what was asked for before: %s", out)
	}
}
