package db

import (
	"context"
	"errors"
)

// A Point is a moment of what a database is asked for.
type Point string

// The points. A statement outside of a transaction is one by itself.
const (
	TurnWanted Point = "a writer wants its turn"
	TurnHad    Point = "a writer has its turn"
	TurnGiven  Point = "a writer gives its turn on"
	ToBegin    Point = "a transaction is to begin"
	Began      Point = "a transaction has begun"
	ToCommit   Point = "a transaction is to commit"
	Committed  Point = "a transaction has committed"
	ToRun      Point = "a statement is to run" // or a pipeline of them, which commits
	Ran        Point = "a statement has run"
)

// A Seam is told of each point, and may wait there. Its error takes the place of what would follow: of ToRun and
// ToCommit, that it was not done; of Ran and Committed, that it was done and its answer was lost. A writer's turn
// cannot fail.
type Seam func(ctx context.Context, at Point, words string) error

// Watch has a seam be told of everything from now on. Call it before the database is used; nobody does in production.
func (s *Database) Watch(seam Seam) { s.seam = seam }

func (s *Database) at(ctx context.Context, at Point, words string) error {
	if s.seam == nil {
		return nil
	}
	return s.seam(ctx, at, words)
}

// begun begins a transaction of whatever kind between its two points.
func begun[T interface{ Rollback() error }](ctx context.Context, s *Database, begin func() (T, error)) (tx T,
	err error) {
	if err := s.at(ctx, ToBegin, ""); err != nil {
		return tx, err
	}
	if tx, err = begin(); err != nil {
		return tx, s.Explain(err)
	}
	if err := s.at(ctx, Began, ""); err != nil {
		return tx, errors.Join(err, tx.Rollback())
	}
	return tx, nil
}

// committed commits a transaction between its two points.
func (s *Database) committed(ctx context.Context, commit func() error) error {
	if err := s.at(ctx, ToCommit, ""); err != nil {
		return err
	}
	if err := commit(); err != nil {
		return s.Explain(err)
	}
	return s.at(ctx, Committed, "")
}
