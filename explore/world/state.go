package world

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"strings"

	"github.com/illumicode/illumicode/explore/model"
)

// learn numbers the challenges that there are, in the order in which they are seen.
func (w *World) learn(ctx context.Context) error {
	all, err := w.column(ctx, "SELECT ticket FROM illumicode_challenge ORDER BY created, id")
	for _, digest := range all {
		if _, known := w.challenges[digest]; !known {
			w.challenges[digest] = len(w.challenges)
		}
	}
	return err
}

// query runs a query, which is prepared once.
func (w *World) query(ctx context.Context, query string) (*sql.Rows, error) {
	if stmt, ok := w.queries.Load(query); ok {
		return stmt.(*sql.Stmt).QueryContext(ctx)
	}
	stmt, err := w.store.DB().PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	w.queries.Store(query, stmt)
	return stmt.QueryContext(ctx)
}

// column returns the only column of a query.
func (w *World) column(ctx context.Context, query string) (out []string, err error) {
	rows, err := w.query(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one string
		if err := rows.Scan(&one); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, rows.Err()
}

// The queries of a state, each with one column of words.
const (
	addressesHad = `SELECT subject || '|' || SUBSTR(address, 7, 1) || ' ' || standing FROM illumicode_address
		WHERE subject <> '' ORDER BY subject, address`
	browsersHad = `SELECT subject || '|' || COUNT(*) FROM illumicode_browser GROUP BY subject`
	changesHad  = `SELECT subject || ': change from ' || SUBSTR(old_address, 7, 1) || ' to ' ||
		SUBSTR(new_address, 7, 1) || ' is ' || state FROM illumicode_change ORDER BY made, id`
	holdersHad = `SELECT 'address ' || SUBSTR(mailbox, 7, 1) || ' is held by ' || subject
		FROM illumicode_holder ORDER BY mailbox`
	challengesHad = `SELECT ticket || '|' || CASE WHEN why = 'lapsed' THEN why ELSE state END || ', ' || tries ||
		' tries spent, rung ' || resends || ', code ' || generation FROM illumicode_challenge ORDER BY created, id`
	lettersHad = `SELECT id || '|' || letter || ' to address ' || CASE address WHEN '' THEN '-1'
		ELSE SUBSTR(address, 7, 1) END || ': ' || state || ' after ' || attempts || ' tries' FROM
		(SELECT id, letter, address, state, attempts FROM illumicode_delivery
		UNION ALL SELECT id, letter, address, state, attempts FROM illumicode_ended) AS d ORDER BY id`
)

// State is what the model's State says, read from the service.
func (w *World) State(ctx context.Context) (out []string, err error) {
	all := map[string][]string{}
	for _, query := range []string{addressesHad, browsersHad, changesHad, holdersHad, challengesHad,
		lettersHad} {
		if all[query], err = w.column(ctx, query); err != nil {
			return nil, err
		}
	}
	has, browsers := map[string][]string{}, map[string]string{}
	for _, row := range all[addressesHad] {
		subject, one, _ := strings.Cut(row, "|")
		has[subject] = append(has[subject], one)
	}
	for _, row := range all[browsersHad] {
		subject, n, _ := strings.Cut(row, "|")
		browsers[subject] = n
	}
	for n := 1; n <= model.Accounts; n++ {
		name := account(n)
		if len(has[name]) == 0 && browsers[name] == "" {
			continue
		}
		relied, err := w.svc.Address(ctx, name)
		if err != nil {
			return nil, err
		}
		out = append(out, fmt.Sprintf("%s has %s; works: %s; known browsers: %s", name, strings.Join(has[name], ", "),
			cmp.Or(strings.TrimSuffix(strings.TrimPrefix(relied, "person"), "@ternisle.example"), "none"),
			cmp.Or(browsers[name], "0")))
	}
	if err := w.learn(ctx); err != nil {
		return nil, err
	}
	for _, row := range all[challengesHad] {
		digest, words, _ := strings.Cut(row, "|")
		out = append(out, fmt.Sprintf("challenge %d is %s", w.challenges[digest], words))
	}
	w.letters = make([]string, 0, len(all[lettersHad]))
	for i, row := range all[lettersHad] {
		id, words, _ := strings.Cut(row, "|")
		w.letters = append(w.letters, id)
		out = append(out, fmt.Sprintf("letter %d, %s", i, words))
	}
	return append(append(out, all[changesHad]...), all[holdersHad]...), nil
}
