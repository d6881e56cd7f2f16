package store

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/store/queue"
)

// A walked table is one that an erasure looks through, by its primary key.
type walked struct {
	table   string
	keys    []string
	mention []string // columns in which others' rows may speak of a mailbox: it is taken out there
	rows    int      // of a piece; 0 for 500
	created bool     // it says when a row was made: what is younger than the erasure stays, and counts as what remains
	again   bool     // it is walked through once more, which counts what remains
}

var lists = []walked{
	{table: "fanout_piece", keys: []string{"fanout", "piece"}, mention: []string{"people"}, rows: 20},
	{table: "fanout", keys: []string{"id"}, mention: []string{"draft"}},
	{table: "shared", keys: []string{"id"}, mention: []string{"data"}},
}

var letterTexts = []string{"visible", "data", "asked_by", "note", "fallback", "collapse"}

var tables = []walked{
	{table: "item", keys: []string{"delivery", "id"}, mention: []string{"data"}},
	{table: "delivery", keys: []string{"id"}, mention: letterTexts, created: true, again: true},
	{table: "ended", keys: []string{"id"}, mention: letterTexts, created: true},
	{table: "delivery", keys: []string{"id"}, mention: letterTexts, created: true},
	{table: "attempt", keys: []string{"delivery", "number"}, mention: []string{"reply"}},
	{table: "challenge", keys: []string{"id"}, mention: []string{"data", "name", "device"}, created: true},
	{table: "change", keys: []string{"id"}, created: true},
	{table: "browser", keys: []string{"id"}, mention: []string{"name"}},
	{table: "registration", keys: []string{"subject"}},
	{table: "address", keys: []string{"subject", "address"}, mention: []string{"reason"}},
	{table: "holder", keys: []string{"mailbox"}},
	{table: "trail", keys: []string{"seq"}, mention: []string{"outcome"}},
	{table: "failure", keys: []string{"name"}},
	{table: "suppression", keys: []string{"thumb", "scope"}, mention: []string{"reason"}},
	{table: "preference", keys: []string{"mailbox", "category"}},
	{table: "feedback", keys: []string{"id"}, mention: []string{"words", "note", "remote"}},
	{table: "event", keys: []string{"seq"}, mention: []string{"data", "subject"}, again: true},
	{table: "event_aside", keys: []string{"seq"}, mention: []string{"data", "subject", "reason"}},
	{table: "event", keys: []string{"seq"}, mention: []string{"data", "subject"}},
	{table: "recall", keys: []string{"id"}, mention: []string{"address", "why"}},
	{table: "recall_pass", keys: []string{"recall", "delivery"}},
	{table: "attachment", keys: []string{"bundle", "position"}},
	{table: "once", keys: []string{"name"}},
	{table: "pause", keys: []string{"kind", "name"}},
	{table: "setting", keys: []string{"name"}},
	{table: "tally", keys: []string{"name"}},
	{table: "spool", keys: []string{"id"}},
	{table: "pace", keys: []string{"provider", "domain"}},
	{table: "share", keys: []string{"provider", "worker"}},
	{table: "way", keys: []string{"name"}},
	{table: "worker", keys: []string{"id"}},
	{table: "process", keys: []string{"id"}},
}

func walks(all []walked) []stage {
	steps := make([]stage, len(all))
	for i, w := range all {
		if w.rows == 0 {
			w.rows = 500
		}
		steps[i] = w.piece
	}
	return steps
}

// forgotten stands where an address was.
const forgotten = "forgotten@invalid"

// piece looks at the next rows of a table.
func (w walked) piece(ctx context.Context, e *Erasure) (more bool, err error) {
	if err := e.readColumns(ctx); err != nil {
		return false, err
	}
	columns := e.columns[w.table]
	where, from := "1 = 1", e.position
	if len(from) > 0 {
		where = w.beside(">")
	}
	names := strings.Join(w.keys, ", ")
	keys, err := e.all(ctx, len(w.keys),
		fmt.Sprintf("SELECT %s FROM @%s WHERE %s ORDER BY %s LIMIT %d",
			names, w.table, where, names, w.rows), from...)
	if err != nil || len(keys) == 0 {
		return false, err
	}
	last := keys[len(keys)-1]
	found, err := e.mentioning(ctx, w, where, slices.Concat(from, last), columns)
	if err != nil {
		return false, err
	}
	if len(found) > 0 {
		_, err := e.write(ctx, func(t Tx) (total int64, err error) {
			for _, key := range found {
				n, err := w.takeOut(ctx, t, e, key, columns)
				if total += n; err != nil {
					return total, err
				}
			}
			return total, nil
		})
		if err != nil {
			return false, err
		}
	}
	e.position = last
	e.Looked += int64(len(keys))
	return len(keys) == w.rows, nil
}

// all runs a query by the primary key, whatever the planner knows of the table, and returns rows of n values.
func (e *Erasure) all(ctx context.Context, n int, text string, args ...any) (found [][]any, err error) {
	err = e.store.ByIndex(ctx, e.store.Alone().Run, db.Statement{Query: text, Args: args,
		Found: func(rows db.Rows) (err error) {
			found, err = db.Collect(e.store, rows, scanValues(n))
			return err
		}})
	return found, err
}

// beside compares the key of a row with one that is bound.
func (w walked) beside(how string) string {
	return "(" + strings.Join(w.keys, ", ") + ") " + how + " (" + strings.Repeat("?, ", len(w.keys)-1) + "?)"
}

