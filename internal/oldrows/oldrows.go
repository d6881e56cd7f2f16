// Package oldrows fills a database with what ended long ago, for tests and measurements of its removal.
package oldrows

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Add copies a delivery that has ended, and its attempt, n times, as if all had been asked for and had ended at a
// moment. There must be one already.
func Add(ctx context.Context, db *sql.DB, dialect string, n int, at time.Time) error {
	made := fmt.Sprintf("%012x", at.UnixMilli()) // as ids begin (RFC 9562 §5.7)
	made = "'" + made[:8] + "-" + made[8:] + "-7000-8000-' || "
	with := ""
	series, id := fmt.Sprintf("generate_series(1, %d) AS n(i)", n), made+"lpad(to_hex(i), 12, '0')"
	if dialect == "sqlite" {
		with = fmt.Sprintf("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) ", n)
		series, id = "n", made+"printf('%012x', i)"
	}
	for table, key := range map[string]string{"illumicode_ended": "id", "illumicode_attempt": "delivery"} {
		names, err := columns(ctx, db, table)
		if err != nil {
			return err
		}
		values := slices.Clone(names)
		for i, name := range names {
			switch name {
			case key:
				values[i] = id
			case "ended":
				values[i] = fmt.Sprint(at.UnixMilli())
			}
		}
		_, err = db.ExecContext(ctx, "INSERT INTO "+table+" ("+strings.Join(names, ", ")+") "+with+"SELECT "+
			strings.Join(values, ", ")+" FROM "+series+", (SELECT * FROM "+table+" LIMIT 1) one")
		if err != nil {
			return err
		}
	}
	return nil
}

func columns(ctx context.Context, db *sql.DB, table string) ([]string, error) {
	rows, err := db.QueryContext(ctx, "SELECT * FROM "+table+" LIMIT 1")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	return rows.Columns()
}

// Left counts the deliveries that ended at a moment.
func Left(ctx context.Context, db *sql.DB, at time.Time) (n int, err error) {
	err = db.QueryRowContext(ctx, fmt.Sprintf("SELECT COUNT(*) FROM illumicode_ended WHERE ended = %d",
		at.UnixMilli())).Scan(&n)
	return n, err
}
