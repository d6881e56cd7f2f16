package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver of the floor

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
	opened "github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/postgres"
)

// deadlineFigures measures a claim of 64 and the records of their begins and ends over connections that bound each
// statement, against the same over connections of the driver that bound nothing.
func deadlineFigures(scale int) ([]figure, error) {
	const group = 64
	ctx := context.Background()
	rounds := 20 * scale
	s, err := server()
	if err != nil {
		return nil, err
	}
	var turns []func() error
	for _, open := range []func(conn string) (*opened.Store, error){
		func(conn string) (*opened.Store, error) { return postgres.Open(ctx, conn, postgres.Options{}) },
		func(conn string) (*opened.Store, error) {
			db, err := sql.Open("pgx", conn)
			if err != nil {
				return nil, err
			}
			return postgres.Use(ctx, db, postgres.Options{Listen: "off"})
		},
	} {
		conn, err := s.Database(ctx)
		if err != nil {
			return nil, err
		}
		b := &bed{onServer: true}
		if b.dir, err = os.MkdirTemp("", "illumicode-bench-"); err != nil {
			return nil, err
		}
		if b.public, err = open(conn); err != nil {
			return nil, err
		}
		defer b.close()
		if err := b.open(nobody{}, nil); err != nil {
			return nil, err
		}
		if err := b.seed(ctx, group*(rounds+1)); err != nil {
			return nil, err
		}
		turns = append(turns, func() error { return b.work(ctx, group) })
	}
	times, err := inTurns(rounds, turns...)
	if err != nil {
		return nil, err
	}
	return []figure{{"claim and record with deadlines, PostgreSQL", "the same without",
		medianRatio(times[0], times[1]), 1.03,
		fmt.Sprintf("%v against %v for %d letters", median(times[0]), median(times[1]), group)}}, nil
}

// work claims n letters and records their begins and their ends.
func (b *bed) work(ctx context.Context, n int) error {
	now := time.Now()
	all, err := b.store.Claim(ctx, "bench", store.Reach{Lane: store.Bulk, Most: n}, now)
	if err != nil {
		return err
	}
	if len(all) != n {
		return fmt.Errorf("claimed %d of %d", len(all), n)
	}
	begins, ends := make([]store.Beginning, n), make([]store.End, n)
	for i, d := range all {
		a := store.Attempt{Delivery: d.ID, Number: 1, Claim: d.Claim, Worker: "bench", Provider: "sink", Begun: now}
		begins[i] = store.Beginning{Delivery: d, Attempt: a}
		a.Ended, a.Class, a.Code = now, retry.Accepted, 250
		ends[i] = store.End{Attempt: a, Claim: d.Claim, State: store.Sent, Spent: 1}
	}
	begun, err := b.store.Record(ctx, begins, nil)
	if err != nil {
		return err
	}
	if len(begun) != n {
		return errors.New("some claims were lost")
	}
	_, err = b.store.Record(ctx, nil, ends)
	return err
}
