package main

import (
	"context"
	"fmt"
	"time"

	"github.com/illumicode/illumicode/internal/oldrows"
)

// advised is what docs/outbox.md says of busy tables.
const advised = "ALTER TABLE illumicode_ended SET (autovacuum_vacuum_scale_factor = 0.02)"

// vacuumFigures measures how much larger the table of ended letters gets while a twentieth of it is removed and added
// each day, for eight days of some seconds, with PostgreSQL's own settings and with those that docs advise.
func vacuumFigures(scale int) ([]figure, error) {
	if !wanted(onPostgres) {
		return nil, nil
	}
	var out []figure
	for _, settings := range []string{"", advised} {
		grown, dead, err := churn(settings, 100_000*scale)
		if err != nil {
			return nil, err
		}
		f := figure{fmt.Sprintf("ended letters after 8 days of a twentieth, as PostgreSQL is, %s", onPostgres),
			"the first day",
			grown, 0, fmt.Sprintf("%d dead rows are left", dead)}
		if settings != "" {
			f.what, f.goal = "the same, with autovacuum_vacuum_scale_factor = 0.02, "+onPostgres, 1.1
		}
		out = append(out, f)
	}
	return out, nil
}

// churn returns how much larger the table is after eight days than before, and how many removed rows are left in it.
func churn(settings string, rows int) (grown float64, dead int64, err error) {
	b, err := newBedOn(onPostgres, nobody{}, nil)
	if err != nil {
		return 0, 0, err
	}
	defer b.close()
	ctx, db := context.Background(), b.store.DB()
	for _, text := range []string{"ALTER SYSTEM SET autovacuum_naptime = '1s'", "SELECT pg_reload_conf()", settings} {
		if text == "" {
			continue
		}
		if _, err := db.ExecContext(ctx, text); err != nil {
			return 0, 0, err
		}
	}
	if err := b.age(1); err != nil { // a row to copy
		return 0, 0, err
	}
	day := func(n int) time.Time { return longAgo.AddDate(0, 0, n+1) } // the first day has the row that is copied
	const days = 20
	for n := range days {
		if err := oldrows.Add(ctx, db, b.store.Dialect(), rows/days, day(n)); err != nil {
			return 0, 0, err
		}
	}
	if _, err := db.ExecContext(ctx, "VACUUM ANALYZE illumicode_ended"); err != nil {
		return 0, 0, err
	}
	size := func() (n float64, err error) {
		err = db.QueryRowContext(ctx, "SELECT pg_total_relation_size('illumicode_ended')").Scan(&n)
		return n, err
	}
	before, err := size()
	if err != nil {
		return 0, 0, err
	}
	for n := range 8 {
		if err := oldrows.Add(ctx, db, b.store.Dialect(), rows/days, day(days+n)); err != nil {
			return 0, 0, err
		}
		sweep := b.store.Sweep(day(n).Add(time.Hour), time.Time{})
		for done := false; !done && err == nil; {
			_, done, err = sweep.Piece(ctx)
		}
		if err != nil {
			return 0, 0, err
		}
		time.Sleep(4 * time.Second) // the night, in which autovacuum may come
	}
	after, err := size()
	if err == nil {
		err = db.QueryRowContext(ctx, "SELECT n_dead_tup FROM pg_stat_user_tables WHERE relname = 'illumicode_ended'").
			Scan(&dead)
	}
	return after / before, dead, err
}
