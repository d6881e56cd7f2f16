package queue

import (
	"context"

	"github.com/illumicode/illumicode/internal/store/db"
)

var carriedBy = db.Q(`SELECT DISTINCT a.provider FROM @attempt a WHERE a.class IN ('accepted', 'ambiguous', '')
	AND a.delivery IN (SELECT id FROM @delivery WHERE challenge = ? AND challenge <> ''
	UNION ALL SELECT id FROM @ended WHERE challenge = ? AND challenge <> '' AND address = ?)`)

// CarriedBy returns the providers that have carried a letter of a challenge to an address, or are about to: one that
// says nothing must not get the next one as well.
func (s Rows) CarriedBy(ctx context.Context, challenge, address string) ([]string, error) {
	return db.All(ctx, s, db.Scalar[string], carriedBy, challenge, challenge, address)
}
