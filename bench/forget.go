package main

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode"
	operators "github.com/illumicode/illumicode/desk"
)

// forgetFigures measures the erasure of a person with 50 letters among millions of rows: how long until nothing of the
// mailbox's own is left, and how much longer other writers' commits take meanwhile.
func forgetFigures(scale int) ([]figure, error) {
	var out []figure
	for _, database := range databases() {
		b, err := newBedOn(database, nobody{}, func(c *illumicode.Config) { c.Guard.Mode = "hold" })
		if err != nil {
			return nil, err
		}
		defer b.close()
		rows := 500_000 * scale
		person := illumicode.Request{Address: "mara@ternisle.example"}
		if err := b.fillOnce(rows, person); err != nil {
			return nil, err
		}
		w, err := b.newWriter(database)
		if err != nil {
			return nil, err
		}
		var own, whole time.Duration
		alone, err := w.beside(99, func() error { time.Sleep(10 * time.Second); return nil })
		if err != nil {
			return nil, err
		}
		var f operators.Forgotten
		meanwhile, err := w.beside(99, func() (err error) {
			began := time.Now()
			f, err = operators.New(b.svc).Forget(context.Background(), person.Address,
				operators.Erasure{Progress: func(f operators.Forgotten) {
					if own == 0 && f.Stage >= 2 {
						own = time.Since(began)
					}
				}})
			whole = time.Since(began)
			return err
		})
		if err != nil {
			return nil, err
		}
		if !f.Done || f.Rows < 50 {
			return nil, fmt.Errorf("%+v", f)
		}
		out = append(out, figure{fmt.Sprintf("forget at %d rows, the person's own 50 letters, %s", rows, database),
			"2 s",
			own.Seconds() / 2, 1, fmt.Sprintf("%v; the walk through %d rows: %v", own.Round(time.Millisecond), f.Looked,
				whole.Round(time.Second))},
			figure{"other writers' commits meanwhile, p99, over those without, " + database, "50 ms",
				float64(meanwhile-alone) / float64(50*time.Millisecond), 1, fmt.Sprintf("%v, %v without",
					meanwhile.Round(100*time.Microsecond), alone.Round(100*time.Microsecond))})
	}
	return out, nil
}

// fillOnce puts n ended deliveries into the database, and 50 to a person that are held.
func (b *bed) fillOnce(n int, to illumicode.Request) error {
	if err := b.open(nobody{}, nil); err != nil {
		return err
	}
	if err := b.age(n); err != nil {
		return err
	}
	for range 50 {
		if _, err := b.svc.Notify(context.Background(), illumicode.Notice{Letter: "trial", To: to}); err != nil {
			return err
		}
	}
	return nil
}

// A writer commits rows of the application's own.
type writer struct {
	b      *bed
	insert string
}

func (b *bed) newWriter(database string) (writer, error) {
	w := writer{b, "INSERT INTO app VALUES (?, 'a row of the application')"}
	if database == onPostgres {
		w.insert = strings.Replace(w.insert, "?", "$1", 1)
	}
	_, err := b.store.DB().Exec("CREATE TABLE app (id TEXT NOT NULL PRIMARY KEY, body TEXT NOT NULL)")
	return w, err
}

// beside runs do, commits a row every few milliseconds meanwhile, and returns a percentile of how long these took.
func (w writer) beside(percentile int, do func() error) (time.Duration, error) {
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	var took []time.Duration
	var writeErr error
	all.Go(func() {
		for ctx.Err() == nil && writeErr == nil {
			began := time.Now()
			_, writeErr = w.b.store.DB().Exec(w.insert, uuid.NewString())
			took = append(took, time.Since(began))
			time.Sleep(2 * time.Millisecond)
		}
	})
	err := do()
	stop()
	all.Wait()
	slices.Sort(took)
	return took[len(took)*percentile/100], errors.Join(err, writeErr)
}
