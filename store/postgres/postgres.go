// Package postgres opens a store in a PostgreSQL database: [Open] for a connection string, [Use] on a pool of
// database/sql that the application has, [UsePool] on one of pgx. It is for services on more than one machine.
//
// Callbacks get transactions of the kind that the store was opened with. A transaction that the application has begun
// with pgx itself enters by [Handle] and illumicode.Service.On.
package postgres

import (
	"context"
	"database/sql"
	_ "embed"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
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

	// Schema holds the tables; empty for the first of the search path of each connection. Migrating makes it where it
	// is missing.
	Schema string

	Password string // empty for one in the connection string, the environment, or none

	// Silence is how long the server may be silent on one statement of a connection of Open; 0 or less means 3 s. Then
	// the connection is closed, and older ones are not used again. What application statements take on
	// [store.Store.DB] is bounded by it too.
	Silence time.Duration
}

// protected refuses a string that leaves it to the server whether a connection over a network is protected (libpq's
// sslmode prefer, which is the default, and allow): whoever is between can answer that it is not.
func protected(cfg *pgconn.Config) error {
	either := make(map[string]int) // 1 for a host with TLS, 2 for one without, 3 for both
	note := func(host string, with bool) {
		if with {
			either[host] |= 1
		} else {
			either[host] |= 2
		}
	}
	note(cfg.Host, cfg.TLSConfig != nil)
	for _, f := range cfg.Fallbacks {
		note(f.Host, f.TLSConfig != nil)
	}
	for host, how := range either {
		ip := net.ParseIP(host)
		if how == 3 && host != "localhost" && !strings.HasPrefix(host, "/") && (ip == nil || !ip.IsLoopback()) {
			return fmt.Errorf("postgres: to %s the connection is protected only if the server wants it; "+
				"say sslmode=verify-full in the connection string, or sslmode=disable where the network is trusted",
				host)
		}
	}
	return nil
}

// Open opens the database that a connection string or URL names (libpq's keywords, as in
// "host=db dbname=ferry"). A password is better left to PGPASSWORD or a service file. It connects
// once, and later with up to 24 connections ([store.Store.DB] sets another number); errors say what to do. To another
// machine the string says sslmode: verify-full best, and not prefer or allow.
//
// Several hosts are tried in turn, the last good one first, for at most 2 s an address; only one that can be written is
// taken, unless target_session_attrs says another thing. Sessions wait for a lock for at most 2 s
// (lock_timeout), and one that leaves a transaction idle for a minute is ended by the server; the string can say other
// values.
//
// Through a pooler that gives connections away between transactions, and does not keep prepared statements,
// add default_query_exec_mode=cache_describe to the string, and set [Options.Listen].
func Open(ctx context.Context, conn string, o Options) (*store.Store, error) {
	cfg, err := pgx.ParseConfig(conn)
	if err != nil {
		return nil, errors.New(
			"postgres: the connection string cannot be read; write it as host=… dbname=… user=…, or as " +
				"postgres://user@host/dbname")
	}
	if o.Password != "" {
		cfg.Password = o.Password
	}
	if err := protected(&cfg.Config); err != nil {
		return nil, err
	}
	if o.Silence <= 0 {
		o.Silence = silence
	}
	pooled := cfg.DefaultQueryExecMode != pgx.QueryExecModeCacheStatement
	p := pool{owned: true, hosts: hostsOf(cfg), conn: conn}
	p.db = sql.OpenDB(&connector{p.hosts, o.Silence, session(pooled, lockWait)})
	p.db.SetMaxOpenConns(connections)
	p.db.SetMaxIdleConns(connections)
	p.db.SetConnMaxIdleTime(5 * time.Minute)
	p.patient = sql.OpenDB(&connector{p.hosts, patience, session(pooled, patientLock)})
	p.patient.SetMaxOpenConns(patientConnections)
	p.patient.SetConnMaxIdleTime(time.Minute)
	if o.Listen == "" && !pooled {
		o.Listen = conn
	}
	st, err := use(ctx, p, o)
	if err != nil {
		p.db.Close()
		p.patient.Close()
	}
	return st, err
}

// connections is how many a pool of Open has at most.
const connections = 24

// patientConnections is how many of them are for what may take long.
const patientConnections = 4

// Use returns a store on the application's own pool, which stays the application's to close.
func Use(ctx context.Context, own *sql.DB, o Options) (*store.Store, error) {
	return use(ctx, pool{db: own}, o)
}

// A pool is the connections that a store works on.
type pool struct {
	db    *sql.DB
	owned bool                                     // Close closes db
	begin func(context.Context) (db.Opened, error) // of a driver's own; nil for database/sql

	hosts   *hosts // where db leads, and the string that says so; nil where it is not ours
	conn    string
	patient *sql.DB // for what may take long; nil where that is db
}

