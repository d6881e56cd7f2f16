// Package postgres opens a store in a PostgreSQL database: [Open] for a connection string, [Use]
// on a pool that the application has. It is for services on more than one machine.
//
// A transaction of the application enters through database/sql, or through pgx with package
// store/postgres/pgxtx.
package postgres

import (
	"context"
	"database/sql"
	_ "embed"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"github.com/illumicode/illumicode/store"
)

// channel is what sessions listen on for new deliveries.
const channel = "illumicode"

// Options are optional. The zero Options are all defaults.
type Options struct {
	// Listen is the connection string of the session that listens for new deliveries: it must
	// reach the server itself, not a pooler that gives connections away between transactions.
	// Empty means the string of Open, unless that is such a pooler's; "off" leaves workers to their poll, as Use
	// does by default.
	Listen string

	Connections int    // of the pool at most; 0 or less means 24
	Password    string // empty for one in the connection string, the environment, or none
}

// Open opens the database that a connection string or URL names (libpq's keywords, as in
// "host=db dbname=ferry"). A password is better left to PGPASSWORD or a service file. It connects
// once; errors say what to do.
//
// Through a pooler that gives connections away between transactions, and does not keep prepared statements,
// add default_query_exec_mode=cache_describe to the string, and set [Options.Listen].
func Open(ctx context.Context, conn string, o Options) (*store.Store, error) {
	cfg, err := pgx.ParseConfig(conn)
	if err != nil {
		return nil, errors.New("postgres: the connection string cannot be read; write it as host=… dbname=… user=…, or as postgres://user@host/dbname")
	}
	if o.Password != "" {
		cfg.Password = o.Password
	}
	db := stdlib.OpenDB(*cfg)
	if o.Connections <= 0 {
		o.Connections = 24
	}
	db.SetMaxOpenConns(o.Connections)
	db.SetMaxIdleConns(o.Connections)
	db.SetConnMaxIdleTime(5 * time.Minute)
	pooled := cfg.DefaultQueryExecMode != pgx.QueryExecModeCacheStatement
	if o.Listen == "" && !pooled {
		o.Listen = conn
	}
	st, err := use(ctx, db, o, true)
	if err != nil {
		db.Close()
	}
	return st, err
}

// Use returns a store on the application's own pool, which stays the application's to close.
func Use(ctx context.Context, db *sql.DB, o Options) (*store.Store, error) {
	return use(ctx, db, o, false)
}

func use(ctx context.Context, db *sql.DB, o Options, owned bool) (*store.Store, error) {
	var version int
	if err := db.QueryRowContext(ctx, "SELECT current_setting('server_version_num')::int").Scan(&version); err != nil {
		return nil, explain(err)
	}
	if version < 130000 {
		return nil, fmt.Errorf("postgres: the server has version %d.%d; 13 or newer is needed", version/10000, version%10000)
	}
	d := store.Dialect{
		Name: "postgres", Explain: explain, Rewrite: Words, Unprepared: forgets(ctx, db), Together: true, Pipeline: pipeline,
		Clock: "SELECT (extract(epoch FROM clock_timestamp()) * 1000)::bigint",
		Columns: `SELECT table_name, column_name FROM information_schema.columns JOIN information_schema.tables USING (table_schema, table_name)
			WHERE table_schema = current_schema() AND table_type = 'BASE TABLE' AND table_name LIKE 'illumicode!_%' ESCAPE '!' AND data_type = 'text' ORDER BY 1, 2`,
		ByIndex:    "SELECT " + byIndex,
		Announce:   "SELECT pg_notify('" + channel + "', '')",
		SoonInside: "SET LOCAL synchronous_commit TO OFF",
		Lock:       "SELECT pg_advisory_xact_lock(7811020916403)", // a number of our own
	}
	var durable string
	if err := db.QueryRowContext(ctx, "SHOW synchronous_commit").Scan(&durable); err != nil {
		return nil, explain(err)
	}
	if durable == "off" {
		d.Warnings = append(d.Warnings, "PostgreSQL synchronous_commit is off on the application's connections: a crash of the server can lose commits")
	}
	switch o.Listen {
	case "off", "":
		if owned && o.Listen == "" {
			d.Warnings = append(d.Warnings, "behind a pooler nobody can listen, so that workers find new letters by their poll alone; name the server itself in postgres_listen (Options.Listen), or say \"off\"")
		}
	default:
		cfg, err := pgx.ParseConfig(o.Listen)
		if err != nil {
			return nil, errors.New("postgres: Options.Listen cannot be read as a connection string")
		}
		if o.Password != "" {
			cfg.Password = o.Password
		}
		d.Listen = func(ctx context.Context, wake func()) error { return listen(ctx, cfg, wake) }
	}
	return store.New(db, d, owned), nil
}

