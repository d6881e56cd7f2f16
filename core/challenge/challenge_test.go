package challenge

import (
	"slices"
	"strings"
	"testing"
	"time"
)

var t0 = time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC)

func policy(tb testing.TB) Policy {
	tb.Helper()
	p, err := Policy{}.WithDefaults(Signup)
	if err != nil {
		tb.Fatal(err)
	}
	return p
}

func TestLivesStartAtHandOver(t *testing.T) {
	p := policy(t)
	waiting := Begin(p, t0)
	sent := waiting.HandedOver(1, t0.Add(2*time.Hour)) // a slow queue
	late := waiting.HandedOver(1, t0.Add(60*time.Hour))
	used := sent
	used.State = Accepted
	for _, tt := range []struct {
		name string
		c    Challenge
		form Form
		at   time.Duration
		want Outcome
	}{
		{"before any hand-over", waiting, Code, time.Hour, Good},
		{"never handed over, at the cap", waiting, Code, 72 * time.Hour, Expired},
		{"never handed over, link, at the cap", waiting, Link, 72 * time.Hour, Expired},
		{"last instant of the code", sent, Code, 2*time.Hour + 10*time.Minute - 1, Good},
		{"the code's end", sent, Code, 2*time.Hour + 10*time.Minute, Expired},
		{"the link outlives the code", sent, Link, 2*time.Hour + 10*time.Minute, Good},
		{"the link's end", sent, Link, 26 * time.Hour, Expired},
		{"the cap cuts the link", late, Link, 72*time.Hour - 1, Good},
		{"the cap cuts the link, at its end", late, Link, 72 * time.Hour, Expired},
		{"accepted stays accepted", used, Link, 99 * time.Hour, AlreadyDone},
	} {
		if got := tt.c.Judge(tt.form, t0.Add(tt.at)); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
	if again := sent.HandedOver(1, t0.Add(3*time.Hour)); again != sent {
		t.Errorf("a second hand-over moved a life: %+v", again)
	}
}

func TestResend(t *testing.T) {
	p := policy(t)
	c := Begin(p, t0)
	if r := c.Resend(p, t0.Add(29*time.Second)); r.Allowed || !r.At.Equal(t0.Add(30*time.Second)) {
		t.Errorf("too early: %+v", r)
	}
	c = c.HandedOver(1, t0)
	r := c.Resend(p, t0.Add(30*time.Second))
	if !r.Allowed || r.Next.Generation != 1 {
		t.Fatalf("with life left: %+v, want the same generation", r)
	}
	if want := t0.Add(90 * time.Second); !r.Next.ResendAfter.Equal(want) {
		t.Errorf("second rung ends at %v, want %v", r.Next.ResendAfter, want)
	}
	near := t0.Add(8 * time.Minute) // two of ten minutes left
	r = r.Next.Resend(p, near)
	if !r.Allowed || r.Next.Generation != 2 {
		t.Fatalf("near the end: %+v, want the next generation", r)
	}
	next := r.Next
	if got := next.Generations(near); !slices.Equal(got, []int{2, 1}) {
		t.Errorf("good at the turn: %v, want both", got)
	}
	if got := next.Generations(t0.Add(10 * time.Minute)); !slices.Equal(got, []int{2}) {
		t.Errorf("after the first code's own end: %v, want [2]", got)
	}
	// A letter of the first generation that is handed over late does not start the second code.
	if late := next.HandedOver(1, near); !late.CodeFrom.IsZero() {
		t.Error("a letter with the old code started the life of the new one")
	}
	// One not yet handed over is repeated as it is, however long the queue took.
	stuck := Begin(p, t0)
	if r := stuck.Resend(p, t0.Add(20*time.Hour)); r.Next.Generation != 1 {
		t.Errorf("a code nobody has received was replaced: %+v", r.Next)
	}
}

// However often a person presses the button, the waits follow the ladder and then its last rung.
func TestResendLadder(t *testing.T) {
	p := policy(t)
	c, now := Begin(p, t0), t0
	var waits []time.Duration
	for range 7 {
		waits = append(waits, c.ResendAfter.Sub(now))
		now = c.ResendAfter
		c = c.Resend(p, now).Next
	}
	want := append(slices.Clone(p.Ladder), time.Hour, time.Hour)
	if !slices.Equal(waits, want) {
		t.Errorf("waits %v, want %v", waits, want)
	}
}

func TestPolicyRefuses(t *testing.T) {
	for _, tt := range []struct {
		p    Policy
		want string
	}{
		{Policy{Digits: 4}, "Digits"},
		{Policy{Tries: 1000}, "Tries"},
		{Policy{CodeLife: -time.Second}, "CodeLife"},
		{Policy{CodeLife: time.Minute, Renew: time.Hour}, "Renew"},
		{Policy{Ladder: []time.Duration{time.Second, -1}}, "rung 2"},
	} {
		if _, err := tt.p.WithDefaults(Signup); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%+v: %v, want an error about %s", tt.p, err, tt.want)
		}
	}
}
