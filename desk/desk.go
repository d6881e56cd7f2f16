// Package desk is what operators do with a service: explain where a code went, import old accounts, suppress and
// restore addresses, erase people, decide about frozen accounts, preview letters, try limits. [Desk] is the type to
// read first.
//
// Its calls trust their caller. An application that puts them on a page checks who may press the button.
package desk

import (
	"context"
	"errors"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/composer"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
)

// A Desk is the operator's side of a service. It is safe for concurrent use. Use [New].
type Desk struct {
	svc *illumicode.Service
	p   *flow.Parts
}

// New returns the desk of a service. Where the store has connections of its own for it, what an operator asks for may
// take long.
func New(svc *illumicode.Service) *Desk {
	p := *flow.Of(svc)
	p.Store = p.Store.Patient()
	return &Desk{svc, &p}
}

// A Preview is a letter as it will look, with its link and its code masked.
type Preview struct {
	Subject string // empty for a text message
	Text    string
	HTML    string // empty for a text message
}

// Preview returns the letter of a delivery, by the delivery's id. The error says why there is none, such as that the
// data were erased when the delivery ended.
func (d *Desk) Preview(ctx context.Context, delivery string) (Preview, error) {
	row, err := d.p.Store.Delivery(ctx, delivery)
	if err != nil {
		return Preview{}, err
	}
	look, err := composer.New(d.p).Preview(ctx, row)
	return Preview(look), err
}

// Send adds a notice to one address and makes one attempt at once, in this process, whatever other workers do. It
// returns the letter as it is after that: State tells whether it was sent.
func (d *Desk) Send(ctx context.Context, n illumicode.Notice) (Letter, error) {
	if len(n.Cc)+len(n.Bcc) > 0 {
		return Letter{}, errors.New("desk: a letter by hand goes to one address")
	}
	var ids []string
	err := d.svc.Transact(flow.AskedBy(ctx, "an operator, by hand"),
		func(ctx context.Context, tx illumicode.Tx) (err error) {
			ids, err = tx.Notify(ctx, n)
			return err
		})
	if err != nil {
		return Letter{}, err
	}
	row, err := d.p.Outbox.DeliverOne(ctx, ids[0])
	return letterOf(row), err
}

// A Letter is a delivery: one letter to one address.
type Letter struct {
	ID        string
	Letter    string // its name
	Address   string
	State     string // held, waiting, claimed, sent, failed, cancelled, expired or suppressed
	Created   time.Time
	Note      string // why it is where it is
	Challenge string // empty for a letter without proof
	Attempts  []Attempt
	Returned  []Returned // what came back
}

func letterOf(row store.Delivery) Letter {
	return Letter{
		ID: row.ID, Letter: row.Letter, Address: row.Address, State: string(row.State), Created: row.Created,
		Note: row.Note, Challenge: row.Challenge,
	}
}

// An Attempt is one try to hand a letter to a provider.
type Attempt struct {
	Number   int
	Provider string
	Begun    time.Time
	Ended    time.Time   // zero while it is under way
	Class    retry.Class // what the answer means
	Reply    string      // the provider's words
	Route    string      // why this provider, and why no other
}

// A Returned is what somebody said about a letter after it was sent.
type Returned struct {
	Source string // a provider, or "mail"
	Kind   string // as a feedback.Feedback has it
	Status string // enhanced status code (RFC 3463); may be empty
	Words  string
	At     time.Time // when it happened
	State  string    // waiting, applied or aside
	Note   string    // what followed, or why nothing did
}

// A Summary is the outbox at a glance.
type Summary struct {
	Count       map[string]int  // of deliveries, by state
	Loads       []delivery.Load // what is on its way, by lane and state
	Left        bool            // anything is left for workers to do, now or later
	Lists       int             // notices to many that are not expanded yet
	EventsAside int             // events that no rule could take
	OldestDue   time.Time       // of what waits and is due; zero if nothing is
	WorkerSeen  time.Time       // of any worker; zero if there was none for a day
	NobodyWorks bool            // letters are due, or lists or events wait, and no worker was seen for a minute
}

// Summary returns the outbox at a glance.
func (d *Desk) Summary(ctx context.Context) (Summary, error) {
	now := d.p.Now()
	sum, err := d.p.Store.Summary(ctx, now)
	if err != nil {
		return Summary{}, err
	}
	s := Summary{
		Count: make(map[string]int), Lists: sum.Lists, EventsAside: sum.Aside, OldestDue: sum.OldestDue,
		WorkerSeen: sum.LastSeen, NobodyWorks: sum.NobodyWorks(now),
	}
	for state, n := range sum.Count {
		s.Count[string(state)] = n
	}
	for _, l := range sum.Loads {
		s.Loads = append(s.Loads, delivery.Load{
			Lane: delivery.Lane(l.Lane), State: string(l.State), Count: l.Count, Oldest: l.Oldest,
		})
	}
	s.Left, err = d.p.Store.Left(ctx, now.AddDate(100, 0, 0)) // whenever it is due
	return s, err
}
