package addresses

import (
	"github.com/illumicode/illumicode/internal/store/db"
)

// Rows are the tables of this room in an open database. They are safe for concurrent use.
type Rows struct{ *db.Database }

// A Tx is them in a transaction.
type Tx struct{ db.Tx }

var _ = db.Hot(map[string]string{
	"addresses of a subject": selectAddresses, "addresses at a mailbox": selectByMailbox, "owner": selectOwner,
	"relied address": selectRelied, "reached address": selectReached, "holder": selectHolder,
	"release a mailbox": deleteHolder,
	"last proven":       lastProven,
	"set standing":      setStanding, "set bounced": setBounced, "to ask again": selectToAsk,
	"grace over":         selectGraceOver,
	"trail of a mailbox": trailOfMailbox, "changes of a subject": selectChanges,
	"changes of some subjects": changesAt, "change of a challenge": selectChangeFor, "undo over": selectUndoOver,
	"changes from one on": changesFrom, "change, locked": lockChange,
	"is any frozen": anyFrozen, "proven since": provenSince, "stop changes": stopChanges,
})