// mentioning returns the keys of the rows in a range that hold a spelling in any text.
func (e *Erasure) mentioning(ctx context.Context, w walked, where string, args []any,
	columns []string) (keys [][]any, err error) {
	if len(columns) == 0 {
		return nil, nil
	}
	text := "LOWER(" + strings.Join(columns, " || ' ' || ") + ")"
	like := make([]string, len(e.Spellings))
	for i, one := range e.Spellings {
		like[i] = text + " LIKE ? ESCAPE '!'"
		args = append(args, within(one))
	}
	return e.all(ctx, len(w.keys), fmt.Sprintf("SELECT %s FROM @%s WHERE %s AND %s AND (%s)",
		strings.Join(w.keys, ", "), w.table, where, w.beside("<="), strings.Join(like, " OR ")), args...)
}

// takeOut takes the spellings out of what mentions them in a row, and notes where else they stand.
func (w walked) takeOut(ctx context.Context, t Tx, e *Erasure, key []any, columns []string) (changed int64, err error) {
	created := "0"
	if w.created {
		created = "created"
	}
	rows, err := db.All(ctx, t, scanValues(1+len(columns)), fmt.Sprintf("SELECT %s, %s FROM @%s WHERE %s @lock()",
		created, strings.Join(columns, ", "), w.table, w.beside("=")), key...)
	if err != nil || len(rows) == 0 { // it has gone since
		return 0, err
	}
	at, _ := rows[0][0].(int64)
	younger := at > db.Millis(e.Began)
	var set []string
	var args []any
	for i, column := range columns {
		text := fmt.Sprint(rows[0][1+i])
		rest, err := e.without(column, text)
		switch {
		case err != nil:
			return 0, fmt.Errorf("store: the people of list %v cannot be read: %w", key[0], err)
		case rest == text:
		case slices.Contains(w.mention, column) && !younger:
			set, args = append(set, column+" = ?"), append(args, rest)
		case !w.again:
			e.Remains[w.table+"."+column]++
		}
	}
	if set == nil {
		return 0, nil
	}
	return t.Exec(ctx, fmt.Sprintf("UPDATE @%s SET %s WHERE %s", w.table, strings.Join(set, ", "), w.beside("=")),
		append(args, key...)...)
}

// without returns a text without the mailbox that is erased.
func (e *Erasure) without(column, text string) (rest string, err error) {
	rest = text
	for _, spelling := range e.Spellings {
		switch {
		case find(rest, spelling) < 0:
			continue
		case column == "fallback" && lower(rest) == spelling:
			return "", nil
		case column == "people":
			if rest, err = queue.WithoutPerson(rest, spelling); err != nil {
				return "", err
			}
		}
		rest = replaceFold(rest, spelling, forgotten)
	}
	return rest, nil
}

// readColumns asks the database which texts its tables have.
func (e *Erasure) readColumns(ctx context.Context) error {
	if e.columns != nil {
		return nil
	}
	all, err := e.store.TextColumns(ctx)
	if err != nil {
		return err
	}
	e.columns = make(map[string][]string)
	for _, c := range all {
		table := strings.TrimPrefix(c[0], "illumicode_")
		e.columns[table] = append(e.columns[table], c[1])
	}
	return nil
}

// NotWalked are the tables without a text about people, and that of erasures, whose row goes with its end.
var NotWalked = []string{"attachment_piece", "erasure", "migration"}

// Walked reports whether erasures look through a table.
func Walked(table string) bool {
	return slices.ContainsFunc(slices.Concat(lists, tables), func(w walked) bool { return w.table == table })
}

// scanValues scans n values of texts and numbers.
func scanValues(n int) func(db.Scanner) ([]any, error) {
	return func(r db.Scanner) ([]any, error) {
		row, dest := make([]any, n), make([]any, n)
		for i := range row {
			dest[i] = &row[i]
		}
		return row, r.Scan(dest...)
	}
}

// within returns the pattern of LIKE for texts that hold a spelling.
func within(spelling string) string {
	return "%" + strings.NewReplacer("!", "!!", "%", "!%", "_", "!_").Replace(spelling) + "%"
}

// replaceFold replaces an address wherever it stands in a text, in whatever case.
func replaceFold(text, old, by string) string {
	var b strings.Builder
	for {
		i := find(text, old)
		if i < 0 {
			return b.String() + text
		}
		b.WriteString(text[:i] + by)
		text = text[i+len(old):]
	}
}

// find returns where an address stands in a text, in whatever case, or -1. Where it is a part of a longer one, as
// ann@quay.example is of joann@quay.example and of ann@quay.example.org, it does not stand.
func find(text, address string) int {
	small := lower(text)
	for from := 0; ; {
		i := strings.Index(small[from:], address)
		if i < 0 {
			return -1
		}
		i += from
		end := i + len(address)
		if !(i > 0 && goesOn(small[i-1], "._-+")) && !(end < len(small) && (goesOn(small[end], "-") ||
			small[end] == '.' && end+1 < len(small) && goesOn(small[end+1], ""))) {
			return i
		}
		from = i + 1
	}
}

// goesOn reports whether an address goes on with a byte: a letter, a digit, what no ASCII is, or one of more.
func goesOn(c byte, more string) bool {
	return c >= 0x80 || 'a' <= c && c <= 'z' || '0' <= c && c <= '9' || strings.IndexByte(more, c) >= 0
}
