package main

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/store"
)

// claimFigures measures a claim of sixteen with many rows waiting, and with a snapshot held open while
// others were claimed, against the same with a thousand, in turns.
func claimFigures(scale int) ([]figure, error) {
	sizes := map[string][]int{onSQLite: {10_000 * scale, 100_000 * scale},
		onPostgres: {10_000 * scale, 100_000 * scale, 500_000 * scale}}
	var out []figure
	for _, database := range databases() {
		some, err := claimsOn(database, sizes[database], 20_000*scale)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

func claimsOn(database string, sizes []int, taken int) ([]figure, error) {
	const few = 1000
	ctx := context.Background()
	var all []*claimer
	defer func() {
		for _, c := range all {
			c.close()
		}
	}()
	for _, n := range append([]int{few}, sizes...) {
		c, err := newClaimer(ctx, database, n)
		if err != nil {
			return nil, err
		}
		all = append(all, c)
	}
	behind, err := newClaimer(ctx, database, taken+few)
	if err != nil {
		return nil, err
	}
	all = append(all, behind)
	if err := behind.hold(ctx); err != nil {
		return nil, err
	}
	for done := 0; done < taken; done += 200 {
		if err := behind.claim(ctx, 200); err != nil {
			return nil, err
		}
	}
	if database == onPostgres { // or the first claims would be timed while it writes what the seeding has left
		if _, err := behind.store.DB().ExecContext(ctx, "CHECKPOINT"); err != nil {
			return nil, err
		}
	}
	time.Sleep(600 * time.Millisecond) // its mark catches up, as it would at the pace of sending
	var turns []func() error
	for _, c := range all {
		turns = append(turns, func() error { return c.claim(ctx, 16) })
	}
	times, err := inTurns(few/16-2, turns...)
	if err != nil {
		return nil, err
	}
	floor := median(times[0])
	points = append(points, point{database, few, floor})
	var out []figure
	for i, n := range sizes {
		d := median(times[i+1])
		points = append(points, point{database, n, d})
		out = append(out, figure{fmt.Sprintf("claim of 16 with %d waiting, %s", n, database), "with 1000 waiting",
			medianRatio(times[i+1], times[0]), 1.3,
			fmt.Sprintf("%v against %v", d, floor)})
	}
	last := times[len(times)-1]
	return append(out, figure{fmt.Sprintf("claim of 16 after %d others, a snapshot held open, %s", taken, database),
		"with 1000 waiting", medianRatio(last, times[0]), 1.3,
		fmt.Sprintf("%v against %v", median(last), floor)}), nil
}

// A claimer claims as a worker does: each claim begins where one of half a second ago ended.
type claimer struct {
	*bed
	steps []claimed
	held  *sql.Tx
}

type claimed struct {
	at   time.Time
	mark store.Mark
}

// newClaimer returns one for a bed of its own with n rows waiting.
func newClaimer(ctx context.Context, database string, n int) (*claimer, error) {
	b, err := newBedOn(database, nobody{}, nil)
	if err != nil {
		return nil, err
	}
	return &claimer{bed: b}, b.seed(ctx, n)
}

// hold takes a snapshot, which is held until the end.
func (c *claimer) hold(ctx context.Context) (err error) {
	var o sql.TxOptions
	if o.ReadOnly = true; c.store.Dialect() == "postgres" {
		o.Isolation = sql.LevelRepeatableRead
	}
	if c.held, err = c.store.DB().BeginTx(ctx, &o); err != nil {
		return err
	}
	var count int
	return c.held.QueryRow("SELECT COUNT(*) FROM illumicode_delivery").Scan(&count)
}

func (c *claimer) close() {
	if c.held != nil {
		c.held.Rollback()
	}
	c.bed.close()
}

func (c *claimer) claim(ctx context.Context, n int) error {
	for len(c.steps) > 1 && time.Since(c.steps[1].at) > 500*time.Millisecond {
		c.steps = c.steps[1:]
	}
	var mark store.Mark
	if len(c.steps) > 0 && time.Since(c.steps[0].at) > 500*time.Millisecond {
		mark = c.steps[0].mark
	}
	now := time.Now()
	got, err := c.store.Claim(ctx, "bench", store.Reach{Lane: store.Bulk, After: mark, Most: n}, now)
	for _, d := range got {
		if d.Due.After(mark.Due) || d.ID > mark.ID {
			mark = store.Mark{Due: d.Due, ID: d.ID}
		}
	}
	if err == nil && len(got) != n {
		err = fmt.Errorf("claimed %d of %d", len(got), n)
	}
	c.steps = append(c.steps, claimed{now, mark})
	return err
}

// seed puts n waiting bulk rows into the outbox, made from one by the database itself.
func (b *bed) seed(ctx context.Context, n int) error {
	if _, err := b.svc.Notify(ctx, illumicode.Notice{Letter: "trial", Lane: delivery.Bulk,
		To: illumicode.Request{Address: "mara@ternisle.example"}}); err != nil {
		return err
	}
	db := b.store.DB()
	rows, err := db.QueryContext(ctx, "SELECT * FROM illumicode_delivery LIMIT 1")
	if err != nil {
		return err
	}
	names, err := rows.Columns()
	rows.Close()
	if err != nil {
		return err
	}
	rest := "d." + strings.Join(names[1:], ", d.")
	series, id := fmt.Sprintf(
		"(WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < %d) SELECT i FROM s) s", n-1),
		"printf('seed%012d', s.i)"
	if b.store.Dialect() == "postgres" {
		series, id = fmt.Sprintf("generate_series(1, %d) s(i)", n-1), "'seed' || lpad(s.i::text, 12, '0')"
	}
	if _, err := db.ExecContext(ctx, "INSERT INTO illumicode_delivery SELECT "+id+", "+rest+
		" FROM illumicode_delivery d, "+series); err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, "ANALYZE") // as autovacuum soon would
	return err
}
