package db

import (
	"encoding/json"
	"fmt"
	"maps"
	"strings"
	"time"
)

// A Column is a column of a table, and where its value is in a row of type T.
type Column[T any] struct {
	name, kind string
	value      func(*T) any // as it is bound
	target     func(*T) any // what scans it
}

// Columns are those of a table. Rows are written and read through them, so that their order matters to nobody but
// [Values].
type Columns[T any] []Column[T]

// Text is a column of text.
func Text[T any, S ~string](name string, at func(*T) *S) Column[T] {
	return Column[T]{name, "TEXT", func(t *T) any { return string(*at(t)) }, func(t *T) any { return at(t) }}
}

// MaybeText is a column of text, or NULL for nil.
func MaybeText[T any](name string, at func(*T) **string) Column[T] {
	return Column[T]{name, "TEXT", func(t *T) any {
		if s := *at(t); s != nil {
			return *s
		}
		return nil
	}, func(t *T) any { return at(t) }}
}

// Number is a column of small numbers.
func Number[T any](name string, at func(*T) *int) Column[T] {
	return Column[T]{name, "INTEGER", func(t *T) any { return *at(t) }, func(t *T) any { return at(t) }}
}

// Count is a column of numbers.
func Count[T any](name string, at func(*T) *int64) Column[T] {
	return Column[T]{name, "BIGINT", func(t *T) any { return *at(t) }, func(t *T) any { return at(t) }}
}

// Bool is a column of truth values.
func Bool[T any](name string, at func(*T) *bool) Column[T] {
	return Column[T]{name, "INTEGER", func(t *T) any { return Flag(*at(t)) },
		func(t *T) any { return boolTarget{at(t)} }}
}

// Time is a column of instants in Unix milliseconds.
func Time[T any](name string, at func(*T) *time.Time) Column[T] {
	return Column[T]{name, "BIGINT", func(t *T) any { return Millis(*at(t)) },
		func(t *T) any { return timeTarget{at(t)} }}
}

// Micros is a column of instants in Unix microseconds.
func Micros[T any](name string, at func(*T) *time.Time) Column[T] {
	return Column[T]{name, "BIGINT", func(t *T) any { return microsOf(*at(t)) },
		func(t *T) any { return microsTarget{at(t)} }}
}

// Span is a column of durations in milliseconds.
func Span[T any](name string, at func(*T) *time.Duration) Column[T] {
	return Column[T]{name, "BIGINT", func(t *T) any { return at(t).Milliseconds() },
		func(t *T) any { return spanTarget{at(t)} }}
}

type (
	boolTarget   struct{ to *bool }
	timeTarget   struct{ to *time.Time }
	microsTarget struct{ to *time.Time }
	spanTarget   struct{ to *time.Duration }
)

func (b boolTarget) Scan(v any) error   { return number(v, func(n int64) { *b.to = n != 0 }) }
func (t timeTarget) Scan(v any) error   { return number(v, func(n int64) { *t.to = Instant(n) }) }
func (t microsTarget) Scan(v any) error { return number(v, func(n int64) { *t.to = ofMicros(n) }) }
func (s spanTarget) Scan(v any) error {
	return number(v, func(n int64) { *s.to = time.Duration(n) * time.Millisecond })
}

func number(v any, take func(int64)) error {
	n, ok := v.(int64)
	if !ok {
		return fmt.Errorf("store: the database gave %T for a number", v)
	}
	take(n)
	return nil
}

// microsOf returns t in Unix microseconds, 0 for the zero time.
func microsOf(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}

func ofMicros(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.UnixMicro(n).UTC()
}

// Names returns the names, as in SELECT and INSERT.
func (c Columns[T]) Names() string { return c.join(func(one Column[T]) string { return one.name }) }

func (c Columns[T]) join(say func(Column[T]) string) string {
	all := make([]string, len(c))
	for i, one := range c {
		all[i] = say(one)
	}
	return strings.Join(all, ", ")
}

// Pick returns the columns of these names, in their order.
func (c Columns[T]) Pick(names ...string) Columns[T] {
	all := make(Columns[T], len(names))
	for i, name := range names {
		all[i] = c.named(name)
	}
	return all
}

// Plus returns the columns, and besides them some that no row has: in Insert each needs an expression.
func (c Columns[T]) Plus(names ...string) Columns[T] {
	all := c[:len(c):len(c)]
	for _, name := range names {
		all = append(all, Column[T]{name: name})
	}
	return all
}

