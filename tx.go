package illumicode

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/store"
)

// insideTx lets the other public packages of this module reach the store's side of a transaction.
type insideTx = flow.HeldTx

// A Tx makes Illumicode's writes in a transaction of the application's, and gives the application its own: [Tx.SQL] for
// database/sql, [Own] for a driver's type. Its calls never judge a limit or a code and never fail on a conflict. Every
// call on a Tx of no transaction returns [ErrNoTx]. Like the transaction, it is not safe for concurrent use.
type Tx struct {
	insideTx
	s   *Service
	own any
}

// ErrNoTx means that a call was made on no transaction.
var ErrNoTx = errors.New(
	"illumicode: there is no transaction; take a Tx from a callback, from Service.In or Service.On")

// rows returns the store's side of the transaction.
func (t Tx) rows() rows.Tx { return flow.Rows(t) }

// ok returns ErrNoTx for a Tx of no transaction.
func (t Tx) ok() error {
	if t.s == nil || t.own == nil {
		return ErrNoTx
	}
	return nil
}

// SQL returns the application's own transaction. It panics if that is not of database/sql; see [Own].
func (t Tx) SQL() *sql.Tx { return Own[*sql.Tx](t) }

// Own returns the application's own transaction as the type that its driver or mapper has, such as pgx.Tx. It panics
// with both types if the transaction has another one: which type a store gives is decided when it is opened.
func Own[T any](t Tx) T {
	own, ok := t.own.(T)
	if !ok {
		panic(fmt.Sprintf("illumicode: the transaction is a %T, and not a %T", t.own, *new(T)))
	}
	return own
}

// In returns the calls that write in the application's own transaction. tx must be on the database of the service's
// store. The caller commits or rolls back, and calls [Service.Wake] after a commit; [Service.Transact] does both.
func (s *Service) In(tx *sql.Tx) Tx {
	if tx == nil {
		return Tx{}
	}
	return s.tx(tx, s.p.Store.In(tx))
}

// On is [Service.In] for a handle on a transaction of another kind: of pgx ([postgres.Handle]), or of a mapper that
// hides its transaction ([store.Adapt]).
//
// [postgres.Handle]: https://pkg.go.dev/github.com/illumicode/illumicode/store/postgres#Handle
func (s *Service) On(h store.Handle) Tx {
	own, by := rows.OfHandle(h)
	if own == nil {
		return Tx{}
	}
	return s.tx(own, s.p.Store.Through(by))
}

func (s *Service) tx(own any, side rows.Tx) Tx {
	return Tx{insideTx: flow.HoldTx(side), s: s, own: own}
}

// Transact runs fn in a transaction of the service's own, commits it if fn returns nil, and wakes the workers. After an
// error, which it returns, or a panic, nothing has happened. On SQLite fn must not begin another transaction on the
// same database.
func (s *Service) Transact(ctx context.Context, fn func(ctx context.Context, tx Tx) error) error {
	done := func() {}
	err := flow.Own(ctx, func(ctx context.Context) (err error) {
		done, err = s.p.Store.AwaitWriter(ctx)
		return err
	})
	if err != nil {
		return err
	}
	defer done()
	err = s.p.Store.Transact(ctx, func(own any, side rows.Tx) error { return fn(ctx, s.tx(own, side)) })
	if err == nil {
		s.Wake()
	}
	return err
}
