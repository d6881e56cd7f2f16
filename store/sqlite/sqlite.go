// Package sqlite opens a store in an SQLite file: [Open] for a file of Illumicode's own or one
// shared with the application through [store.Store.DB], [Use] on a database that the application
// has opened itself, with whatever driver.
//
// The file is in WAL mode with synchronous=FULL: what was committed survives a loss of power.
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"time"

	driver "modernc.org/sqlite"

	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/store"
)

// busy is how long a writer of a file of ours waits for another.
const busy = 10 * time.Second

// public returns a store as applications have it.
func public(s *rows.Store) *store.Store {
	st := new(store.Store)
	rows.Publish(st, s)
	return st
}

// Open opens the SQLite file at path, and creates it if there is none. The folder must exist.
//
// A file must not be open twice in one process through two copies of SQLite: closing one drops
// the POSIX locks of the other, and commits are lost without a word. Open therefore refuses a
// file that the process has open (on Linux, where that can be seen); hand
// the application's own database to [Use] instead. A file that cannot be written is refused.
func Open(ctx context.Context, path string) (*store.Store, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(path); err == nil {
		if info.IsDir() {
			return nil, fmt.Errorf("sqlite: %s is a folder; name a file in it", path)
		}
		if info.Mode().Perm()&0o222 == 0 {
			return nil, fmt.Errorf("%w: %s is marked read-only (mode %v); chmod u+w it, or name another file",
				db.ErrReadOnly, path, info.Mode().Perm())
		}
		if openHere(info) {
			return nil, fmt.Errorf("%w: %s; pass that *sql.DB to sqlite.Use instead of opening the file again",
				db.ErrTwoOpen, path)
		}
	} else if _, err := os.Stat(filepath.Dir(path)); err != nil {
		return nil, fmt.Errorf("sqlite: the folder of %s: %w; create it first", path, errors.Unwrap(err))
	} else if err := private(path); err != nil {
		return nil, err
	}
	dsn := "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + url.Values{
		"_pragma": {fmt.Sprintf("busy_timeout(%d)", busy.Milliseconds()), "journal_mode(WAL)", "synchronous(FULL)",
			"foreign_keys(1)", "cache_size(-500)"},
		"_txlock": {"immediate"}, // a transaction of the application may read before it writes
	}.Encode()
	own, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	own.SetMaxOpenConns(8)
	own.SetMaxIdleConns(8)
	if err := turned(ctx, own); err != nil {
		own.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	d := dialect(2)
	d.Warnings = append(d.Warnings, readable(path)...)
	return public(rows.New(own, d, true)), nil
}

// readable warns of a file that others than its owner can read: it is not ours to change.
func readable(path string) []string {
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm()&0o077 == 0 {
		return nil
	}
	return []string{
		fmt.Sprintf("others can read or write the database file %s (mode %v): addresses and letters are in it; "+
			"chmod 600 it, and what stands beside it", path, info.Mode().Perm())}
}

// fileOf returns the file of the application's own database, "" if it has none.
func fileOf(ctx context.Context, own *sql.DB) string {
	var file string
	if err := own.QueryRowContext(ctx, "SELECT file FROM pragma_database_list WHERE name = 'main'").Scan(
		&file); err != nil {
		return ""
	}
	return file
}

// private makes a file that only its owner may read. What SQLite makes beside it gets the same mode.
func private(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("sqlite: %s cannot be made: %w", path, errors.Unwrap(err))
	}
	return f.Close()
}

// Use returns a store on the application's own database, which stays the application's to close.
// The tables of Illumicode then live beside its own, and one transaction covers both.
//
// It refuses a connection without busy_timeout, with which every second writer would fail, and
// warns (a line of the log) of settings under which a commit can be lost.
func Use(ctx context.Context, own *sql.DB) (*store.Store, error) {
	var timeout, synchronous int
	var journal string
	for pragma, dest := range map[string]any{"busy_timeout": &timeout, "synchronous": &synchronous,
		"journal_mode": &journal} {
		if err := own.QueryRowContext(ctx, "PRAGMA "+pragma).Scan(dest); err != nil {
			return nil, fmt.Errorf("sqlite: PRAGMA %s: %w; is this an SQLite database?", pragma, explain(err))
		}
	}
	if timeout == 0 {
		return nil, errors.New(
			"sqlite: busy_timeout is 0, so that two writers at once fail; open the database with a busy_timeout of " +
				"some seconds")
	}
	d := dialect(synchronous)
	if journal != "wal" {
		d.Warnings = append(d.Warnings, "SQLite journal_mode is "+journal+
			", not wal: readers and the worker will wait for each other")
	}
	if synchronous < 2 {
		d.Warnings = append(d.Warnings,
			"SQLite synchronous is below FULL on the application's connection: a loss of power can lose commits")
	}
	if err := writable(ctx, own); err != nil {
		return nil, err
	}
	if file := fileOf(ctx, own); file != "" {
		d.Warnings = append(d.Warnings, readable(file)...)
	}
	return public(rows.New(own, d, false)), nil
}

