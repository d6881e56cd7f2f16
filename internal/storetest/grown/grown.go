// Package grown fills the tables of a store as they are after months.
package grown

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"github.com/illumicode/illumicode/internal/store"
)

// rowsOf says how many rows a table has when plans are looked at: the largest 200,000.
func rowsOf(table string) int {
	if slices.Contains([]string{"delivery", "ended", "attempt", "challenge", "address", "trail"}, table) {
		return 200_000
	}
	return 20_000
}

// numbers begins a statement that adds some rows; n.i counts them.
const numbers = ` WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) SELECT `

// deliveryColumns are those of delivery and ended that have no default, or that matter here.
const deliveryColumns = `(id, challenge, generation, letter, locale, address, name, data, lane, state, created, due,
	deliver_before, claim, worker, claimed, attempts, spent, ended, note, zone, visible, bundle, version, once, held_by,
	app_key, lead, collapse, fallback, asked_by, trace)`

// columns are those that are filled; none for all.
var columns = map[string]string{"delivery": deliveryColumns, "ended": deliveryColumns}

// fills are the rows of the tables that grow. Text is made of numbers, so that no value is frequent but states.
var fills = map[string]string{
	"delivery": `'d' || i, CASE WHEN i % 3 = 0 THEN 'c' || i ELSE '' END, 0, 'moved', 'en', 'a' || i || '@x', '', '{}',
		CASE WHEN i % 5 = 0 THEN 'bulk' ELSE 'normal' END,
		CASE WHEN i % 50 = 0 THEN 'claimed' WHEN i % 70 = 0 THEN 'held' ELSE 'waiting' END,
		i, i, 0, 1, 'w' || (i % 7), i, 0, 0, 0, '', '', '', '', 1, 0,
		CASE WHEN i % 70 = 0 THEN 'lane: bulk' ELSE '' END,
		CASE WHEN i % 2 = 0 THEN 'k' || i ELSE '' END, 0, '', '', '', ''`,
	"ended": `'e' || i, CASE WHEN i % 3 = 0 THEN 'c' || i ELSE '' END, 0, 'moved', 'en', 'a' || i || '@x', '', '{}',
		'normal', CASE WHEN i % 90 = 0 THEN 'failed' ELSE 'sent' END, i, i, 0, 1, 'w', i, 1, 1, i, '', '', '', '', 1, 0,
		'', CASE WHEN i % 2 = 0 THEN 'k' || i ELSE '' END, 0, '', '', '', ''`,
	"attempt": `'e' || i, 1, 1, 'w', 'harbour', i, i, 'accepted', 250, '', '', 'r' || i, i, '', ''`,
	"challenge": `'c' || i, CASE WHEN i % 2 = 0 THEN 'signup' ELSE 'signin' END, 's' || i, 'a' || i || '@x', '', 'en',
		'k' || (i % 3), 't' || i, CASE WHEN i % 4 = 0 THEN 'open' ELSE 'accepted' END, 0, i, i, 1, 1, 8, 0, 5, 1,
		0, 0, 0, 0, 0, 0, '', 0, 'confirm', '{}', 'both', '', 'a' || i || '@x', '', '', 0, '', 0, '', '', 1,
		CASE WHEN i % 50 = 0 THEN 'c' || (i - 1) ELSE '' END, CASE WHEN i % 10 = 0 THEN 'x' ELSE '' END, ''`,
	"browser": `'b' || i, 's' || (i / 5), 'a' || (i / 5) || '@x', 'Firefox', 'c' || i, i, i, 0, 0, 0`,
	"address": `'s' || i, 'a' || i || '@x', CASE WHEN i % 9 = 0 THEN 'stale' ELSE 'confirmed' END, i,
		'a' || i || '@x', '', i, CASE WHEN i % 9 = 0 THEN i ELSE 0 END, '', 1`,
	"holder": `'a' || i || '@x', 's' || i, i`,
	"trail":  `i, 'c' || i, 's' || i, 'a' || i || '@x', i, 'begun', '', '', ''`,
	"change": `'h' || i, 's' || i, 'a' || i || '@x', 'a' || i || '@x', 'b' || i || '@x', 'b' || i || '@x', 'c' || i,
		CASE WHEN i % 40 = 0 THEN 'made' ELSE 'settled' END, 'k', i, i, 0, '', ''`,
	"tally":   `'l' || i, i, 1, i, 0, 0`,
	"failure": `'f' || i, 1, i`,
	"feedback": `'f' || i, 'harbour', 'e' || i, 'r' || i, 'a' || i || '@x', 'soft bounce', '', '', i, i, i,
		CASE WHEN i % 50 = 0 THEN 'waiting' ELSE 'applied' END, ''`,
	"suppression": `'m' || i, 'k' || (i % 3), 'a' || i || '@x', 'all', '', i, 0, ''`,
	"once":        `'o' || i, '', '', i`,
	"item":        `'d' || i, '1', '{}'`,
}

// Tables returns the names of the tables that are filled.
func Tables() []string { return slices.Sorted(maps.Keys(fills)) }

// Fill adds the rows, and lets the database count them.
func Fill(ctx context.Context, st *store.Store) error {
	all := []string{"ANALYZE"}
	for _, table := range Tables() {
		rows := fmt.Sprintf(numbers, rowsOf(table)) + fills[table] + " FROM n"
		all = append([]string{"INSERT INTO @" + table + " " + columns[table] + rows}, all...)
	}
	for _, text := range all {
		if _, err := st.DB().ExecContext(ctx, st.Words(text)); err != nil {
			return fmt.Errorf("%s: %w", text, err)
		}
	}
	return nil
}
