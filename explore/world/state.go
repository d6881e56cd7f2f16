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
		w.number(digest)
	}
	return err
}

func (w *World) number(digest string) int {
	n, known := w.challenges[digest]
	if !known {
		n = len(w.challenges)
		w.challenges[digest] = n
	}
	return n
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

// seen is all that a state says but which address works: rows of a kind, whose or which it is, and words.
const seen = `SELECT kind || '|' || whose || '|' || words FROM (
	SELECT 'address' AS kind, subject AS whose, SUBSTR(address, 7, 1) || ' ' || standing AS words, '' AS first,
		address AS second FROM illumicode_address WHERE subject <> ''
	UNION ALL SELECT 'browser', subject, '' || COUNT(*), '', '' FROM illumicode_browser GROUP BY subject
	UNION ALL SELECT 'holder', subject, SUBSTR(mailbox, 7, 1), '', mailbox FROM illumicode_holder
	UNION ALL SELECT 'change', subject, 'change from ' || SUBSTR(old_address, 7, 1) || ' to ' ||
		SUBSTR(new_address, 7, 1) || ' is ' || state, '' || made, id FROM illumicode_change
	UNION ALL SELECT 'challenge', ticket, CASE WHEN why = 'lapsed' THEN why ELSE state END || ', ' || tries ||
		' tries spent, rung ' || resends || ', code ' || generation, '' || created, id FROM illumicode_challenge
	UNION ALL SELECT 'letter', id, letter || ' to address ' || CASE address WHEN '' THEN '-1'
		ELSE SUBSTR(address, 7, 1) END || ': ' || state || ' after ' || attempts || ' tries', '', id FROM
		(SELECT id, letter, address, state, attempts FROM illumicode_delivery
		UNION ALL SELECT id, letter, address, state, attempts FROM illumicode_ended) AS d) AS s
	ORDER BY kind, first, second`

// State is what the model's State says, read from the service.
func (w *World) State(ctx context.Context) (out []string, err error) {
	all, err := w.column(ctx, seen)
	if err != nil {
		return nil, err
	}
	has, browsers := map[string][]string{}, map[string]string{}
	w.letters = nil
	for _, row := range all {
		kind, rest, _ := strings.Cut(row, "|")
		whose, words, _ := strings.Cut(rest, "|")
		switch kind {
		case "address":
			has[whose] = append(has[whose], words)
		case "browser":
			browsers[whose] = words
		case "holder":
			out = append(out, fmt.Sprintf("address %s is held by %s", words, whose))
		case "change":
			out = append(out, whose+": "+words)
		case "challenge":
			out = append(out, fmt.Sprintf("challenge %d is %s", w.number(whose), words))
		case "letter":
			out = append(out, fmt.Sprintf("letter %d, %s", len(w.letters), words))
			w.letters = append(w.letters, whose)
		}
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
	return out, nil
}