func (c Columns[T]) named(name string) Column[T] {
	for _, one := range c {
		if one.name == name {
			return one
		}
	}
	panic(fmt.Sprintf("store: there is no column %q among %s", name, c.Names()))
}

// Scan reads a row that was selected with Names.
func (c Columns[T]) Scan(r Scanner) (row T, err error) {
	dest := make([]any, len(c))
	for i, one := range c {
		dest[i] = one.target(&row)
	}
	err = r.Scan(dest...)
	return row, err
}

// Args returns the values of a row, as they are bound.
func (c Columns[T]) Args(row T) []any { return c.append(make([]any, 0, len(c)), &row) }

func (c Columns[T]) append(args []any, row *T) []any {
	for _, one := range c {
		args = append(args, one.value(row))
	}
	return args
}

// Values are expressions of SQL by the names of the columns that they are for. Parameters in them are bound in the
// order of the columns, and not of the Values.
type Values map[string]string

// With returns them with one more.
func (v Values) With(name, expression string) Values {
	all := maps.Clone(v)
	all[name] = expression
	return all
}

// Expressions returns an expression for each column: the one of set, or a parameter of the column's type.
func (c Columns[T]) Expressions(set Values) string {
	return c.set(set, func(one Column[T]) string { return "CAST(? AS " + one.kind + ")" })
}

// From returns an expression for each column: the one of set, or the column of its name of a table.
func (c Columns[T]) From(table string, set Values) string {
	return c.set(set, func(one Column[T]) string { return table + "." + one.name })
}

// FromEach returns an expression for each column: the one of set, or the member of its name of the JSON objects of
// @each(alias).
func (c Columns[T]) FromEach(alias string, set Values) string {
	return c.set(set, func(one Column[T]) string {
		if one.kind == "TEXT" {
			return alias + ".value ->> '" + one.name + "'"
		}
		return "CAST(" + alias + ".value ->> '" + one.name + "' AS " + one.kind + ")"
	})
}

func (c Columns[T]) set(set Values, other func(Column[T]) string) string {
	c.all(set)
	return c.join(func(one Column[T]) string {
		if v, ok := set[one.name]; ok {
			return v
		}
		return other(one)
	})
}

// all panics where set names a column that is not there.
func (c Columns[T]) all(set Values) {
	for name := range set {
		c.named(name)
	}
}

// Without returns the columns that set does not name.
func (c Columns[T]) Without(set Values) (rest Columns[T]) {
	c.all(set)
	for _, one := range c {
		if _, ok := set[one.name]; !ok {
			rest = append(rest, one)
		}
	}
	return rest
}

// Copy returns the statement that copies rows of one table to another, with the expressions of set in their places.
func (c Columns[T]) Copy(from, to string, set Values) string {
	return "INSERT INTO @" + to + " (" + c.Names() + ") SELECT " + c.From("illumicode_"+from, set) + " FROM @" + from
}

// An InsertOf adds a row of type T.
type InsertOf[T any] struct {
	Insert
	columns Columns[T] // that are bound
}

// Insert returns the statement that adds a row to a table, with the expressions of set in their places.
func (c Columns[T]) Insert(table string, set Values) InsertOf[T] {
	return InsertOf[T]{columns: c.Without(set), Insert: Insert{
		into:   "INSERT INTO @" + table + " (" + c.Names() + ")",
		values: c.set(set, func(Column[T]) string { return "?" })}}
}

// Args returns the values of a row that are bound.
func (i InsertOf[T]) Args(row T) []any { return i.columns.Args(row) }

// OrNothing is [Insert.OrNothing].
func (i InsertOf[T]) OrNothing(key string) InsertOf[T] {
	i.Insert = i.Insert.OrNothing(key)
	return i
}

// Objects returns rows as a JSON array of objects, for @each.
func (c Columns[T]) Objects(rows []T) string {
	all := make([]map[string]any, len(rows))
	for i := range rows {
		all[i] = make(map[string]any, len(c))
		for _, one := range c {
			all[i][one.name] = one.value(&rows[i])
		}
	}
	return List(all)
}

// List returns a JSON array, for @listed and @each.
func List[T any](all []T) string {
	if all == nil {
		return "[]"
	}
	raw, err := json.Marshal(all)
	if err != nil {
		panic(err) // strings and numbers always marshal
	}
	return string(raw)
}
