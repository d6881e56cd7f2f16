package feedback

import (
	"github.com/illumicode/illumicode/internal/store/db"
)

// Rows are the tables of this room in an open database. They are safe for concurrent use.
type Rows struct{ *db.Database }

// A Tx is them in a transaction.
type Tx struct{ db.Tx }

var _ = db.Hot(map[string]string{
	"feedback that is due": dueFeedback, "feedback of one": feedbackOn, "feedback of some": feedbackAmong,
	"soft bounces": softBounces, "suppressed": suppressedAmong, "let through": letThrough,
})