// forgets reports whether the connections are set up not to keep prepared statements. Those of another driver
// are thought to keep them.
func forgets(ctx context.Context, db *sql.DB) bool {
	conn, err := db.Conn(ctx)
	if err != nil {
		return false // the next query says so
	}
	defer conn.Close()
	mode := pgx.QueryExecModeCacheStatement
	conn.Raw(func(c any) error {
		if own, ok := c.(*stdlib.Conn); ok {
			mode = own.Conn().Config().DefaultQueryExecMode
		}
		return nil
	})
	return mode != pgx.QueryExecModeCacheStatement
}

// listen calls wake for each notification until ctx or the connection ends.
func listen(ctx context.Context, cfg *pgx.ConnConfig, wake func()) error {
	conn, err := pgx.ConnectConfig(ctx, cfg.Copy())
	if err != nil {
		return explain(err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
		return explain(err)
	}
	wake() // for what was announced while nobody listened
	for {
		if _, err := conn.WaitForNotification(ctx); err != nil {
			return err
		}
		wake()
	}
}

// byIndex makes the planner take an index wherever there is one, for the rest of the transaction, and plan each
// statement once. It is true.
const byIndex = "set_config('enable_seqscan', 'off', true) || set_config('enable_bitmapscan', 'off', true) || set_config('plan_cache_mode', 'force_generic_plan', true) <> ''"

var types = strings.NewReplacer(
	" BLOB ", " BYTEA ", " WITHOUT ROWID", "",
	"BY_INDEX", byIndex,
	"COMMIT_SOON", "set_config('synchronous_commit', 'off', true) IS NOT NULL",
	"SERIAL_KEY", "BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY",
	"AS (VALUES", "AS MATERIALIZED (VALUES", // else a join works all rows out again for each it meets
	"json_each(?) AS r", "json_array_elements(CAST(? AS json)) AS r(value)",
	// An array is looked up in an index, whatever the planner knows of a young table.
	"id IN (SELECT id FROM next)", "id = ANY (ARRAY(SELECT id FROM next))",
	"IN (SELECT value FROM json_each(?))", "= ANY(ARRAY(SELECT json_array_elements_text(CAST(? AS json))))",
)

// Roles is the SQL that makes roles with the least that each kind of process needs.
//
//go:embed roles.sql
var Roles string

// Words returns a statement of package store in PostgreSQL's words.
func Words(query string) string {
	if v, ok := spelled.Load(query); ok {
		return v.(string)
	}
	text := rewrite(query)
	spelled.Store(query, text)
	return text
}

// spelled keeps the words of queries; they are few, and always the same.
var spelled sync.Map // of string to string

// rewrite turns the store's SQL into PostgreSQL's: numbered parameters and its own types.
func rewrite(text string) string {
	var b strings.Builder
	n := 0
	for _, r := range types.Replace(text) {
		if r != '?' {
			b.WriteRune(r)
			continue
		}
		n++
		b.WriteString("$" + strconv.Itoa(n))
	}
	return b.String()
}

// explain adds the remedy to what PostgreSQL says (Appendix A of its manual has the codes).
func explain(err error) error {
	var e *pgconn.PgError
	var down *pgconn.ConnectError
	switch {
	case errors.As(err, &down):
		return fmt.Errorf("postgres: the server cannot be reached or turned us away; check host, port, user, database and pg_hba.conf: %w", err)
	case !errors.As(err, &e):
		return err
	case strings.HasPrefix(e.Code, "22"): // class 22: data exception
		return fmt.Errorf("%w: %w", store.ErrData, err)
	}
	switch e.Code {
	case "42P05", "26000": // a prepared statement that is there already, or is not
		return fmt.Errorf("postgres: this is a pooler that gives connections away between transactions; add default_query_exec_mode=cache_describe to the connection string: %w", err)
	case "25P02":
		return fmt.Errorf("postgres: a statement before this one failed and aborted the transaction; roll it back: %w", err)
	case "42501":
		return fmt.Errorf("postgres: this user lacks the right; `illumicode migrate --print` lists what each role needs: %w", err)
	case "53100":
		return fmt.Errorf("postgres: the server's disk is full; nothing was written; make room: %w", err)
	case "53300":
		return fmt.Errorf("postgres: the server takes no more connections; lower Options.Connections or raise max_connections: %w", err)
	case "25006":
		return fmt.Errorf("postgres: the server is read-only, perhaps a standby; connect to the primary: %w", err)
	}
	return err
}
