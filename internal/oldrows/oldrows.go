// Package oldrows fills a database with what ended long ago, for tests and measurements of its removal.
package oldrows

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
)

// Ended is when the rows of [Add] ended, in Unix milliseconds; nothing else ends then.
const Ended = 1

// Add copies a delivery that has ended, and its attempt, n times, as if all had been asked for years ago. There must be
// one already.
func Add(ctx context.Context, db *sql.DB, dialect string, n int) error {
	with := ""
	series, id := fmt.Sprintf("generate_series(1, %d) AS n(i)", n), "'01800000-' || lpad(to_hex(i), 12, '0')"
	if dialect == "sqlite" {
		with = fmt.Sprintf("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) ", n)
		series, id = "n", "'01800000-' || printf('%012x', i)"
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
				values[i] = fmt.Sprint(Ended)
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

// Left counts what is left of them.
func Left(ctx context.Context, db *sql.DB) (n int, err error) {
	err = db.QueryRowContext(ctx, fmt.Sprintf("SELECT COUNT(*) FROM illumicode_ended WHERE ended = %d", Ended)).Scan(&n)
	return n, err
}
