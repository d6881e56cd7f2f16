package main

import (
	"context"
	"fmt"
	"time"

	"github.com/illumicode/illumicode"
	operators "github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/discard"
)

// A busy provider takes a while for each letter.
type busy struct{ discard.Provider }

func (b busy) Send(ctx context.Context, h provider.Handover) provider.Result {
	time.Sleep(2 * time.Millisecond)
	return b.Provider.Send(ctx, h)
}

// recallFigures measures how long it takes to call many letters back while 16 senders are busy with them, and counts
// what is begun after the call has returned.
func recallFigures(scale int) ([]figure, error) {
	var out []figure
	for _, database := range databases() {
		b, err := newBedOn(database, busy{}, func(c *illumicode.Config) { c.Outbox.Senders = 16 })
		if err != nil {
			return nil, err
		}
		defer b.close()
		n := 4000 * scale
		ctx, stop := context.WithCancel(context.Background())
		defer stop()
		if err := b.fill(ctx, n, illumicode.Notice{Letter: "trial"}); err != nil {
			return nil, err
		}
		ended := make(chan error, 1)
		go func() { ended <- b.svc.Run(ctx) }()
		time.Sleep(time.Second)
		began := time.Now()
		r, err := operators.New(b.svc).Recall(ctx, operators.Choice{Letter: "trial"}, "measured")
		if err != nil {
			return nil, err
		}
		took := time.Since(began)
		begun := func() (n int) {
			if err = b.store.DB().QueryRow("SELECT COUNT(*) FROM illumicode_attempt").Scan(&n); err != nil {
				return 0
			}
			return n
		}
		before := begun()
		time.Sleep(2 * time.Second)
		after := begun()
		if err != nil {
			return nil, err
		}
		out = append(out, figure{fmt.Sprintf("recall of %d, 16 senders busy, %s", n, database), "2 s",
			took.Seconds() / 2, 1, fmt.Sprintf("%v; %d have it, %d may have it, %d will not",
				took.Round(time.Millisecond), r.HaveIt, r.MayHaveIt, r.WillNot)},
			figure{what: "begun after it had returned", floor: "none", ratio: float64(after - before), note: "letters"})
		stop()
		if err := <-ended; err != nil {
			return nil, err
		}
	}
	return out, nil
}
