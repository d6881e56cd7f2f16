package world

import (
	"context"
	"fmt"
	"regexp"
	"strings"
)

// Secrets returns where in the database a secret stands that was in a letter, a browser or a form; "" for nowhere.
func (w *World) Secrets(ctx context.Context) (string, error) {
	wanted := []string{secret}
	for _, l := range w.way.letters {
		wanted = append(wanted, l.code, string(l.link), string(l.takeBack))
	}
	for _, b := range w.browsers {
		wanted = append(wanted, string(b.ticket), b.known)
	}
	for _, table := range w.tables {
		rows, err := w.dump(ctx, table)
		if err != nil {
			return "", err
		}
		for _, one := range wanted {
			if one != "" && (strings.Contains(rows, one) && !isCode.MatchString(one) || alone(rows, one)) {
				return fmt.Sprintf("%s holds %q", table, one), nil
			}
		}
	}
	return "", nil
}

var (
	isCode = regexp.MustCompile(`^\d+$`)
	runs   = regexp.MustCompile(`\d+`)
)

// alone reports whether a code stands in a text, and not as a part of a longer number.
func alone(rows, code string) bool {
	if !strings.Contains(rows, code) {
		return false
	}
	for _, run := range runs.FindAllString(rows, -1) {
		if run == code {
			return true
		}
	}
	return false
}

// dump returns all values of a table as text.
func (w *World) dump(ctx context.Context, table string) (string, error) {
	rows, err := w.query(ctx, "SELECT * FROM "+table)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return "", err
	}
	values, into := make([]any, len(names)), make([]any, len(names))
	for i := range values {
		into[i] = &values[i]
	}
	var b strings.Builder
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return "", err
		}
		for _, v := range values {
			fmt.Fprintf(&b, "%s\x00", v)
		}
	}
	return b.String(), rows.Err()
}
