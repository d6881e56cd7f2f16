package postgres

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"net"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
)

// How long a server is waited for. A statement of an operator's and a migration may take long, and so may others keep
// the lock that it needs.
const (
	connecting  = 2 * time.Second // one address of a host
	silence     = 3 * time.Second // on one statement
	lockWait    = 2 * time.Second
	idleInTx    = time.Minute // of a transaction that nothing is asked of
	patience    = 10 * time.Minute
	patientLock = 30 * time.Second
)

// hosts are the servers that a connection string names. It is safe for concurrent use.
type hosts struct {
	each []*pgx.ConnConfig // one for each host
	good atomic.Int32      // the one to try first: the last connected to, or the one after it if that was silent

	epoch atomic.Int64 // connections of an earlier one are not used again
}

// hostsOf returns the hosts of a configuration. Of several only one that can be written is taken, unless the string
// says another thing (target_session_attrs).
func hostsOf(cfg *pgx.ConnConfig) *hosts {
	type place struct {
		host string
		port uint16
	}
	first := &pgconn.FallbackConfig{Host: cfg.Host, Port: cfg.Port, TLSConfig: cfg.TLSConfig}
	all := append([]*pgconn.FallbackConfig{first}, cfg.Fallbacks...)
	var order []place
	ways := make(map[place][]*pgconn.FallbackConfig) // with TLS and without
	for _, f := range all {
		at := place{f.Host, f.Port}
		if ways[at] == nil {
			order = append(order, at)
		}
		ways[at] = append(ways[at], f)
	}
	h := new(hosts)
	for _, at := range order {
		one := cfg.Copy()
		one.Host, one.Port, one.TLSConfig, one.Fallbacks = at.host, at.port, ways[at][0].TLSConfig, ways[at][1:]
		if len(order) > 1 && one.ValidateConnect == nil {
			one.ValidateConnect = pgconn.ValidateConnectTargetSessionAttrsReadWrite
		}
		if one.ConnectTimeout == 0 || one.ConnectTimeout > connecting {
			one.ConnectTimeout = connecting
		}
		h.each = append(h.each, one)
	}
	return h
}

// dialing marks the context of a connection that is made on purpose: what the driver dials besides is to cancel.
type dialing struct{}

var errNoCancel = errors.New("postgres: nothing is cancelled at the server; the connection is closed")

// open connects to the first host that takes us, beginning with the one to try first.
func open[C any](ctx context.Context, h *hosts, bound time.Duration,
	connect func(context.Context, *pgx.ConnConfig) (C, error)) (conn C, l *link, err error) {
	ctx = context.WithValue(ctx, dialing{}, true)
	first := int(h.good.Load())
	var all []error
	for i := range h.each {
		at := (first + i) % len(h.each)
		cfg := h.each[at].Copy()
		dial := cfg.DialFunc
		cfg.DialFunc = func(ctx context.Context, network, addr string) (net.Conn, error) {
			if ctx.Value(dialing{}) == nil {
				return nil, errNoCancel
			}
			c, err := dial(ctx, network, addr)
			if err != nil {
				return nil, err
			}
			l = newLink(c, bound, func() { h.retire(at) })
			return l, nil
		}
		judge := cfg.OnPgError
		cfg.OnPgError = func(c *pgconn.PgConn, e *pgconn.PgError) bool {
			if e.Code == readOnly { // what was the primary is a standby now
				h.retire(at)
				return false
			}
			return judge(c, e)
		}
		conn, err := connect(ctx, cfg)
		if err == nil {
			h.good.Store(int32(at))
			l.inUse.Store(true)
			return conn, l, nil
		}
		all = append(all, err)
		if ctx.Err() != nil {
			break
		}
	}
	return conn, nil, errors.Join(all...)
}

// readOnly is what a server says that takes no writes (SQLSTATE).
const readOnly = "25006"

// retire has connections that exist not used again, as they have the same server as the one that was silent, and the
// next one tried first: an old primary that is back takes connections and keeps commits waiting for ever.
func (h *hosts) retire(silent int) {
	h.epoch.Add(1)
	h.good.CompareAndSwap(int32(silent), int32((silent+1)%len(h.each)))
}

// A connector makes connections of database/sql.
type connector struct {
	*hosts
	bound time.Duration
	set   map[string]string // parameters of its sessions, where the string has none of the same name
}

// born is under which key a connection has its epoch and its link.
const born = "illumicode"

type birth struct {
	epoch int64
	link  *link
}

// retired reports whether a connection is not to be used again.
func (c *connector) retired(conn *pgx.Conn) bool {
	b, ok := conn.PgConn().CustomData()[born].(birth)
	return ok && b.epoch != c.epoch.Load()
}

// Connect implements [driver.Connector].
func (c *connector) Connect(ctx context.Context) (driver.Conn, error) {
	epoch := c.epoch.Load()
	conn, l, err := open(ctx, c.hosts, c.bound, func(ctx context.Context, cfg *pgx.ConnConfig) (driver.Conn, error) {
		for name, value := range c.set {
			if cfg.RuntimeParams[name] == "" {
				cfg.RuntimeParams[name] = value
			}
		}
		return stdlib.GetConnector(*cfg,
			stdlib.OptionShouldPing(func(_ context.Context, p stdlib.ShouldPingParams) bool {
				return p.IdleDuration > time.Second && !c.retired(p.Conn)
			}),
			stdlib.OptionResetSession(func(_ context.Context, conn *pgx.Conn) error {
				if !c.retired(conn) {
					return nil
				}
				conn.PgConn().CustomData()[born].(birth).link.Close() // a farewell would wait for an answer
				return driver.ErrBadConn
			})).Connect(ctx)
	})
	if err != nil {
		return nil, err
	}
	conn.(*stdlib.Conn).Conn().PgConn().CustomData()[born] = birth{epoch, l}
	return conn, nil
}

// Driver implements [driver.Connector].
func (c *connector) Driver() driver.Driver { return stdlib.GetDefaultDriver() }

// session returns the parameters of sessions that wait for a lock no longer than that. Behind a pooler there are none:
// it would refuse them.
func session(pooled bool, lock time.Duration) map[string]string {
	if pooled {
		return nil
	}
	ms := func(d time.Duration) string { return fmt.Sprint(d.Milliseconds()) }
	return map[string]string{"lock_timeout": ms(lock), "idle_in_transaction_session_timeout": ms(idleInTx)}
}

// probing is how often a session that listens looks whether its server is still there.
const probing = 5 * time.Second

var errRetired = errors.New("postgres: another connection met a silent server, so this one is made anew")

// listen calls wake for each notification until ctx or the connection ends.
func (h *hosts) listen(ctx context.Context, wake func()) error {
	epoch := h.epoch.Load()
	conn, l, err := open(ctx, h, silence, pgx.ConnectConfig)
	if err != nil {
		return err
	}
	defer func() {
		l.bound.Store(int64(time.Second))
		conn.Close(context.WithoutCancel(ctx))
	}()
	if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
		return err
	}
	wake() // for what was announced while nobody listened
	for {
		wait, cancel := context.WithTimeout(ctx, probing)
		l.bound.Store(0)
		_, err := conn.WaitForNotification(wait)
		l.bound.Store(int64(silence))
		cancel()
		switch {
		case err == nil:
			wake()
		case ctx.Err() != nil || !pgconn.Timeout(err):
			return err
		case h.epoch.Load() != epoch:
			return errRetired
		default:
			if err := conn.Ping(ctx); err != nil {
				return err
			}
		}
	}
}
