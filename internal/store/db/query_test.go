package db

import (
	"strings"
	"testing"
)

// A query is said in the words of each database, and what stands in a literal stays.
func TestCompile(t *testing.T) {
	for _, tt := range []struct{ query, sqlite, postgres string }{
		{"SELECT '?', ?, 'it''s @lock() ?', ?", "SELECT '?', ?, 'it''s @lock() ?', ?",
			"SELECT '?', $1, 'it''s @lock() ?', $2"},
		{"SELECT id\n\t FROM @trail\n WHERE a = 'x\n  y' -- ? it's\n AND b = ?",
			"SELECT id FROM illumicode_trail WHERE a = 'x\n  y'  AND b = ?",
			`SELECT id FROM "the ""place".illumicode_trail WHERE a = 'x` + "\n  y'  AND b = $1"},
		{"SELECT id FROM t @lock() ", "SELECT id FROM t  ", "SELECT id FROM t FOR UPDATE "},
		{"SELECT id FROM t @lock(t)", "SELECT id FROM t ", "SELECT id FROM t FOR UPDATE OF t"},
		{"DELETE FROM t WHERE a = ? AND id @listed() AND b = ?",
			"DELETE FROM t WHERE a = ? AND id IN (SELECT value FROM json_each(?)) AND b = ?",
			"DELETE FROM t WHERE a = $1 AND id = ANY(ARRAY(SELECT json_array_elements_text(CAST($2 AS json)))) AND " +
				"b = $3"},
		{"id @in(SELECT ')', (?) FROM @way)", "id IN (SELECT ')', (?) FROM illumicode_way)",
			`id = ANY (ARRAY(SELECT ')', ($1) FROM "the ""place".illumicode_way))`},
	} {
		if got := compile(tt.query, SQLite()); got != tt.sqlite {
			t.Errorf("%q is in SQLite\n%q, want\n%q", tt.query, got, tt.sqlite)
		}
		if got := compile(tt.query, Postgres(`the "place`)); got != tt.postgres {
			t.Errorf("%q is in PostgreSQL\n%q, want\n%q", tt.query, got, tt.postgres)
		}
	}
	for query, want := range map[string]string{"SELECT @trial": "no table", "SELECT @look()": `no "look"`,
		"SELECT 'x": "literal has no end", "SELECT @in(x": "call has no end"} {
		func() {
			defer func() {
				if said, _ := recover().(string); !strings.Contains(said, want) {
					t.Errorf("%q: %q, want %q in it", query, said, want)
				}
			}()
			Q(query)
		}()
	}
}

// Both databases have words for the same.
func TestWords(t *testing.T) {
	other := Postgres("").Calls
	for name := range SQLite().Calls {
		if other[name] == nil {
			t.Errorf("PostgreSQL has no words for @%s()", name)
		}
		delete(other, name)
	}
	for name := range other {
		t.Errorf("SQLite has no words for @%s()", name)
	}
}
