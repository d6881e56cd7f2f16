package queue

import (
	"context"

	"github.com/illumicode/illumicode/internal/store/db"
)

var settleUnknown = db.Q(`UPDATE @ended SET state = 'sent', data = '{}',
	note = 'no answer came; a report told of it, so it was sent' WHERE id @listed() AND state = 'unknown'
	AND EXISTS (SELECT 1 FROM @feedback f WHERE f.delivery = illumicode_ended.id AND f.delivery <> ''
	AND f.state = 'applied')`)

// SettleUnknown ends the doubt about deliveries that may have been sent, and of which a report tells: they were. It is
// asked when a report is applied, and when a delivery ends so, whichever comes last.
func (t Tx) SettleUnknown(ctx context.Context, ids ...string) error {
	_, err := t.Exec(ctx, settleUnknown, db.List(ids))
	return err
}
