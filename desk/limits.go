package desk

import (
	"context"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/limit"
)

// An Answer is what the rules would say to one request after another.
type Answer struct {
	Rules []RuleAnswer

	Now       int       // how many would pass right now
	Hour      int       // how many within an hour, each asked as soon as it passes
	NextAfter time.Time // when the first after those of now would pass; zero if none would within the hour
	Refuser   string    // the rule that refuses it until then
}

// A RuleAnswer is one rule's part.
type RuleAnswer struct {
	Rule limit.Rule
	Left int       // how many would pass right now, as far as this rule is concerned
	At   time.Time // when one would, if none does now
}

// mostTried bounds how many requests TryLimits tries.
const mostTried = 10000

// TryLimits says what the rules would answer to a request, now and over the next hour, and spends nothing. stage is
// [limit.First], or [limit.Again] for a letter that is sent again. The network is that of [illumicode.FromNetwork].
func (d *Desk) TryLimits(ctx context.Context, r illumicode.Request, stage limit.Stage) (Answer, error) {
	to, err := d.p.Recipient(r.Address)
	if err != nil {
		return Answer{}, err
	}
	purpose, err := d.p.PurposeOf(r.Purpose)
	if err != nil {
		return Answer{}, err
	}
	b, err := d.p.KnownBrowser(ctx, r.Browser, to.Mailbox())
	if err != nil {
		return Answer{}, err
	}
	bound := d.p.Limits.Set.Bind(d.p.Keyed(ctx, flow.LimitRequest{To: to, Purpose: purpose, Subject: r.Subject,
		Known: flow.Known{Browser: b.ID}, Stage: stage}))
	states, err := d.p.Limits.Look(ctx, bound)
	if err != nil {
		return Answer{}, err
	}
	return answer(bound, states, d.p.Now().Truncate(time.Microsecond)), nil // as states are kept
}

// answer plays requests against rules for an hour from now. It changes states.
func answer(bound []judge.Bound, states []judge.State, now time.Time) Answer {
	var out Answer
	for i, b := range bound {
		st, _ := judge.Look(b.Rule, judge.Normalize(b.Rule, states[i], now), 1, now)
		out.Rules = append(out.Rules, RuleAnswer{Rule: *b.Rule, Left: st.Left, At: st.At})
	}
	next := make([]judge.State, len(bound))
	for at := now; out.Hour < mostTried; {
		d := judge.Judge(bound, states, 1, at, next)
		copy(states, next)
		if d.Allowed {
			out.Hour++
			if at.Equal(now) {
				out.Now++
			}
			continue
		}
		if d.At.IsZero() || d.At.Sub(now) >= time.Hour {
			if out.Refuser == "" {
				out.Refuser = d.Refuser.Name
			}
			break
		}
		if out.NextAfter.IsZero() {
			out.NextAfter, out.Refuser = d.At, d.Refuser.Name
		}
		at = d.At
	}
	return out
}
