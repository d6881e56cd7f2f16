package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/illumicode/illumicode"
)

// notifyFigures measures adding a notice in a transaction against a bare insert of the same row,
// and a list of many against batched inserts of the same rows.
func notifyFigures(scale int) ([]figure, error) {
	var out []figure
	for _, database := range databases() {
		one, err := oneNotice(database, scale)
		if err != nil {
			return nil, err
		}
		many, err := longList(database, 10_000*scale)
		if err != nil {
			return nil, err
		}
		out = append(append(out, one), many...)
	}
	return out, nil
}

func oneNotice(database string, scale int) (figure, error) {
	b, err := newBedOn(database, nobody{}, nil)
	if err != nil {
		return figure{}, err
	}
	defer b.close()
	ctx, db := context.Background(), b.store.DB()
	notice := illumicode.Notice{Letter: "trial", To: illumicode.Request{Address: "mara@ternisle.example", Name: "Mara"}}
	ours := func() error {
		return tx(db, func(t *sql.Tx) error {
			_, err := b.svc.In(t).Notify(ctx, notice)
			return err
		})
	}
	if err := ours(); err != nil {
		return figure{}, err
	}
	row, err := newRowCopy(db, "illumicode_delivery", []string{"id"})
	if err != nil {
		return figure{}, err
	}
	bare := func() error { return tx(db, row.insert) }
	times, err := inTurns(200*scale, ours, bare)
	if err != nil {
		return figure{}, err
	}
	return figure{"notify in a transaction, " + database, "bare insert of the same row",
		medianRatio(times[0], times[1]), 1.3,
		fmt.Sprintf("%v against %v", median(times[0]), median(times[1]))}, nil
}

// longList measures a notice to n: enqueued and expanded, against inserting n rows of the same
// kind, fifty a statement and two hundred a transaction. On SQLite the application goes on writing
// small rows meanwhile, and the 95th of a hundred is reported.
func longList(database string, n int) ([]figure, error) {
	var figures []figure
	var ours, floor, slow []time.Duration
	for range 3 {
		took, p95, err := expandList(database, n)
		if err != nil {
			return nil, err
		}
		bare, err := bareRows(database, n)
		if err != nil {
			return nil, err
		}
		ours, floor, slow = append(ours, took), append(floor, bare), append(slow, p95)
	}
	figures = append(figures, figure{fmt.Sprintf("rows of a list of %d, %s", n, database),
		"batched inserts of the same rows", 1 / medianRatio(ours, floor), -0.5,
		fmt.Sprintf("%.0f/s against %.0f/s", rate(n, median(ours)), rate(n, median(floor)))})
	if database == onSQLite {
		figures = append(figures, figure{"meanwhile the application's own writes, p95", "10 ms",
			float64(median(slow)) / float64(10*time.Millisecond), 1, fmt.Sprint(median(slow))})
	}
	return figures, nil
}

func expandList(database string, n int) (took, p95 time.Duration, err error) {
	// expand, and send nothing
	b, err := newBedOn(database, nobody{}, func(c *illumicode.Config) { c.Guard.Mode = "hold" })
	if err != nil {
		return 0, 0, err
	}
	defer b.close()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	w, err := b.newWriter(database)
	if err != nil {
		return 0, 0, err
	}
	ended := make(chan error, 1)
	start := time.Now()
	go func() { ended <- b.svc.Run(ctx) }()
	expand := func() error {
		if _, err := b.svc.NotifyAll(ctx, illumicode.Notice{Letter: "trial"}, passengers(n)); err != nil {
			return err
		}
		for any := true; any; time.Sleep(2 * time.Millisecond) {
			if any, err = b.store.AnyPiece(ctx); err != nil {
				return err
			}
		}
		took = time.Since(start)
		return nil
	}
	if database == onSQLite {
		p95, err = w.beside(95, expand)
	} else {
		err = expand()
	}
	stop()
	return took, p95, errors.Join(err, <-ended)
}

func bareRows(database string, n int) (time.Duration, error) {
	b, err := newBedOn(database, nobody{}, nil)
	if err != nil {
		return 0, err
	}
	defer b.close()
	if _, err := b.svc.Notify(context.Background(),
		illumicode.Notice{Letter: "trial", To: illumicode.Request{Address: "mara@ternisle.example"}}); err != nil {
		return 0, err
	}
	const batch, perTx = 50, 4
	row, err := newRowCopy(b.store.DB(), "illumicode_delivery", []string{"id"})
	if err != nil {
		return 0, err
	}
	address := slices.Index(row.names, "address")
	insert, err := b.store.DB().Prepare(row.many(batch, database))
	if err != nil {
		return 0, err
	}
	start := time.Now()
	for done := 0; done < n; {
		err := tx(b.store.DB(), func(t *sql.Tx) error {
			for range perTx {
				var args []any
				for made := range batch {
					for _, i := range row.fresh {
						row.values[i] = uuid.Must(uuid.NewV7()).String()
					}
					row.values[address] = passenger(done + made) // as the list has them
					args = append(args, row.values...)
				}
				if _, err := t.Stmt(insert).Exec(args...); err != nil {
					return err
				}
				done += batch
			}
			return nil
		})
		if err != nil {
			return 0, err
		}
	}
	return time.Since(start), nil
}
