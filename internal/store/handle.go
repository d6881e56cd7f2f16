package store

import (
	"context"
)

// HeldStore is what the public store embeds, so that other packages of this module reach the queries and applications
// do not.
type HeldStore struct{ store *Store }

func (h HeldStore) held() *Store   { return h.store }
func (h *HeldStore) fill(s *Store) { h.store = s }

// Publish makes public, which is new, the public form of s.
func Publish(public interface{ fill(*Store) }, s *Store) { public.fill(s) }

// Of returns the store of a public one; nil for the zero value.
func Of(public interface{ held() *Store }) *Store { return public.held() }

// HeldHandle is what a public handle on a transaction embeds, for the same reason.
type HeldHandle struct {
	own any
	by  Runner
}

func (h HeldHandle) handle() (any, Runner)          { return h.own, h.by }
func (h *HeldHandle) fillHandle(own any, by Runner) { h.own, h.by = own, by }

// PublishHandle makes public, which is new, a handle on the transaction own, in which by runs queries.
func PublishHandle(public interface{ fillHandle(any, Runner) }, own any, by Runner) {
	public.fillHandle(own, by)
}

// OfHandle returns the transaction of a public handle, and what runs queries in it; nil for the zero value.
func OfHandle(public interface{ handle() (any, Runner) }) (own any, by Runner) {
	return public.handle()
}

// An Opened is a transaction that the store has begun for the application.
type Opened struct {
	Own      any // of the driver's type
	By       Runner
	Commit   func(ctx context.Context) error
	Rollback func(ctx context.Context) error // after a commit it does nothing
}

// Transact runs fn in a transaction as the application would begin it, and commits it if fn returns nil. The error of
// fn is returned as it is.
func (s *Store) Transact(ctx context.Context, fn func(own any, t Tx) error) error {
	begin := s.dialect.Begin
	if begin == nil {
		begin = s.beginSQL
	}
	tx, err := begin(ctx)
	if err != nil {
		return s.explain(err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx)) // also after a panic
	if err := fn(tx.Own, s.Through(tx.By)); err != nil {
		return err
	}
	return s.explain(tx.Commit(ctx))
}

func (s *Store) beginSQL(ctx context.Context) (Opened, error) {
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
