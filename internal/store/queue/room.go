package queue

import (
	"context"

	"github.com/illumicode/illumicode/internal/store/db"
)

// Rows are the tables of this room in an open database. They are safe for concurrent use.
type Rows struct{ *db.Database }

// A Tx is them in a transaction.
type Tx struct{ db.Tx }

// Write is [db.Database.Write].
func (s Rows) Write(ctx context.Context, fn func(Tx) error) error {
	return s.Database.Write(ctx, func(t db.Tx) error { return fn(Tx{t}) })
}

// WriteRelaxed is [db.Database.WriteRelaxed].
func (s Rows) WriteRelaxed(ctx context.Context, fn func(Tx) error) error {
	return s.Database.WriteRelaxed(ctx, func(t db.Tx) error { return fn(Tx{t}) })
}

var _ = db.HotByIndex(map[string]string{
	"is anything due": anyDue, "claim a lane": claimLane, "begin attempts": beginAttempts.Text(),
	"end attempts": endAttempts.Text(), "end what was sent": endSent.Text(), "delete what was sent": deleteGroup.Text(),
})

var _ = db.Hot(map[string]string{
	"claim one": claimOne, "end one": endOne, "delete one": deleteOne, "put back": putBack,
	"asked again": askedAgain, "delivery by id": selectDelivery, "collapsing": selectCollapsing,
	"items":        selectItems,
	"move notices": moveDeliveries, "thaw": thaw,
	"cancel for a subject": chosen(bySubject), "orphans": takeOrphans, "claims unheard of": takeUnheard,
	"attempts of one": selectAttempts, "attempts of some": attemptsOn, "letters to a mailbox": lettersTo,
	"providers of a challenge": carriedBy, "unfinished bundles": deletePieces, "oldest due": firstDue,
	"first of a list": takePiece, "events": takeEvents, "release what a pause held": releaseHeldBy, "once": selectOnce,
	"what a list shares": selectShared, "is it still shared": inUse,
	"cancel by key": chosen(byKey), "lists by key": dropLists(byKey),
})
