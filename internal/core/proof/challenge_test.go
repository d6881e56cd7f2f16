package proof

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/otp"
)

var t0 = time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC)

func policy(tb testing.TB) challenge.Policy {
	tb.Helper()
	p, err := WithDefaults(challenge.Policy{}, challenge.Signup)
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
		form challenge.Form
		at   time.Duration
		want Outcome
	}{
		{"before any hand-over", waiting, challenge.Code, time.Hour, Good},
		{"never handed over, at the cap", waiting, challenge.Code, 72 * time.Hour, Expired},
		{"never handed over, link, at the cap", waiting, challenge.Link, 72 * time.Hour, Expired},
		{"last instant of the code", sent, challenge.Code, 2*time.Hour + 10*time.Minute - 1, Good},
		{"the code's end", sent, challenge.Code, 2*time.Hour + 10*time.Minute, Expired},
		{"the link outlives the code", sent, challenge.Link, 2*time.Hour + 10*time.Minute, Good},
		{"the link's end", sent, challenge.Link, 26 * time.Hour, Expired},
		{"the cap cuts the link", late, challenge.Link, 72*time.Hour - 1, Good},
		{"the cap cuts the link, at its end", late, challenge.Link, 72 * time.Hour, Expired},
		{"accepted stays accepted", used, challenge.Link, 99 * time.Hour, AlreadyDone},
	} {
		if got := tt.c.Judge(tt.form, t0.Add(tt.at)); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
	for _, took := range []time.Duration{time.Millisecond, 2 * time.Second, 30 * time.Second} {
		if got := waiting.HandedOver(1, t0.Add(took)).CodeEnds(); !got.Equal(t0.Add(10*time.Minute + 30*time.Second)) {
			t.Errorf("handed over after %v the code ends at %v: what a provider takes shows", took, got)
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

// At the cap no code is good any more: neither the newest, nor the one before it whose own life would go on.
func TestNoCodeAtTheCap(t *testing.T) {
	p := policy(t)
	c := Begin(p, t0).HandedOver(1, t0)
	c.Generation, c.CodeFrom, c.PreviousUntil = 2, c.Ends.Add(-time.Minute), c.Ends.Add(time.Minute)
	if got := c.Generations(c.Ends.Add(-time.Second)); !slices.Equal(got, []int{2, 1}) {
		t.Errorf("before the cap %v are good, want both", got)
	}
	if got := c.Generations(c.Ends); len(got) != 0 {
		t.Errorf("at the cap %v are good", got)
	}
}

// After both lives, and before the cap, a resend brings a fresh code and a fresh link; after the cap,
// or an end, nothing.
func TestResendRevives(t *testing.T) {
	p := policy(t)
	c := Begin(p, t0).HandedOver(1, t0)
	dead := t0.Add(25 * time.Hour)
	r := c.Resend(p, dead)
	if c.Alive(dead) || !r.Allowed || r.Next.Generation != 2 || !r.Next.Alive(dead) {
		t.Errorf("after both lives: %+v", r)
	}
	if again := r.Next.HandedOver(2, dead); !again.LinkEnds().Equal(dead.Add(p.LinkLife)) {
		t.Errorf("the fresh link ends at %v", again.LinkEnds())
	}
	if r := c.Resend(p, c.Ends); r.Allowed || !r.At.IsZero() {
		t.Errorf("at the cap: %+v", r)
	}
	for _, state := range []State{Accepted, Ended} {
		over := c
		over.State = state
		if r := over.Resend(p, dead); r.Allowed || !r.At.IsZero() {
			t.Errorf("%s: %+v", state, r)
		}
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
		p    challenge.Policy
		want string
	}{
		{challenge.Policy{Digits: 4}, "Digits"},
		{challenge.Policy{Tries: 1000}, "Tries"},
		{challenge.Policy{CodeLife: -time.Second}, "CodeLife"},
		{challenge.Policy{CodeLife: time.Minute, Renew: time.Hour}, "Renew"},
		{challenge.Policy{Ladder: []time.Duration{time.Second, -1}}, "rung 2"},
	} {
		if _, err := WithDefaults(tt.p, challenge.Signup); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%+v: %v, want an error about %s", tt.p, err, tt.want)
		}
	}
}

// The odds of guessing are what the policy computes: played against real codes.
func TestOdds(t *testing.T) {
	const challenges, guesses = 40_000, 2000
	p := challenge.Policy{Digits: 6, Tries: guesses}
	key := []byte("a key of thirty-two bytes, as is.")
	hits := 0
	for i := range challenges {
		id := fmt.Sprint("challenge ", i)
		for generation := 1; generation <= 2; generation++ { // two codes are good at the turn
			if code := otp.Derive(key, id, generation, p.Digits); code < fmt.Sprintf("%06d", guesses) {
				hits++
				break
			}
		}
	}
	want := Odds(p) * challenges
	if diff := math.Abs(float64(hits) - want); diff > 5*math.Sqrt(want) {
		t.Errorf("%d of %d were guessed, computed are %.0f", hits, challenges, want)
	}
	if odds := Odds(policy(t)); odds > 1.001e-5 || odds < 0.999e-5 {
		t.Errorf("by default one challenge is guessed with odds of %g, want 1 in 100,000", odds)
	}
}

// Guessing is slowed down and never locked, and fades; the clock may jump as it likes.
func TestSlowing(t *testing.T) {
	p := policy(t)
	for _, tt := range []struct {
		failures float64
		pause    time.Duration
		tries    int
	}{{0, 0, 5}, {4.9, 0, 5}, {5, time.Second, 5}, {8, 8 * time.Second, 5}, {12, 30 * time.Second, 3},
		{30, 30 * time.Second, 1}, {1e9, 30 * time.Second, 1}} {
		if got, tries := Pause(tt.failures), TriesAfter(p, tt.failures); got != tt.pause || tries != tt.tries {
			t.Errorf("after %v failures: %v and %d tries, want %v and %d", tt.failures, got, tries, tt.pause, tt.tries)
		}
	}
	r := Record{}.Failed(t0).Failed(t0)
	for _, tt := range []struct {
		after time.Duration
		want  float64
	}{{0, 2}, {time.Hour, 1}, {2 * time.Hour, 0.5}, {-24 * time.Hour, 2}} {
		if got := r.Count(t0.Add(tt.after)); math.Abs(got-tt.want) > 1e-9 {
			t.Errorf("after %v two failures count %v, want %v", tt.after, got, tt.want)
		}
	}
}

// A stranger who guesses all day long, and uses every try as soon as there is one, has some five hundred.
func TestGuessingAllDay(t *testing.T) {
	p, err := WithDefaults(challenge.Policy{}, challenge.SignIn)
	if err != nil {
		t.Fatal(err)
	}
	var open []Challenge
	var r Record
	tries := 0
	for now := t0; now.Before(t0.Add(24 * time.Hour)); now = now.Add(time.Second) {
		if ok, _ := Room(open, now); ok {
			c := Begin(p, now).HandedOver(1, now)
			c.TriesAllowed = TriesAfter(p, r.Count(now))
			open = append(slices.DeleteFunc(open, func(c Challenge) bool { return !c.Alive(now) }), c)
		}
		for i := range open {
			if c := &open[i]; c.Tries < c.TriesAllowed && !now.Before(c.Tried.Add(Pause(r.Count(now)))) {
				c.Tries, c.Tried, r = c.Tries+1, now, r.Failed(now)
				tries++
			}
		}
	}
	if tries < 430 || tries > 600 {
		t.Errorf("%d tries in a day", tries)
	}
}

// There is room for three; a place is free again a life and a half after its letter was asked for, and
// nothing that happens to it before makes a difference.
func TestRoom(t *testing.T) {
	p, err := WithDefaults(challenge.Policy{}, challenge.SignIn)
	if err != nil {
		t.Fatal(err)
	}
	var open []Challenge
	for i := range MaxOpen {
		c := Begin(p, t0.Add(time.Duration(i)*time.Minute))
		switch i {
		case 1:
			c = c.HandedOver(1, t0.Add(2*time.Minute))
		case 2:
			c.State = Accepted
		}
		open = append(open, c)
	}
	now := t0.Add(5 * time.Minute)
	if ok, _ := Room(open[1:], now); !ok {
		t.Error("no room beside two")
	}
	ok, at := Room(open, now)
	if want := t0.Add(15 * time.Minute); ok || !at.Equal(want) {
		t.Errorf("beside three: %v, at %v; want room at %v", ok, at, want)
	}
	if ok, _ := Room(open, at); !ok {
		t.Error("no room when it was promised")
	}
	again := open[0].Resend(p, now).Next // its letter is asked for once more, and it keeps its place
	if _, at := Room([]Challenge{again, open[1], open[2]}, now); !at.Equal(t0.Add(16 * time.Minute)) {
		t.Errorf("after a resend there is room at %v", at)
	}
}

// What a challenge answers by its state and its forms.
func TestJudge(t *testing.T) {
	c := Begin(policy(t), t0)
	for _, tt := range []struct {
		change func(*Challenge)
		form   challenge.Form
		want   Outcome
	}{
		{func(c *Challenge) { c.State, c.Why = Ended, NotMe }, challenge.Code, CalledOff},
		{func(c *Challenge) { c.State, c.Why = Ended, Lapsed }, challenge.Link, Expired},
		{func(c *Challenge) { c.Forms = challenge.CodeOnly }, challenge.Link, NotOffered},
		{func(c *Challenge) { c.Forms = challenge.CodeOnly }, challenge.Code, Good},
		{func(c *Challenge) { c.Forms = challenge.LinkOnly }, challenge.Code, NotOffered},
		{func(c *Challenge) { c.State, c.Forms = Accepted, challenge.LinkOnly }, challenge.Code, AlreadyDone},
	} {
		changed := c
		tt.change(&changed)
		if got := changed.Judge(tt.form, t0); got != tt.want {
			t.Errorf("%+v by %s: %s, want %s", changed, tt.form, got, tt.want)
		}
		if alive := changed.Alive(t0); alive != (changed.State == Open) {
			t.Errorf("%+v is alive: %v", changed, alive)
		}
	}
}
