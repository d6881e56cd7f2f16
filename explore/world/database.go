package world

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/illumicode/illumicode/internal/pgtest"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/text"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/postgres"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

// A Database is what histories play on.
type Database string

// The databases.
const (
	SQLite   Database = "sqlite"   // a file in memory
	Postgres Database = "postgres" // a server of its own
)

// Open returns a world. Close it.
func Open(ctx context.Context, on Database) (*World, error) {
	w := &World{on: on, start: time.Date(2030, 1, 1, 12, 0, 0, 0, time.UTC), log: new(text.Text),
		queries: new(sync.Map), way: &way{letters: map[string]letter{}}}
	open := map[Database]func(context.Context) (*store.Store, error){SQLite: w.openFile, Postgres: w.openServer}[on]
	if open == nil {
		return nil, fmt.Errorf("there is no database %q to explore on, but %s and %s", on, SQLite, Postgres)
	}
	st, err := open(ctx)
	if err == nil {
		err = st.Migrate(ctx)
	}
	if err != nil {
		if w.gone != nil {
			err = errors.Join(err, w.gone())
		}
		return nil, err
	}
	w.keys = token.Generate(w.start.Add(-24 * time.Hour))
	w.first, w.store = w.keys.Marshal(), st
	rows.Of(st).Watch(func(ctx context.Context, at db.Point, words string) error {
		if w.seam == nil {
			return nil
		}
		return w.seam(ctx, at, words)
	})
	if err := w.Empty(ctx); err != nil {
		return nil, errors.Join(err, w.Close())
	}
	return w, nil
}

func (w *World) openFile(ctx context.Context) (*store.Store, error) {
	dir, err := os.MkdirTemp("/dev/shm", "illumicode-explore-")
	if err != nil {
		dir, err = os.MkdirTemp("", "illumicode-explore-")
	}
	if err != nil {
		return nil, err
	}
	w.gone = func() error { return os.RemoveAll(dir) }
	return sqlite.Open(ctx, filepath.Join(dir, "world.db"))
}

func (w *World) openServer(ctx context.Context) (*store.Store, error) {
	server, err := pgtest.Start(ctx)
	if err != nil {
		return nil, err
	}
	w.gone = server.Close
	conn, err := server.Database(ctx)
	if err != nil {
		return nil, err
	}
	return postgres.Open(ctx, conn, postgres.Options{})
}

// tablesOf returns the tables that histories write to.
func (w *World) tablesOf(ctx context.Context) ([]string, error) {
	return w.column(ctx, map[Database]string{
		SQLite: `SELECT name FROM sqlite_schema WHERE type = 'table' AND name LIKE 'illumicode~_%' ESCAPE '~'
			AND name <> 'illumicode_migration' ORDER BY name`,
		Postgres: `SELECT table_name FROM information_schema.tables WHERE table_type = 'BASE TABLE'
			AND table_name LIKE 'illumicode~_%' ESCAPE '~' AND table_name <> 'illumicode_migration'
			ORDER BY table_name`}[w.on])
}
