package db

import (
	"context"
	"database/sql"
)

// A Dialect is what differs between databases.
type Dialect struct {
	Name string

	// Explain returns err with a remedy where the database's own words need one, else err.
	Explain func(err error) error

	// OneWriter says that the database takes one writing transaction at a time. The store then
	// queues its own, instead of letting them poll each other's lock.
	OneWriter bool

	// Patient is the same database for what may take long; nil where the connections have no bound.
	Patient *sql.DB

	// Warnings are conditions the operator should know of, found when the database was opened.
	Warnings []string

	Words Words

	// Clock asks for the database's clock in Unix milliseconds; empty where it is this machine's.
	Clock string

	// Announce tells listeners in other processes that something is due; empty for none.
	Announce string

	// Listen calls wake whenever something was announced, until ctx ends or the error that it
	// returns; nil where nothing is announced.
	Listen func(ctx context.Context, wake func()) error

	// Together says that one statement can hold several writes (WITH … AS (INSERT …)): a round trip
	// to the server instead of one for each.
	Together bool

	// Unprepared says that the connection has no memory for prepared queries, as behind a pooler that gives
	// it to others between transactions.
	Unprepared bool

	// Pipeline runs statements as one transaction in one round trip, or returns [ErrNoPipeline]. Nil where there
	// is no trip to spare.
	Pipeline func(ctx context.Context, db *sql.DB, all []Statement) error

	// ByIndex, before another statement of the same transaction, has the planner take the index that the
	// statement is made for, whatever it knows of the table by then; empty where it always does.
	ByIndex string

	// Home returns what marks the place of the database, nil if nothing does. It is another place if Moved of the marks
	// differ.
	Home  func(ctx context.Context, db *sql.DB) ([]string, error)
	Moved int

	// Share and Alone are statements of a transaction: while one has said Share none goes on that says Alone, and the
	// other way. They are empty where transactions that write exclude each other anyway.
	Share, Alone string

	// Relaxed makes the commits of a connection wait for no disk, until Durable does the opposite;
	// RelaxedInside does it for the transaction it runs in. All three may be empty.
	Relaxed, Durable, RelaxedInside string

	// Begin opens a transaction of a driver's own for the application; nil where that is database/sql's.
	Begin func(ctx context.Context) (Opened, error)

	// Columns asks for table and column of everything textual in tables named illumicode_….
	Columns string

	// Made asks whether the table of migrations is there: 1 or 0.
	Made string

	// Enter leads a transaction that migrates to the schema of the tables, and makes it if it is missing. It is empty
	// where there is no such choice.
	Enter string

	// Lock makes one migration wait for another; empty where every transaction does.
	Lock string
}