// dialect returns what is SQLite's own, for connections with a setting of synchronous (0 to 3). With
// NORMAL in WAL mode a commit waits for no disk, and the next one with FULL brings it there.
func dialect(synchronous int) db.Dialect {
	d := db.Dialect{Name: "sqlite", Explain: explain, OneWriter: true, Words: db.SQLite(), Columns: columns,
		Home: home, Moved: 2,
		Made: "SELECT COUNT(*) FROM sqlite_schema WHERE type = 'table' AND name = 'illumicode_migration'"}
	if synchronous > 1 {
		d.Relaxed, d.Durable = "PRAGMA synchronous = NORMAL", "PRAGMA synchronous = "+strconv.Itoa(synchronous)
	}
	return d
}

// columns asks for everything textual in tables of ours.
const columns = `SELECT m.name, c.name FROM sqlite_schema m JOIN pragma_table_info(m.name) c
	WHERE m.type = 'table' AND m.name LIKE 'illumicode!_%' ESCAPE '!' AND c.type = 'TEXT' ORDER BY 1, 2`

// turned is writable for a file that perhaps other processes are making just now: while one turns it to WAL, SQLite
// refuses the others at once, whatever their busy_timeout.
func turned(ctx context.Context, own *sql.DB) error {
	for end := time.Now().Add(busy); ; {
		err := writable(ctx, own)
		e, ok := errors.AsType[*driver.Error](err)
		if !ok || e.Code()&0xff != codeBusy || time.Now().After(end) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// writable takes the write lock and gives it back.
func writable(ctx context.Context, own *sql.DB) error {
	conn, err := own.Conn(ctx)
	if err != nil {
		return explain(err)
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
		return explain(err)
	}
	_, err = conn.ExecContext(ctx, "ROLLBACK")
	return explain(err)
}

// openHere reports whether this process has the file open, as far as /proc tells.
func openHere(file os.FileInfo) bool {
	fds, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return false // not Linux
	}
	for _, fd := range fds {
		if _, err := strconv.Atoi(fd.Name()); err != nil {
			continue
		}
		if info, err := os.Stat("/proc/self/fd/" + fd.Name()); err == nil && os.SameFile(file, info) {
			return true
		}
	}
	return false
}

// Result codes of SQLite (sqlite3.h).
const (
	codeBusy         = 5
	codeReadOnly     = 8
	codeFull         = 13
	codeCantOpen     = 14
	codeNotADB       = 26
	codeBusySnapshot = 517
)

// explain adds the remedy to what SQLite says.
func explain(err error) error {
	e, ok := errors.AsType[*driver.Error](err)
	if !ok {
		return err
	}
	switch {
	case e.Code() == codeBusySnapshot:
		return fmt.Errorf(
			"sqlite: the transaction read before it wrote, and another wrote in between; begin it with BEGIN "+
				"IMMEDIATE (for this driver: _txlock=immediate in the data source name): %w", err)
	case e.Code()&0xff == codeBusy:
		return fmt.Errorf(
			"sqlite: the file stayed locked by another writer for the whole busy_timeout; look for a transaction "+
				"that is held open: %w", err)
	case e.Code()&0xff == codeReadOnly:
		return fmt.Errorf("%w: make the file and its folder writable for this user: %w", db.ErrReadOnly, err)
	case e.Code()&0xff == codeFull:
		return fmt.Errorf("%w: %w", db.ErrFull, err)
	case e.Code()&0xff == codeCantOpen:
		return fmt.Errorf("sqlite: the file cannot be opened or created; check the folder and its rights: %w", err)
	case e.Code()&0xff == codeNotADB:
		return fmt.Errorf("sqlite: the file is not an SQLite database: %w", err)
	}
	return err
}
