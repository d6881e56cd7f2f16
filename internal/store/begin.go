package store

import (
	"context"

	"github.com/illumicode/illumicode/internal/store/addresses"
	"github.com/illumicode/illumicode/internal/store/challenges"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/store/queue"
)

// What follows the insert of a challenge, if it was one.
var (
	begin        = db.Following(challenges.New.Insert, queue.New.Insert, addresses.NewStep.Insert)
	beginAddress = db.Following(challenges.New.Insert, addresses.New.Insert, queue.New.Insert, addresses.NewStep.Insert)
)

// A NewChallenge is what a new challenge adds.
type NewChallenge struct {
	Challenge  Challenge
	Letter     Delivery
	NewAddress bool   // its address becomes unconfirmed, unless the subject has it already
	Network    string // that asked
}

// Begin adds a new challenge, its letter and the first line of its trail, in as few statements as the database allows.
// It reports whether it did: not if there is a challenge with the id. No statement fails on a conflict.
func (t Tx) Begin(ctx context.Context, b NewChallenge) (bool, error) {
	c := b.Challenge
	first := Step{Challenge: c.ID, Subject: c.Subject, Mailbox: c.Mailbox, At: c.Created, What: "begun",
		Outcome: c.Purpose, Network: b.Network}
	challenge, letter := challenges.New.Args(c), queue.New.Args(b.Letter.Fresh())
	if !b.NewAddress {
		return t.Follow(ctx, begin, challenge, letter, addresses.NewStep.Args(first))
	}
	a := Address{Subject: c.Subject, Address: c.Address, Mailbox: c.Mailbox, Since: c.Created}
	return t.Follow(ctx, beginAddress, challenge, addresses.New.Args(a), letter, addresses.NewStep.Args(first))
}
