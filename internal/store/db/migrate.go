package db

import (
	"context"
	"database/sql"
	"embed"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"
)

//go:embed migrations/*.sql
var migrationFiles embed.FS

// A Migration is one numbered step of the schema. Steps only go forward.
type Migration struct {
	Number int
	Name   string
	SQL    string
}

// Migrations returns all steps in order.
func Migrations() []Migration {
	names, err := fs.Glob(migrationFiles, "migrations/*.sql")
	if err != nil {
		panic(err) // the pattern is a constant
	}
	var all []Migration
	for _, name := range names { // Glob sorts, and numbers have four digits
		body, err := migrationFiles.ReadFile(name)
		base := strings.TrimSuffix(strings.TrimPrefix(name, "migrations/"), ".sql")
		digits, rest, _ := strings.Cut(base, "_")
		number, convErr := strconv.Atoi(digits)
		if err != nil || convErr != nil {
			panic("store: bad embedded migration " + name)
		}
		all = append(all, Migration{Number: number, Name: rest, SQL: string(body)})
	}
	return all
}

const migrationTable = `CREATE TABLE IF NOT EXISTS illumicode_migration (
  number  INTEGER NOT NULL PRIMARY KEY,
  name    TEXT NOT NULL,
  applied BIGINT NOT NULL
)`

// Migrate applies the steps that the database lacks and returns them, in one transaction: all
// or none. Several processes may call it at once; one does the work. now is recorded.
func (s *Database) Migrate(ctx context.Context, now time.Time) ([]Migration, error) {
	var done []Migration
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, s.Explain(err)
	}
	defer tx.Rollback()
	// Two writes, before anything is read: they take the lock that serialises the processes.
	// The first alone takes none where the table exists.
	for _, text := range []string{s.dialect.Lock, s.dialect.Enter, migrationTable,
		"DELETE FROM illumicode_migration WHERE number < 0"} {
		if text == "" {
			continue
		}
		if _, err := tx.ExecContext(ctx, text); err != nil {
			return nil, s.Explain(err)
		}
	}
	at, err := s.version(ctx, tx)
	if err != nil {
		return nil, s.Explain(err)
	}
	for _, m := range Migrations() {
		if m.Number <= at {
			continue
		}
		if _, err := tx.ExecContext(ctx, compileScript(m.SQL, s.dialect.Words)); err != nil {
			return nil, fmt.Errorf("store: migration %d (%s): %w", m.Number, m.Name, s.Explain(err))
		}
		if _, err := tx.ExecContext(ctx, m.record(now)); err != nil {
			return nil, s.Explain(err)
		}
		done = append(done, m)
	}
	if err := tx.Commit(); err != nil {
		return nil, s.Explain(err)
	}
	return done, nil
}

// record returns the statement that records a step as applied at now.
func (m Migration) record(now time.Time) string {
	return fmt.Sprintf("INSERT INTO illumicode_migration VALUES (%d, '%s', %d)", m.Number, m.Name, Millis(now))
}

// Script returns SQL that makes all tables in an empty database of a kind, sqlite or postgres, in one transaction, and
// records the steps as applied at now. schema is where they belong on PostgreSQL; empty for the first of the search
// path.
func Script(database, schema string, now time.Time) (string, error) {
	words, ok := map[string]Words{"sqlite": SQLite(), "postgres": Postgres(schema)}[database]
	switch {
	case !ok:
		return "", fmt.Errorf("there is no script for %q; there are sqlite and postgres", database)
	case schema != "" && database != "postgres":
		return "", fmt.Errorf("%s has no schemas; leave %q out", database, schema)
	}
	var b strings.Builder
	b.WriteString("BEGIN;\n\n")
	if schema != "" {
		fmt.Fprintf(&b, "CREATE SCHEMA IF NOT EXISTS %s;\n%s;\n\n", Quote(schema), EnterSchema(schema))
	}
	fmt.Fprintf(&b, "%s;\n", migrationTable)
	for _, m := range Migrations() {
		sql := strings.TrimSpace(compileScript(m.SQL, words))
		fmt.Fprintf(&b, "\n-- %04d %s\n\n%s\n%s;\n", m.Number, m.Name, sql, m.record(now))
	}
	b.WriteString("\nCOMMIT;\n")
	return b.String(), nil
}

// EnterSchema returns a statement of PostgreSQL: from then on, its transaction finds and makes tables in a schema.
func EnterSchema(schema string) string { return "SET LOCAL search_path TO " + Quote(schema) }

type rowQuerier interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// version returns the number of the newest applied step.
func (s *Database) version(ctx context.Context, q rowQuerier) (int, error) {
	var at int
	err := q.QueryRowContext(ctx, s.Words("SELECT COALESCE(MAX(number), 0) FROM @migration")).Scan(&at)
	return at, err
}

func (s *Database) checkVersion(ctx context.Context) error {
	var made int
	if err := s.db.QueryRowContext(ctx, s.dialect.Made).Scan(&made); err != nil {
		return s.Explain(err)
	}
	if made == 0 {
		return ErrNotMigrated
	}
	steps := Migrations()
	at, err := s.version(ctx, s.db)
	switch want := steps[len(steps)-1].Number; {
	case err != nil:
		return s.Explain(err)
	case at < want:
		return ErrNotMigrated
	case at > want:
		return ErrNewer
	}
	return nil
}

// TextColumns returns table and column of everything textual in tables of ours. No column is an error: there are no
// tables.
func (s *Database) TextColumns(ctx context.Context) (all [][2]string, err error) {
	rows, err := s.db.QueryContext(ctx, s.dialect.Columns)
	if err != nil {
		return nil, s.Explain(err)
	}
	all, err = Collect(s, rows, func(r Scanner) (c [2]string, err error) { return c, r.Scan(&c[0], &c[1]) })
	if err == nil && len(all) == 0 {
		err = ErrNotMigrated
	}
	return all, err
}

//go:embed roles.sql
var roles string

// Roles returns SQL that makes roles of PostgreSQL with the least that each kind of process needs of the tables in a
// schema; empty for the first of the search path.
func Roles(schema string) string {
	if schema == "" {
		return roles
	}
	name := Quote(schema)
	return "SET search_path TO " + name + ";\n\n" + roles + "\nGRANT USAGE ON SCHEMA " + name +
		" TO illumicode_web, illumicode_worker, illumicode_events;\n"
}
