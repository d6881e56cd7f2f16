package desk

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
)

// A Story is all that is known of an address, newest first, for somebody who has to explain to its owner where a code
// went. It holds no code, no link and no ticket.
type Story struct {
	Mailbox    string
	Addresses  []Address     // for every subject that has it
	Suppressed []Suppression // why it is not written to, the widest scope first
	Changes    []Change
	Trail      []Step
	Letters    []Letter
	Limited    []Limited            // what could not be asked for now
	Browsers   []illumicode.Browser // that have signed in with it
	Failures   float64              // wrong codes, as they count now: from 5 on tries are some seconds apart
}

// An Address is an address and its standing for a subject.
type Address struct {
	Subject   string
	Address   string
	Standing  string // unconfirmed, confirmed, stale or bounced
	Since     time.Time
	Reason    string
	GraceEnds time.Time // until when the application lets it work; zero for none
}

// A Suppression is why an address is not written to.
type Suppression struct {
	Scope  Scope
	Reason string
	Since  time.Time
}

// A Change is a change of address.
type Change struct {
	ID      string
	Subject string
	Old     string
	New     string
	State   string    // pending, made, stopped, frozen or settled
	Asked   time.Time // when it was asked for or, once made, made
	Frozen  time.Time // when it was taken back after it was made; zero if not
}

// A Step is one line of the trail: what happened, and from where.
type Step struct {
	At        time.Time
	What      string // begun, resent, tried, proved, accepted, ended, standing, suppressed, restored, feedback
	Outcome   string
	Network   string // empty where the application did not say
	Actor     string // who did it, where somebody did
	Challenge string // empty where it is about an address alone
}

// A Limited is a letter that could not be asked for now, which may explain "I got no code". Past ones are not kept:
// strangers could fill the database with them. Limits by network are not among these, as they know who asks and not
// for whom.
type Limited struct {
	Purpose string
	Again   bool      // only a letter that is sent again
	Rule    string    // the rule that refuses it longest
	Limit   string    // what it allows, in words
	Until   time.Time // zero if for ever
}

// storyLength is how much of each kind a story has at most.
const storyLength = 50

// Story returns all that is known of an address, in a fixed number of queries.
func (d *Desk) Story(ctx context.Context, address string) (Story, error) {
	to, err := flow.KnownRecipient(address)
	if err != nil {
		return Story{}, err
	}
	s := Story{Mailbox: to.Mailbox()}
	known, err := d.p.Store.About(ctx, to, d.p.Thumbs(s.Mailbox), storyLength)
	if err != nil {
		return s, err
	}
	for _, a := range known.Addresses {
		s.Addresses = append(s.Addresses, Address{a.Subject, a.Address, string(a.Standing), a.Since, a.Reason,
			a.GraceEnds})
	}
	for _, x := range known.Suppressed {
		s.Suppressed = append(s.Suppressed, Suppression{Scope(x.Scope), x.Reason, x.Since})
	}
	for _, c := range known.Changes {
		s.Changes = append(s.Changes, Change{c.ID, c.Subject, c.Old, c.New, string(c.State), c.Made, c.Frozen})
	}
	for _, t := range known.Trail {
		s.Trail = append(s.Trail, Step{t.At, t.What, t.Outcome, t.Network, t.Actor, t.Challenge})
	}
	for _, b := range known.Browsers {
		s.Browsers = append(s.Browsers, illumicode.Browser{ID: b.ID, Name: b.Name, Since: b.Since, Used: b.Used})
	}
	for _, row := range known.Letters {
		one := letterOf(row)
		for _, a := range known.Attempts[row.ID] {
			one.Attempts = append(one.Attempts, Attempt{a.Number, a.Provider, a.Begun, a.Ended, a.Class, a.Reply,
				a.Route})
		}
		for _, f := range known.Feedback[row.ID] {
			one.Returned = append(one.Returned, returnedOf(f))
		}
		s.Letters = append(s.Letters, one)
	}
	s.Failures = known.Failures.Count(d.p.Now())
	s.Limited, err = d.limitedNow(ctx, to)
	return s, err
}

func returnedOf(f store.Feedback) Returned {
	return Returned{f.Source, f.Kind, f.Status, f.Words, f.Happened, string(f.State), f.Note}
}

// limitedNow returns what the limits would refuse to an address at this moment, to a browser that has never signed in.
// It reads all states at once.
func (d *Desk) limitedNow(ctx context.Context, to message.Address) ([]Limited, error) {
	type tried struct {
		purpose string
		stage   limit.Stage
		bound   []judge.Bound
	}
	var all []tried
	var bound []judge.Bound
	for _, purpose := range slices.Sorted(maps.Keys(d.p.Purposes)) {
		for _, stage := range []limit.Stage{limit.First, limit.Again} {
			b := d.p.Limits.Set.Bind(d.p.Keyed(ctx, flow.LimitRequest{To: to, Purpose: purpose, Stage: stage}))
			all, bound = append(all, tried{purpose, stage, b}), append(bound, b...)
		}
	}
	states, err := d.p.Limits.Look(ctx, bound)
	if err != nil {
		return nil, err
	}
	var out []Limited
	for _, t := range all {
		n := len(t.bound)
		decision := judge.Judge(t.bound, states[:n], 1, d.p.Now(), make([]judge.State, n))
		states = states[n:]
		// A rule that refuses a first letter need not be told again for the next ones.
		told := len(out) > 0 && out[len(out)-1].Purpose == t.purpose
		if !decision.Allowed && !told {
			r := decision.Refuser
			out = append(out, Limited{t.purpose, t.stage == limit.Again, r.Name, r.String(), decision.At})
		}
	}
	return out, nil
}
