package db

import "context"

// An Opened is a transaction that the store has begun for the application.
type Opened struct {
	Own      any // of the driver's type
	By       Runner
	Commit   func(ctx context.Context) error
	Rollback func(ctx context.Context) error // after a commit it does nothing
}

// Transact runs fn in a transaction as the application would begin it, and commits it if fn returns nil. The error of
// fn is returned as it is.
func (s *Database) Transact(ctx context.Context, fn func(own any, t Tx) error) error {
	begin := s.dialect.Begin
	if begin == nil {
		begin = s.beginSQL
	}
	if err := s.at(ctx, ToBegin, ""); err != nil {
		return err
	}
	tx, err := begin(ctx)
	if err != nil {
		return s.Explain(err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx)) // also after a panic
	if err := s.at(ctx, Began, ""); err != nil {
		return err
	}
	if err := fn(tx.Own, s.Through(tx.By)); err != nil {
		return err
	}
	return s.committed(ctx, func() error { return tx.Commit(ctx) })
}

func (s *Database) beginSQL(ctx context.Context) (Opened, error) {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return Opened{}, err
	}
	return Opened{
		Own: tx, By: sqlRunner{s: s, tx: tx},
		Commit:   func(context.Context) error { return tx.Commit() },
		Rollback: func(context.Context) error { return tx.Rollback() },
	}, nil
}
