package illumicode_test

import (
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/store"
)

// An application calls letters back: a reminder that is not due, the rest of a list, and a fallback are held; who has
// one already is told, once; ended, the others go.
func TestDeskRecall(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		d, ctx := desk.New(k.Service), t.Context()
		ended(t, k, notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1)}), store.Sent)
		later := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(2), At: k.Clock.Now().Add(time.Hour),
			To: illumicode.Request{Address: "ole@skerry.example"}})
		r, err := d.Recall(ctx, desk.Choice{Letter: "moved"}, "the wrong pier")
		if err != nil || r.HaveIt != 1 || r.WillNot != 1 || r.MayHaveIt != 0 {
			t.Fatalf("%+v, %v", r, err)
		}
		if _, err := k.Service.NotifyAll(ctx, illumicode.Notice{Letter: "moved", Data: pier(3)},
			func(yield func(illumicode.Recipient, error) bool) {
				for i := range 3 {
					yield(illumicode.Recipient{Request: illumicode.Request{Address: crew(i)}}, nil)
				}
			}); err != nil {
			t.Fatal(err)
		}
		eventually(t, func() bool {
			sum, err := d.Summary(ctx)
			return err == nil && sum.Count["held"] == 4
		})
		for why, n := range map[string]illumicode.Notice{
			"which the recall would hold": {Letter: "moved", Data: pier(4)},
			"whose data are none":         {Letter: "trial", Data: func() {}}} {
			if n, err := d.Correct(ctx, r.ID, n, false); err == nil {
				t.Errorf("a correction %s: %d", why, n)
			}
		}
		for _, want := range []int{1, 0} {
			var n int
			eventually(t, func() bool { // until the correction before is made out
				var err error
				n, err = d.Correct(ctx, r.ID, illumicode.Notice{Letter: "trial"}, true)
				return err == nil
			})
			if n != want {
				t.Errorf("%d corrections, want %d", n, want)
			}
		}
		if n, err := d.ReleaseRecalled(ctx, r.ID, desk.Choice{Address: crew(1)}); err != nil || n != 1 {
			t.Errorf("released %d, %v", n, err)
		}
		k.Letter(crew(1), 1)
		if n, err := d.EndRecall(ctx, r.ID); err != nil || n != 3 {
			t.Errorf("released %d, %v at the end", n, err)
		}
		k.Letter(crew(0), 1)
		k.Clock.Move(time.Hour)
		ended(t, k, later, store.Sent)
	}, withPier(t), func(c *illumicode.Config) { c.Outbox.Poll = 10 * time.Millisecond })
}

func crew(i int) string { return string(rune('a'+i)) + "@ternisle.example" }
