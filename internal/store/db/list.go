package db

import (
	"slices"
	"strings"
)

// A ListQuery is a query with a list of rows in it, which travel as parameters: as JSON each field would be
// parsed by itself, which took longer than all the rest. A statement has room for one of a few numbers of
// rows; the room that is left holds rows of NULL.
type ListQuery[T any] struct {
	columns Columns[T]
	texts   [len(listSizes)]string
}

// MostListed is the most rows of one statement. A longer list takes several.
const MostListed = 64

// listSizes are the numbers of rows that statements have room for.
var listSizes = [...]int{1, 8, MostListed}

// ListQ declares a query in which the table r has the rows of a list.
func ListQ[T any](c Columns[T], text string) *ListQuery[T] {
	l := &ListQuery[T]{columns: c}
	row := "(" + c.Expressions(Values{}) + ")"
	for i, n := range listSizes {
		rows := strings.Join(slices.Repeat([]string{row}, n), ", ")
		l.texts[i] = Q("WITH r (" + c.Names() + ") AS @materialized() (VALUES " + rows + ") " + text)
	}
	return l
}

// Statements returns the statements that take all rows, and after them more.
func (l *ListQuery[T]) Statements(rows []T, found func(Rows) error, more ...any) (all []Statement) {
	for some := range slices.Chunk(rows, MostListed) {
		i := slices.IndexFunc(listSizes[:], func(n int) bool { return n >= len(some) })
		room := listSizes[i] * len(l.columns)
		args := make([]any, 0, room+len(more))
		for k := range some {
			args = l.columns.append(args, &some[k])
		}
		all = append(all, Statement{l.texts[i], append(args[:room], more...), found}) // what was not set is nil
	}
	return all
}

// Filled is true of every row of a list that has a positive number in a column, and of none that only fills
// the room. It also makes PostgreSQL's planner expect a single row, and look the others up in an index: for
// some dozens it would read the whole of a table that is still small, and go on when it no longer is.
func Filled(column string) string { return column + " BETWEEN 1 AND 9000000000000000000" }

// Text returns the query with room for some rows.
func (l *ListQuery[T]) Text() string { return l.texts[1] }
