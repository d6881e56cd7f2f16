package addresses

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Step is one line of the trail of a challenge, or of an address. It holds no code and no token.
type Step struct {
	Challenge string // empty where it is about an address alone
	Subject   string
	Mailbox   string
	At        time.Time
	What      string // begun, resent, tried, proved, accepted, ended, standing
	Outcome   string
	Network   string // who asked; empty where the application did not say
	Actor     string // who did it at a desk; empty for the flows
}

// NewStep adds a line to the trail.
var NewStep = stepRow.Insert("trail", db.Values{})

var addStep = db.Q(NewStep.Alone())

// Record adds a line to the trail.
func (t Tx) Record(ctx context.Context, s Step) error {
	_, err := t.Exec(ctx, addStep, NewStep.Args(s)...)
	return err
}

// stepRow are the columns of a line of the trail.
var stepRow = db.Columns[Step]{
	db.Text("challenge", func(r *Step) *string { return &r.Challenge }),
	db.Text("subject", func(r *Step) *string { return &r.Subject }),
	db.Text("mailbox", func(r *Step) *string { return &r.Mailbox }),
	db.Time("at", func(r *Step) *time.Time { return &r.At }),
	db.Text("what", func(r *Step) *string { return &r.What }),
	db.Text("outcome", func(r *Step) *string { return &r.Outcome }),
	db.Text("network", func(r *Step) *string { return &r.Network }),
	db.Text("actor", func(r *Step) *string { return &r.Actor }),
}

var trailOfMailbox = db.Q(`SELECT ` + stepRow.Names() + ` FROM @trail WHERE mailbox = ? ORDER BY seq DESC LIMIT ?`)

// Trail returns up to n lines about a mailbox, the latest first.
func (s Rows) Trail(ctx context.Context, mailbox string, n int) ([]Step, error) {
	return db.All(ctx, s, stepRow.Scan, trailOfMailbox, mailbox, n)
}
