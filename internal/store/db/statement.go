package db

import (
	"context"
	"errors"
	"slices"
)

// A Statement is one of a transaction, which does not depend on what those before it return.
type Statement struct {
	Query string // as it was declared; for a pipeline in the database's own words
	Args  []any
	Found func(Rows) error // is given the rows, and closes them; nil where there are none
}

// ErrNoPipeline is returned by [Dialect.Pipeline] where a connection cannot do that. Nothing was done.
var ErrNoPipeline = errors.New("store: this connection sends one statement at a time")

// Run runs statements one after another.
func (t Tx) Run(ctx context.Context, all ...Statement) error {
	for _, one := range all {
		var err error
		if one.Found == nil {
			_, err = t.Exec(ctx, one.Query, one.Args...)
		} else {
			var rows Rows
			if rows, err = t.Query(ctx, one.Query, one.Args...); err == nil {
				err = one.Found(rows)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// ByIndex runs statements as a transaction of its own, by the indexes that they are made for; plain does where
// the database needs not be told. A queue goes from nothing to a storm in a second: a plan that was made for a
// table of some rows, and kept, would read all of it each time, until the database next looks how large it is.
func (s *Database) ByIndex(ctx context.Context, plain func(context.Context, ...Statement) error,
	all ...Statement) error {
	if s.dialect.ByIndex == "" {
		return plain(ctx, all...)
	}
	return s.Writes(ctx, append([]Statement{{Query: s.dialect.ByIndex}}, all...)...)
}

// ByIndex has the rest of a transaction take the indexes that its statements are made for, where the database needs to
// be told.
func (t Tx) ByIndex(ctx context.Context) error {
	if t.s.dialect.ByIndex == "" {
		return nil
	}
	_, err := t.Exec(ctx, t.s.dialect.ByIndex)
	return err
}

// Writes runs statements as a transaction of the store's own: in one round trip, where the database is behind
// one.
func (s *Database) Writes(ctx context.Context, all ...Statement) error {
	if s.dialect.Pipeline != nil {
		said := slices.Clone(all)
		for i := range said {
			said[i].Query = s.Words(said[i].Query)
		}
		if err := s.at(ctx, ToRun, said[0].Query); err != nil {
			return err
		}
		if err := s.dialect.Pipeline(ctx, s.db, said); !errors.Is(err, ErrNoPipeline) {
			if err != nil {
				return s.Explain(err)
			}
			return s.at(ctx, Ran, said[0].Query)
		}
	}
	if len(all) == 1 { // it is a transaction by itself
		unlock, err := s.lock(ctx)
		if err != nil {
			return err
		}
		defer unlock()
		return s.Alone().Run(ctx, all...)
	}
	return s.Write(ctx, func(t Tx) error { return t.Run(ctx, all...) })
}
