// Package store names an open database with the tables of Illumicode in it. Packages store/sqlite and store/postgres
// open one; [Store] is the type to read first.
package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
)

// inside lets the other packages of this module reach the queries.
//
//lint:ignore U1000 embedded for its methods, which only this module can call
type inside = rows.HeldStore

// A Store is an open database. It is safe for concurrent use. The zero Store has no database.
type Store struct {
	//lint:ignore U1000 embedded for its methods, which only this module can call
	inside
}

// ErrVersion means that the tables are missing, or were made by an older or a newer version of this program. The text
// of the error says what to do.
var ErrVersion = rows.ErrVersion

// Migrate creates the tables, or upgrades them to this version, in one transaction: all or nothing. Several processes
// may call it at once; one does the work.
func (s *Store) Migrate(ctx context.Context) error {
	_, err := rows.Of(s).Patient().Migrate(ctx, time.Now())
	return err
}

// DB returns the database, for the application's own transactions on it.
func (s *Store) DB() *sql.DB { return rows.Of(s).DB() }

// Close releases what the store holds, and the database if the store opened it.
func (s *Store) Close() error { return rows.Of(s).Close() }

// A Runner runs queries in the transaction of a mapper, as *sql.Tx does. Queries come in the words of the database that
// the store is on, with its own placeholders ($1 on PostgreSQL, ? on SQLite). Errors are returned as the driver has
// them.
type Runner interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// insideHandle lets the other packages of this module reach the transaction.
//
//lint:ignore U1000 embedded for its methods, which only this module can call
type insideHandle = rows.HeldHandle

// A Handle is a transaction of the application's that is not of database/sql. The zero Handle is none.
type Handle struct {
	//lint:ignore U1000 embedded for its methods, which only this module can call
	insideHandle
}

// Adapt returns a handle on the transaction own of a mapper, in which r runs queries on the database of st. own is what
// illumicode.Own gives back.
func Adapt(st *Store, own any, r Runner) Handle {
	if st == nil || rows.Of(st) == nil || own == nil || r == nil {
		panic(fmt.Sprintf(
			"store: Adapt needs an open store, a transaction and what runs queries in it, and got %T, %T and %T", st,
			own, r))
	}
	var h Handle
	rows.PublishHandle(&h, own, db.Adapted(r))
	return h
}
