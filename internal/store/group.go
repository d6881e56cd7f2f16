package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
)

// queries lists every query of the package, so that Ready can prepare them all.
var queries []string

// q declares a query.
func q(text string) string {
	queries = append(queries, text)
	return text
}

// A group is statements that do not depend on each other.
type group struct {
	parts  []string
	joined string // all of them as one, for databases that can
}

var groups []group

// together declares statements that [Tx.all] runs, as one where the database can.
func together(parts ...string) *group {
	g := group{parts: parts}
	var b strings.Builder
	for i, part := range parts[:len(parts)-1] {
		sep := ", "
		if i == 0 {
			sep = "WITH "
		}
		fmt.Fprintf(&b, "%sstep%d AS (%s)", sep, i, part)
	}
	g.joined = b.String() + " " + parts[len(parts)-1]
	groups = append(groups, g)
	return &g
}

// An insert is a statement that adds one row, in parts.
type insert struct{ into, values, conflict string }

// alone returns the statement.
func (i insert) alone() string { return i.into + " VALUES (" + i.values + ")" + i.conflict }

// following declares a first insert, and others that happen only if it added its row.
func following(first string, rest ...insert) *group {
	g := group{parts: []string{first}}
	var b strings.Builder
	b.WriteString("WITH step0 AS (" + first + " RETURNING id)")
	for i, one := range rest {
		g.parts = append(g.parts, one.alone())
		text := one.into + " SELECT " + one.values + " FROM step0" + one.conflict
		if i < len(rest)-1 {
			fmt.Fprintf(&b, ", step%d AS (%s)", i+1, text)
		} else {
			b.WriteString(" " + text)
		}
	}
	g.joined = b.String()
	groups = append(groups, g)
	return &g
}

// follow runs a group of following, and reports whether the first insert added its row.
func (t Tx) follow(ctx context.Context, g *group, args ...[]any) (bool, error) {
	if t.s.dialect.Together {
		n, err := t.exec(ctx, g.joined, slices.Concat(args...)...)
		return n == 1, err
	}
	for i, part := range g.parts {
		n, err := t.exec(ctx, part, args[i]...)
		if err != nil || i == 0 && n == 0 {
			return false, err
		}
	}
	return true, nil
}

// all runs a group with the arguments of each part.
func (t Tx) all(ctx context.Context, g *group, args ...[]any) error {
	if t.s.dialect.Together {
		_, err := t.exec(ctx, g.joined, slices.Concat(args...)...)
		return err
	}
	for i, part := range g.parts {
		if _, err := t.exec(ctx, part, args[i]...); err != nil {
			return err
		}
	}
	return nil
}
