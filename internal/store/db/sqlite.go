package db

// SQLite returns the words of SQLite. A writer has the whole file, so that nothing is locked by the row.
func SQLite() Words {
	is := func(words string) func(string) string { return func(string) string { return words } }
	return Words{
		Parameter: func(int) string { return "?" },
		Table:     func(name string) string { return "illumicode_" + name },
		Calls: map[string]func(string) string{
			"lock":         is(""),
			"free":         is(""),
			"relaxed":      is("1"),
			"byindex":      is("1"),
			"materialized": is(""),
			"each":         func(alias string) string { return "json_each(?) AS " + alias },
			"listed":       is("IN (SELECT value FROM json_each(?))"),
			"in":           func(query string) string { return "IN (" + query + ")" },
			"serial":       is("INTEGER PRIMARY KEY AUTOINCREMENT"),
			"bytes":        is("BLOB"),
			"norowid":      is("WITHOUT ROWID"),
		},
	}
}
