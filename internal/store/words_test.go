package store

import "testing"

// A parameter is a question mark outside of literals, and line breaks mean nothing.
func TestPostgresWords(t *testing.T) {
	for query, want := range map[string]string{
		"SELECT '?', ?, 'it''s ?', ?":     "SELECT '?', $1, 'it''s ?', $2",
		"SELECT id\n\tFROM t WHERE a = ?": "SELECT id FROM t WHERE a = $1",
		"DELETE FROM t WHERE id IN (SELECT\n\tvalue FROM json_each(?))": "DELETE FROM t WHERE id = " +
			"ANY(ARRAY(SELECT json_array_elements_text(CAST($1 AS json))))",
	} {
		if got := PostgresWords(query); got != want {
			t.Errorf("%q becomes %q, want %q", query, got, want)
		}
	}
	if got := SQLiteWords("SELECT id FROM t FOR UPDATE\n\tSKIP LOCKED"); got != "SELECT id FROM t" {
		t.Errorf("SQLite gets %q", got)
	}
}
