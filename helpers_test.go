package illumicode_test

import (
	"context"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/inbox"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

func readFile(tb testing.TB, name string) string {
	tb.Helper()
	raw, err := os.ReadFile(name)
	if err != nil {
		tb.Fatal(err)
	}
	return string(raw)
}

// inTx runs act in a transaction of the application's, and rolls it back on an error.
func inTx(tb testing.TB, k *illumicodetest.Kit, act func(illumicode.Tx) error) error {
	tb.Helper()
	tx, err := k.Service.Store().DB().BeginTx(tb.Context(), nil)
	if err != nil {
		tb.Fatal(err)
	}
	defer tx.Rollback()
	if err := act(k.Service.In(tx)); err != nil {
		return err
	}
	return tx.Commit()
}

// acceptIn accepts a proof, whether it counts or not.
func acceptIn(tb testing.TB, tx illumicode.Tx, p illumicode.Proof) error {
	tb.Helper()
	_, err := tx.Accept(tb.Context(), p)
	return err
}

// inTxCount runs act in a transaction of the service's, and returns what it counted.
func inTxCount(tb testing.TB, k *illumicodetest.Kit, act func(illumicode.Tx) (int64, error)) (n int64, err error) {
	tb.Helper()
	err = k.Service.Transact(tb.Context(), func(_ context.Context, tx illumicode.Tx) error {
		n, err = act(tx)
		return err
	})
	return n, err
}

// drained waits until no letter is due and none is under way.
func drained(t *testing.T, k *illumicodetest.Kit) {
	t.Helper()
	eventually(t, func() bool {
		all, err := flow.Of(k.Service).Store.List(t.Context(), store.Filter{}, "", 1000)
		return err == nil && !slices.ContainsFunc(all, func(d store.Delivery) bool {
			return d.State == store.Claimed || d.State == store.Waiting && !d.Due.After(k.Clock.Now())
		})
	})
}

// letterAbout waits for a letter whose subject begins so.
func letterAbout(t *testing.T, k *illumicodetest.Kit, to, subject string) (found *inbox.Letter) {
	t.Helper()
	eventually(t, func() bool {
		for _, l := range k.Inbox.Letters(to) {
			if strings.HasPrefix(l.Subject, subject) {
				found = l
			}
		}
		return found != nil
	})
	return found
}

func storeOf(k *illumicodetest.Kit) *store.Store { return flow.Of(k.Service).Store }
