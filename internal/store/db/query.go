package db

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// queries lists every query that was declared, so that Ready can prepare them all.
var queries []string

// Q declares a query. One that cannot be said in the words of every database is a fault of this program.
func Q(text string) string {
	queries = append(queries, check(text))
	return text
}

// check panics where a query cannot be said in the words of every database.
func check(text string) string {
	for _, w := range everyWords {
		compile(text, w)
	}
	return text
}

// everyWords are the words of every database.
var everyWords = []Words{SQLite(), Postgres("")}

// declared returns every query that can be run; with groups as one, where the database can.
func declared(together bool) []string {
	all := slices.Clone(queries)
	for _, g := range groups {
		if together {
			all = append(all, g.joined)
		} else {
			all = append(all, g.parts...)
		}
	}
	return all
}

// Words are how one database says what the others say differently.
type Words struct {
	Parameter func(n int) string                 // the nth, from 1
	Table     func(name string) string           // where a table of ours is
	Calls     map[string]func(arg string) string // each gives SQL, in which there may be further calls
}

// tables are the names of ours.
var tables = []string{"address", "attachment", "attachment_piece", "attempt", "browser", "challenge", "change",
	"delivery", "ended", "erasure", "event", "event_aside", "failure", "fanout", "fanout_piece", "feedback", "holder",
	"item",
	"migration", "once", "outbox", "pace", "pause", "preference", "process", "recall", "recall_pass",
	"registration", "setting", "share", "shared", "spool", "suppression", "tally", "trail", "way", "worker"}

// compile says a query in a database's words, on one line.
func compile(text string, w Words) string { return newCompiler(w, true).run(text) }

// compileScript says SQL of many statements, whose line breaks and comments stay.
func compileScript(text string, w Words) string { return newCompiler(w, false).run(text) }

func newCompiler(w Words, fold bool) *compiler { return &compiler{w: w, fold: fold} }

// A compiler reads SQL once, from left to right.
type compiler struct {
	w          Words
	fold       bool // white space becomes one space
	parameters int
	out        strings.Builder
}

func (c *compiler) run(text string) string {
	c.out.Grow(len(text) + len(text)/4)
	c.read(text)
	return c.out.String()
}

func (c *compiler) read(text string) {
	for rest := text; rest != ""; {
		n := 1
		switch one := rest[0]; {
		case one == '\'':
			n = literal(rest)
			c.out.WriteString(rest[:n])
		case strings.HasPrefix(rest, "--"):
			if n = strings.IndexByte(rest, '\n') + 1; n == 0 {
				n = len(rest)
			}
			if !c.fold {
				c.out.WriteString(rest[:n])
			}
		case one == '?':
			c.parameters++
			c.out.WriteString(c.w.Parameter(c.parameters))
		case one == '@':
			n = c.call(rest)
		case c.fold && isSpace(one):
			n = len(rest) - len(strings.TrimLeft(rest, " \t\r\n"))
			c.out.WriteByte(' ')
		default:
			c.out.WriteByte(one)
		}
		rest = rest[n:]
	}
}

func isSpace(b byte) bool { return b == ' ' || b == '\t' || b == '\n' || b == '\r' }

// literal returns how long the literal is that text begins with. Two quotes in it are one, and are read as two
// literals that touch.
func literal(text string) int {
	end := strings.IndexByte(text[1:], '\'')
	if end < 0 {
		panic(fmt.Sprintf("store: a literal has no end: %s", text))
	}
	return end + 2
}

// call writes what the call or table means that text begins with, and returns how long it is.
func (c *compiler) call(text string) int {
	n := 1
	for n < len(text) && (text[n] == '_' || 'a' <= text[n] && text[n] <= 'z') {
		n++
	}
	name := text[1:n]
	if n == len(text) || text[n] != '(' {
		if !slices.Contains(tables, name) {
			panic(fmt.Sprintf("store: there is no table %q for: @%s", name, text[1:]))
		}
		c.out.WriteString(c.w.Table(name))
		return n
	}
	say := c.w.Calls[name]
	if say == nil {
		panic(fmt.Sprintf("store: the words have no %q for: %s", name, text))
	}
	end := n + closing(text[n:])
	c.read(say(text[n+1 : end]))
	return end + 1
}

// closing returns where the parenthesis ends that text begins with.
func closing(text string) int {
	depth := 0
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '\'':
			i += literal(text[i:]) - 1
		case '(':
			depth++
		case ')':
			if depth--; depth == 0 {
				return i
			}
		}
	}
	panic(fmt.Sprintf("store: a call has no end: %s", text))
}

// A HotQuery is one that is asked all the time.
type HotQuery struct {
	Text    string
	ByIndex bool // it is run by [Database.ByIndex]
}

var hot = make(map[string]HotQuery)

// Hot names queries of a room that are asked all the time. The conformance suite looks at their plans in large tables.
func Hot(named map[string]string) bool { return heat(named, false) }

// HotByIndex is Hot for queries that are run by [Database.ByIndex].
func HotByIndex(named map[string]string) bool { return heat(named, true) }

func heat(named map[string]string, byIndex bool) bool {
	for name, text := range named {
		if _, twice := hot[name]; twice || text == "" {
			panic(fmt.Sprintf("store: there are two queries named %q, or none", name))
		}
		hot[name] = HotQuery{text, byIndex}
	}
	return true
}

// HotQueries returns the queries that are asked all the time, by name.
func HotQueries() map[string]HotQuery { return maps.Clone(hot) }
