package store

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
func (s *Store) Migrate(ctx context.Context, now time.Time) ([]Migration, error) {
	var done []Migration
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, s.explain(err)
	}
	defer tx.Rollback()
	// Two writes, before anything is read: they take the lock that serialises the processes.
	// The first alone takes none where the table exists.
	for _, text := range []string{s.dialect.Lock, migrationTable, "DELETE FROM illumicode_migration WHERE number < 0"} {
		if text == "" {
			continue
		}
		if _, err := tx.ExecContext(ctx, text); err != nil {
			return nil, s.explain(err)
		}
	}
	at, err := version(ctx, tx)
	if err != nil {
		return nil, s.explain(err)
	}
	for _, m := range Migrations() {
		if m.Number <= at {
			continue
		}
		if _, err := tx.ExecContext(ctx, s.Words(m.SQL)); err != nil {
			return nil, fmt.Errorf("store: migration %d (%s): %w", m.Number, m.Name, s.explain(err))
		}
		if _, err := tx.ExecContext(ctx, m.record(now)); err != nil {
			return nil, s.explain(err)
		}
		done = append(done, m)
	}
	if err := tx.Commit(); err != nil {
		return nil, s.explain(err)
	}
	return done, nil
}

// record returns the statement that records a step as applied at now.
func (m Migration) record(now time.Time) string {
	return fmt.Sprintf("INSERT INTO illumicode_migration VALUES (%d, '%s', %d)", m.Number, m.Name, millis(now))
}

// Script returns SQL that makes all tables in an empty database of a kind, sqlite or postgres, in one transaction, and
// records the steps as applied at now.
func Script(database string, now time.Time) (string, error) {
	words := map[string]func(string) string{"sqlite": SQLiteWords, "postgres": PostgresWords}[database]
	if words == nil {
		return "", fmt.Errorf("store: there is no script for %q; there are sqlite and postgres", database)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "BEGIN;\n\n%s;\n", migrationTable)
	for _, m := range Migrations() {
		fmt.Fprintf(&b, "\n-- %04d %s\n\n%s\n%s;\n", m.Number, m.Name, strings.TrimSpace(words(m.SQL)), m.record(now))
	}
	b.WriteString("\nCOMMIT;\n")
	return b.String(), nil
}

type rowQuerier interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// version returns the number of the newest applied step.
func version(ctx context.Context, q rowQuerier) (int, error) {
	var at int
	err := q.QueryRowContext(ctx, "SELECT COALESCE(MAX(number), 0) FROM illumicode_migration").Scan(&at)
	return at, err
}

func (s *Store) checkVersion(ctx context.Context) error {
	var made int
	if err := s.db.QueryRowContext(ctx, s.dialect.Made).Scan(&made); err != nil {
		return s.explain(err)
	}
	if made == 0 {
		return ErrNotMigrated
	}
	steps := Migrations()
	at, err := version(ctx, s.db)
	switch want := steps[len(steps)-1].Number; {
	case err != nil:
		return s.explain(err)
	case at < want:
		return ErrNotMigrated
	case at > want:
		return ErrNewer
	}
	return nil
}

// Roles is the SQL that makes roles of PostgreSQL with the least that each kind of process needs.
//
//go:embed roles.sql
var Roles string