func use(ctx context.Context, p pool, o Options) (*store.Store, error) {
	var version int
	if err := p.db.QueryRowContext(ctx, "SELECT current_setting('server_version_num')::int").Scan(
		&version); err != nil {
		return nil, explain(err)
	}
	if version < 130000 {
		return nil, fmt.Errorf("postgres: the server has version %d.%d; 13 or newer is needed", version/10000,
			version%10000)
	}
	d := db.Dialect{
		Name: "postgres", Explain: explain, Words: db.Postgres(o.Schema), Begin: p.begin,
		Unprepared: p.begin != nil || forgets(ctx, p.db), Together: true, Pipeline: pipeline, Patient: p.patient,
		Clock:         "SELECT (extract(epoch FROM clock_timestamp()) * 1000)::bigint",
		ByIndex:       db.PostgresByIndex,
		Announce:      "SELECT pg_notify('" + channel + "', '')",
		RelaxedInside: "SET LOCAL synchronous_commit TO OFF",
		Lock:          "SELECT pg_advisory_xact_lock(7811020916403)", // numbers of our own
		Home:          home, Moved: 1,
		Share: "SELECT pg_advisory_xact_lock_shared(7811020916404)",
		Alone: "SELECT pg_advisory_xact_lock(7811020916404)",
	}
	d.Place(o.Schema)
	var durable string
	if err := p.db.QueryRowContext(ctx, "SHOW synchronous_commit").Scan(&durable); err != nil {
		return nil, explain(err)
	}
	if durable == "off" {
		d.Warnings = append(d.Warnings,
			"PostgreSQL synchronous_commit is off on the application's connections: a crash of the server can lose "+
				"commits")
	}
	switch o.Listen {
	case "off", "":
		if p.owned && o.Listen == "" {
			d.Warnings = append(d.Warnings,
				"behind a pooler nobody can listen, so that workers find new letters by their poll alone; name the "+
					"server itself in postgres_listen (Options.Listen), or say \"off\"")
		}
	default:
		cfg, err := pgx.ParseConfig(o.Listen)
		if err != nil {
			return nil, errors.New("postgres: Options.Listen cannot be read as a connection string")
		}
		if err := protected(&cfg.Config); err != nil {
			return nil, fmt.Errorf("%w (Options.Listen)", err)
		}
		if o.Password != "" {
			cfg.Password = o.Password
		}
		at := p.hosts
		if at == nil || o.Listen != p.conn {
			at = hostsOf(cfg)
		}
		d.Listen = at.listen
	}
	st := new(store.Store)
	rows.Publish(st, rows.New(p.db, d, p.owned))
	return st, nil
}

// home returns what marks a database's place: the cluster, which a standby shares with its primary, and the database in
// it. The cluster is empty where this user may not ask.
func home(ctx context.Context, pool *sql.DB) ([]string, error) {
	var oid, cluster string
	var may bool
	if err := pool.QueryRowContext(ctx, "SELECT oid::text, has_function_privilege('pg_control_system()', 'execute') "+
		"FROM pg_database WHERE datname = current_database()").Scan(&oid, &may); err != nil {
		return nil, err
	}
	if may {
		if err := pool.QueryRowContext(ctx, "SELECT system_identifier::text FROM pg_control_system()").Scan(
			&cluster); err != nil {
			return nil, err
		}
	}
	return []string{cluster, oid}, nil
}

// forgets reports whether the connections are set up not to keep prepared statements. Those of another driver
// are thought to keep them.
func forgets(ctx context.Context, pool *sql.DB) bool {
	conn, err := pool.Conn(ctx)
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

// explain adds the remedy to what PostgreSQL says (Appendix A of its manual has the codes).
func explain(err error) error {
	_, down := errors.AsType[*pgconn.ConnectError](err)
	e, said := errors.AsType[*pgconn.PgError](err)
	switch {
	case down:
		return fmt.Errorf(
			"postgres: the server cannot be reached or turned us away; check host, port, user, database and "+
				"pg_hba.conf: %w", err)
	case !said:
		return err
	case strings.HasPrefix(e.Code, "22"): // class 22: data exception
		return fmt.Errorf("%w: %w", db.ErrData, err)
	}
	switch e.Code {
	case "42P05", "26000": // a prepared statement that is there already, or is not
		return fmt.Errorf(
			"postgres: this is a pooler that gives connections away between transactions; add "+
				"default_query_exec_mode=cache_describe to the connection string: %w", err)
	case "25P02":
		return fmt.Errorf("postgres: a statement before this one failed and aborted the transaction; roll it back: %w",
			err)
	case "42501":
		return fmt.Errorf(
			"postgres: this user lacks the right; `illumicode migrate --print` lists what each role needs: %w", err)
	case "53100":
		return fmt.Errorf("%w: %w", db.ErrFull, err)
	case "53300":
		return fmt.Errorf(
			"postgres: the server takes no more connections; let the pool have fewer or raise max_connections: %w",
			err)
	case "25006":
		return fmt.Errorf("postgres: the server is read-only, perhaps a standby; connect to the primary: %w", err)
	}
	return err
}
