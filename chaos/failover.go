package main

import (
	"fmt"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/internal/proxy"
)

// Failing over from a primary to its synchronous standby, with a connection string that names both.

var failovers = []scenario{
	{"primary killed, standby promoted", onPostgres, 3 * senders, failover(func(s *stage) (func() error, error) {
		return nil, s.pg.Crash(s.ctx)
	})},
	{"primary frozen, standby promoted, old primary back", onPostgres, 3 * senders,
		failover(func(s *stage) (func() error, error) { return s.pg.Thaw, s.pg.Freeze() })},
	{"primary cut off, standby promoted, old primary back", onPostgres, 3 * senders,
		failover(func(s *stage) (func() error, error) {
			s.between.Silence(proxy.ToServer, true)
			s.between.Silence(proxy.ToClient, true)
			return func() error {
				s.between.Silence(proxy.ToServer, false)
				s.between.Silence(proxy.ToClient, false)
				return nil
			}, nil
		})},
}

// behindBouncers are failovers through a pgbouncer before each server.
var behindBouncers = []scenario{
	{"pgbouncers: primary killed, standby promoted", onPostgres, 3 * senders,
		through(false, func(s *stage) (func() error, error) { return nil, s.pg.Crash(s.ctx) })},
	{"pgbouncers: primary frozen, standby promoted, old primary back", onPostgres, 3 * senders,
		through(false, func(s *stage) (func() error, error) { return s.pg.Thaw, s.pg.Freeze() })},
	{"network namespace: primary cut off, standby promoted, old primary back", onPostgres, 3 * senders,
		through(true, func(s *stage) (func() error, error) {
			return func() error { return s.network.Plug(true) }, s.network.Plug(false)
		})},
}

// through plays one loss of the primary, through pgbouncers. With away the one before the primary is in a network
// namespace.
func through(away bool, lose func(*stage) (back func() error, err error)) func(*stage, int, int) error {
	return func(s *stage, letters, _ int) error {
		if err := s.withBouncers(away); err != nil {
			return err
		}
		return s.failover(letters, lose)
	}
}

// withBouncers gives a stage a standby, and a connection string that names a pgbouncer before each.
func (s *stage) withBouncers(away bool) error {
	var err error
	if away {
		if s.network, err = pgtest.NewNamespace(); err != nil {
			return err
		}
	}
	if s.standby, err = s.pg.Standby(s.ctx); err != nil {
		return err
	}
	ports, hosts := make([]string, 2), make([]string, 2)
	for i, server := range []*pgtest.Server{s.pg, s.standby} {
		var in *pgtest.Namespace
		if i == 0 {
			in = s.network
		}
		b, err := server.Bouncer(s.ctx, in)
		if err != nil {
			return err
		}
		s.bouncers = append(s.bouncers, b)
		hosts[i], ports[i] = b.Addr().IP.String(), fmt.Sprint(b.Addr().Port)
	}
	s.closing()
	s.conn = fmt.Sprintf("host=%s port=%s user=illumicode dbname=trial1 sslmode=disable "+
		"default_query_exec_mode=cache_describe", strings.Join(hosts, ","), strings.Join(ports, ","))
	s.listenAt = "off"
	s.svc, s.closing, err = s.open(s.ctx)
	return err
}

// withStandby gives a stage a standby, and a connection string that names it after the primary, which is behind a
// proxy.
func (s *stage) withStandby() error {
	var err error
	if s.standby, err = s.pg.Standby(s.ctx); err != nil {
		return err
	}
	if s.between, err = proxy.New("unix", s.pg.Socket(), 0); err != nil {
		return err
	}
	s.closing()
	s.conn = fmt.Sprintf("host=127.0.0.1,%s port=%d,5432 user=illumicode dbname=trial1 sslmode=disable",
		s.standby.Dir(), s.between.Addr().Port)
	s.svc, s.closing, err = s.open(s.ctx)
	return err
}

// failover plays one loss of the primary in the middle of the letters. lose returns what brings the old one back, as
// one that does not know; nil where it stays away.
func failover(lose func(*stage) (back func() error, err error)) func(*stage, int, int) error {
	return func(s *stage, letters, _ int) error {
		if err := s.withStandby(); err != nil {
			return err
		}
		return s.failover(letters, lose)
	}
}

// failover loses the primary in the middle of the letters.
func (s *stage) failover(letters int, lose func(*stage) (back func() error, err error)) error {
	return s.during(letters, 1, func() error {
		s.faults++
		back, err := lose(s)
		if err != nil {
			return err
		}
		time.Sleep(time.Second) // what decides that it is lost
		if err := s.standby.Promote(s.ctx); err != nil {
			return err
		}
		promoted := time.Now()
		for before := s.progress(); s.progress() == before; {
			if err := s.ctx.Err(); err != nil {
				return err
			}
			time.Sleep(10 * time.Millisecond)
		}
		s.resumed = time.Since(promoted)
		if back != nil {
			time.Sleep(time.Second)
			if err := back(); err != nil {
				return err
			}
		}
		// Who only reads would not notice that it reads from the old one.
		s.closing()
		s.conn, s.listenAt = s.standby.Conn("trial1"), ""
		s.svc, s.closing, err = s.open(s.ctx)
		return err
	})
}
