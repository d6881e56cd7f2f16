package store

import (
	"slices"
	"strings"
)

// A listQuery is a query with a list of rows in it, which travel as parameters: as JSON each field would be
// parsed by itself, which took longer than all the rest. A statement has room for one of a few numbers of
// rows; the room that is left holds rows of NULL.
type listQuery struct {
	width int
	texts [len(listSizes)]string
}

// mostListed is the most rows of one statement. A longer list takes several.
const mostListed = 64

// listSizes are the numbers of rows that statements have room for.
var listSizes = [...]int{1, 8, mostListed}

// lq declares a query that begins with "LIST r (name TYPE, …)", which stands for the table r of the rows.
func lq(text string) *listQuery {
	columns, rest, _ := strings.Cut(strings.TrimPrefix(oneLine(text), "LIST r ("), ")")
	var names, row []string
	for column := range strings.SplitSeq(columns, ", ") {
		name, kind, _ := strings.Cut(column, " ")
		names, row = append(names, name), append(row, "CAST(? AS "+kind+")")
	}
	l := &listQuery{width: len(names)}
	for i, n := range listSizes {
		rows := slices.Repeat([]string{"(" + strings.Join(row, ", ") + ")"}, n)
		l.texts[i] = q("WITH r (" + strings.Join(names, ", ") + ") AS (VALUES " + strings.Join(rows, ", ") + ")" + rest)
	}
	return l
}

// statements returns the statements that take all rows, and after them more.
func (l *listQuery) statements(rows [][]any, found func(Rows) error, more ...any) (all []Statement) {
	for some := range slices.Chunk(rows, mostListed) {
		i := slices.IndexFunc(listSizes[:], func(n int) bool { return n >= len(some) })
		args := make([]any, 0, listSizes[i]*l.width+len(more))
		for _, row := range some {
			args = append(args, row...)
		}
		args = append(args[:listSizes[i]*l.width], more...) // what was not set is nil
		all = append(all, Statement{l.texts[i], args, found})
	}
	return all
}

// filled is true of every row of a list that has a positive number in a column, and of none that only fills
// the room. It also makes PostgreSQL's planner expect a single row, and look the others up in an index: for
// some dozens it would read the whole of a table that is still small, and go on when it no longer is.
func filled(column string) string { return column + " BETWEEN 1 AND 9000000000000000000" }
