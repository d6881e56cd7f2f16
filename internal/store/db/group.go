package db

import (
	"context"
	"fmt"
	"slices"
	"strings"
)

// A Group is statements that do not depend on each other.
type Group struct {
	parts  []string
	joined string // all of them as one, for databases that can
}

var groups []Group

// Together declares statements that [Tx.Together] runs, as one where the database can.
func Together(parts ...string) *Group {
	g := Group{parts: parts}
	var b strings.Builder
	for i, part := range parts[:len(parts)-1] {
		sep := ", "
		if i == 0 {
			sep = "WITH "
		}
		fmt.Fprintf(&b, "%sstep%d AS (%s)", sep, i, part)
	}
	g.joined = b.String() + " " + parts[len(parts)-1]
	g.declare()
	return &g
}

// declare checks the group and adds it to those that are prepared.
func (g Group) declare() {
	for _, one := range g.parts {
		check(one)
	}
	check(g.joined)
	groups = append(groups, g)
}

// An Insert is a statement that adds one row, in parts.
type Insert struct{ into, values, conflict string }

// OrNothing returns the statement that does nothing where the row's key is there already.
func (i Insert) OrNothing(key string) Insert {
	i.conflict = " ON CONFLICT (" + key + ") DO NOTHING"
	return i
}

// Alone returns the statement.
func (i Insert) Alone() string { return i.into + " VALUES (" + i.values + ")" + i.conflict }

// Following declares a first insert, and others that happen only if it added its row.
func Following(first Insert, rest ...Insert) *Group {
	g := Group{parts: []string{first.Alone()}}
	var b strings.Builder
	b.WriteString("WITH step0 AS (" + first.Alone() + " RETURNING id)")
	for i, one := range rest {
		g.parts = append(g.parts, one.Alone())
		text := one.into + " SELECT " + one.values + " FROM step0" + one.conflict
		if i < len(rest)-1 {
			fmt.Fprintf(&b, ", step%d AS (%s)", i+1, text)
		} else {
			b.WriteString(" " + text)
		}
	}
	g.joined = b.String()
	g.declare()
	return &g
}

// Follow runs a group of [Following], and reports whether the first insert added its row.
func (t Tx) Follow(ctx context.Context, g *Group, args ...[]any) (bool, error) {
	if t.s.dialect.Together {
		n, err := t.Exec(ctx, g.joined, slices.Concat(args...)...)
		return n == 1, err
	}
	for i, part := range g.parts {
		n, err := t.Exec(ctx, part, args[i]...)
		if err != nil || i == 0 && n == 0 {
			return false, err
		}
	}
	return true, nil
}

// Together runs a group with the arguments of each part.
func (t Tx) Together(ctx context.Context, g *Group, args ...[]any) error {
	if t.s.dialect.Together {
		_, err := t.Exec(ctx, g.joined, slices.Concat(args...)...)
		return err
	}
	for i, part := range g.parts {
		if _, err := t.Exec(ctx, part, args[i]...); err != nil {
			return err
		}
	}
	return nil
}
