package store

import (
	"context"

	"github.com/illumicode/illumicode/internal/store/db"
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
	by  db.Runner
}

func (h HeldHandle) handle() (any, db.Runner)          { return h.own, h.by }
func (h *HeldHandle) fillHandle(own any, by db.Runner) { h.own, h.by = own, by }

// PublishHandle makes public, which is new, a handle on the transaction own, in which by runs queries.
func PublishHandle(public interface{ fillHandle(any, db.Runner) }, own any, by db.Runner) {
	public.fillHandle(own, by)
}

// OfHandle returns the transaction of a public handle, and what runs queries in it; nil for the zero value.
func OfHandle(public interface{ handle() (any, db.Runner) }) (own any, by db.Runner) {
	return public.handle()
}

// Transact runs fn in a transaction as the application would begin it, and commits it if fn returns nil. The error of
// fn is returned as it is.
func (s *Store) Transact(ctx context.Context, fn func(own any, t Tx) error) error {
	return s.Database.Transact(ctx, func(own any, t db.Tx) error { return fn(own, txOf(t)) })
}
