package storetest

import (
	"database/sql"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/storetest/grown"
)

// Plans checks that no query that is asked all the time reads a large table of a store that [grown.Fill] has filled
// from end to end.
func Plans(t *testing.T, st *store.Store) {
	explain := map[string]func(*testing.T, *store.Store, db.HotQuery) []string{
		"sqlite": sqlitePlan, "postgres": postgresPlan}
	grown := strings.Join(grown.Tables(), "|")
	// In SQLite r is a list, f what a query has found; an index of some rows may be read from end to end.
	whole := map[string]*regexp.Regexp{
		"sqlite": regexp.MustCompile(`^SCAN (illumicode_(` + grown +
			`)|[a-eg-qs-z])( USING (COVERING )?INDEX sqlite\w+)?$`),
		"postgres": regexp.MustCompile(`Seq Scan on illumicode_(` + grown + `)\b`)}
	for name, query := range db.HotQueries() {
		t.Run(name, func(t *testing.T) {
			plan := explain[st.Dialect()](t, st, query)
			for _, line := range plan {
				if whole[st.Dialect()].MatchString(line) {
					t.Errorf("a large table is read from end to end:\n%s\n%s", strings.Join(plan, "\n"),
						st.Words(query.Text))
					break
				}
			}
		})
	}
}

// sqlitePlan returns the plan of SQLite, a line each.
func sqlitePlan(t *testing.T, st *store.Store, query db.HotQuery) []string {
	words := st.Words(query.Text)
	args := make([]any, strings.Count(words, "?"))
	for i := range args {
		args[i] = "0"
	}
	return lines(t, st.DB(), "EXPLAIN QUERY PLAN "+words, 4, args...)
}

// postgresPlan returns the plan of PostgreSQL for any values, a line each.
func postgresPlan(t *testing.T, st *store.Store, query db.HotQuery) []string {
	t.Helper()
	words := st.Words(query.Text)
	n := 0
	for strings.Contains(words, fmt.Sprintf("$%d", n+1)) {
		n++
	}
	tx, err := st.DB().BeginTx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	mode := "SET LOCAL plan_cache_mode = force_generic_plan"
	if query.ByIndex {
		mode = db.PostgresByIndex
	}
	for _, text := range []string{mode, "PREPARE looked_at AS " + words} {
		if _, err := tx.ExecContext(t.Context(), text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
	defer tx.ExecContext(t.Context(), "DEALLOCATE looked_at")
	call := "EXPLAIN EXECUTE looked_at"
	if n > 0 {
		call += "(" + strings.TrimSuffix(strings.Repeat("'0', ", n), ", ") + ")"
	}
	return lines(t, tx, call, 1)
}

// lines returns the last column of what a query returns.
func lines(t *testing.T, by interface {
	Query(query string, args ...any) (*sql.Rows, error)
}, query string, width int, args ...any) (all []string) {
	t.Helper()
	rows, err := by.Query(query, args...)
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	defer rows.Close()
	for rows.Next() {
		row, dest := make([]sql.NullString, width), make([]any, width)
		for i := range row {
			dest[i] = &row[i]
		}
		if err := rows.Scan(dest...); err != nil {
			t.Fatal(err)
		}
		all = append(all, row[width-1].String)
	}
	if err := rows.Err(); err != nil || len(all) == 0 {
		t.Fatalf("%s: no plan, %v", query, err)
	}
	return all
}
