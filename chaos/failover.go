package main

import (
	"fmt"
	"time"

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
			s.conn = s.standby.Conn("trial1")
			s.svc, s.closing, err = s.open(s.ctx)
			return err
		})
	}
}
