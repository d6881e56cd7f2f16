package illumicode_test

import (
	"context"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/illumicodetest"
)

// A worker without the application's callback, such as `illumicode deliver`, closes nothing that the application wants
// to hear of: a process that only serves tells it, later and once, of a signup and of an address's grace.
func TestLapsesWaitForWhoHears(t *testing.T) {
	var mu sync.Mutex
	var heard []illumicode.Lapse
	deaf := illumicodetest.New(t)
	told := illumicodetest.Idle(t, func(c *illumicode.Config) {
		c.Store, c.Keys, c.Now = deaf.Service.Store(), deaf.Keys, deaf.Clock.Now
		c.Outbox = delivery.Settings{Senders: -1, Poll: 20 * time.Millisecond}
		c.Recheck.Grace = 24 * time.Hour
		c.Lapsed = func(_ context.Context, _ illumicode.Tx, l illumicode.Lapse) error {
			mu.Lock()
			defer mu.Unlock()
			heard = append(heard, l)
			return nil
		}
	})
	ctx := t.Context()
	p, err := told.Service.Signup(ctx, illumicode.Request{Address: mara}, illumicode.Subject("a"))
	if err != nil {
		t.Fatal(err)
	}
	if err := told.Service.ConfirmCode(ctx, p.Ticket, deaf.Letter(mara, 1).Code(), nil); err != nil {
		t.Fatal(err)
	}
	if err := told.Service.Transact(ctx, func(ctx context.Context, tx illumicode.Tx) error {
		return tx.MarkStale(ctx, illumicode.Holding{Subject: "a", Address: mara}, illumicode.Doubt{Reason: "old"})
	}); err != nil {
		t.Fatal(err)
	}
	const other = "ines@ternisle.example"
	if _, err := told.Service.Signup(ctx, illumicode.Request{Address: other}, illumicode.Subject("b")); err != nil {
		t.Fatal(err)
	}
	if _, err := deaf.Service.Signup(ctx, illumicode.Request{Address: "jens@ternisle.example"},
		illumicode.Subject("c")); err != nil { // its own nobody hears of, so it may close it
		t.Fatal(err)
	}
	deaf.Clock.Move(4 * 24 * time.Hour)
	st := storeOf(deaf)
	eventually(t, func() bool {
		all, err := st.Lapsed(ctx, deaf.Clock.Now(), true, 10)
		return err == nil && len(all) == 1 && all[0].Subject == "b"
	})
	if over, err := st.GraceOver(ctx, deaf.Clock.Now(), true, 10); err != nil || len(over) != 1 {
		t.Errorf("the grace that waits to be told: %v, %v", over, err)
	}
	running, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- told.Service.Run(running) }()
	eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return len(heard) == 2 })
	time.Sleep(100 * time.Millisecond) // a few more looks
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	subjects := []string{heard[0].Subject, heard[1].Subject}
	slices.Sort(subjects)
	if len(heard) != 2 || !slices.Equal(subjects, []string{"a", "b"}) {
		t.Errorf("the application heard %+v", heard)
	}
}
