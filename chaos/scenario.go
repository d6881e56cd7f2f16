package main

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/internal/proxy"
)

// A report is what a scenario came to.
type report struct {
	name     string
	database string
	letters  int // accepted
	arrived  int // at so many addresses
	extra    int // letters that came besides
	repeats  int // that the store counts
	bound    int // how many could be in flight; 0 where faults have no number
	faults   int
	resumed  time.Duration // after the promotion of a standby; 0 for none
	took     time.Duration
}

func (r report) lost() int { return r.letters - r.arrived }

// check says what the report must not be.
func (r report) check() error {
	switch {
	case r.lost() != 0:
		return fmt.Errorf("%s, %s: %d of %d letters are LOST", r.name, r.database, r.lost(), r.letters)
	case r.extra > r.repeats:
		return fmt.Errorf("%s, %s: %d letters came twice, and only %d repeats were counted", r.name, r.database,
			r.extra, r.repeats)
	case r.bound > 0 && r.extra > r.bound:
		return fmt.Errorf("%s, %s: %d letters came twice, and at most %d were in flight", r.name, r.database, r.extra,
			r.bound)
	}
	return nil
}

// A stage is one scenario under way.
type stage struct {
	program string // of workers
	setup
	ctx      context.Context
	dir      string
	mail     *mailServer
	pg       *pgtest.Server // nil on SQLite
	standby  *pgtest.Server // of pg, and what stands between pg and everybody; nil for none
	between  *proxy.Proxy
	bouncers []*pgtest.Bouncer // before pg and standby; nil for none
	network  *pgtest.Namespace // of the first bouncer; nil for ours
	resumed  time.Duration     // how long after the promotion of the standby letters arrived again
	workers  []*exec.Cmd
	own      map[*exec.Cmd]setup // of those that differ from the stage's
	svc      *illumicode.Service
	closing  func()
	accepted int // where that is not as many as were to be
	faults   int
}

// newStage prepares an empty database, on a server of its own for PostgreSQL, and a mail server.
// file names the SQLite file; empty is for PostgreSQL.
func newStage(ctx context.Context, program, file string) (*stage, error) {
	s := &stage{ctx: ctx, program: program}
	var err error
	if s.mail, err = newMailServer(); err != nil {
		return nil, err
	}
	s.listen = s.mail.listen.Addr().String()
	if s.file = file; file == "" {
		if s.pg, err = pgtest.Start(ctx); err != nil {
			return nil, err
		}
		if s.conn, err = s.pg.Database(ctx); err != nil {
			return nil, err
		}
	}
	s.svc, s.closing, err = s.open(ctx)
	return s, err
}

// end stops everything.
func (s *stage) end() error {
	for _, w := range s.workers {
		w.Process.Signal(syscall.SIGTERM)
	}
	var errs []error
	for _, w := range s.workers {
		if err := w.Wait(); err != nil {
			errs = append(errs, fmt.Errorf("a worker: %w", err))
		}
	}
	s.closing()
	s.mail.close()
	if s.between != nil {
		s.between.Close()
	}
	for _, b := range s.bouncers {
		errs = append(errs, b.Close())
	}
	if s.network != nil {
		errs = append(errs, s.network.Close())
	}
	for _, server := range []*pgtest.Server{s.pg, s.standby} {
		if server != nil {
			errs = append(errs, server.Close())
		}
	}
	return errors.Join(errs...)
}

// start adds a worker process. Every other one has a clock that is
// minutes off; on SQLite there is one machine, and one clock.
func (s *stage) start() error { return s.startAs(s.setup) }

func (s *stage) startAs(own setup) error {
	if s.pg != nil {
		own.skew = []time.Duration{-7 * time.Minute, 0, 4 * time.Minute}[len(s.workers)%3]
	}
	w := exec.Command(s.program)
	w.Env, w.Stderr = own.environ(), os.Stderr
	if err := w.Start(); err != nil {
		return err
	}
	s.workers = append(s.workers, w)
	if s.own == nil {
		s.own = make(map[*exec.Cmd]setup)
	}
	s.own[w] = own
	return nil
}

// kill kills one worker and starts another in its place.
func (s *stage) kill() error {
	i := rand.IntN(len(s.workers))
	w := s.workers[i]
	if err := w.Process.Kill(); err != nil { // SIGKILL
		return err
	}
	w.Wait() // reports the kill
	s.workers = append(s.workers[:i], s.workers[i+1:]...)
	s.faults++
	return s.startAs(s.own[w])
}

// leaseOfWorkers is short, so that faults are recovered from at once.
const leaseOfWorkers = time.Second

// suspend stops one worker for longer than its lease, as a machine does that sleeps.
func (s *stage) suspend() error {
	w := s.workers[rand.IntN(len(s.workers))]
	if err := w.Process.Signal(syscall.SIGSTOP); err != nil {
		return err
	}
	time.Sleep(2 * leaseOfWorkers)
	s.faults++
	return w.Process.Signal(syscall.SIGCONT)
}

func people(from, n int) iter.Seq2[illumicode.Recipient, error] {
	return func(yield func(illumicode.Recipient, error) bool) {
		for i := from; i < from+n; i++ {
			if !yield(illumicode.Recipient{
				Request: illumicode.Request{Address: fmt.Sprintf("p%d@ternisle.example", i)}}, nil) {
				return
			}
		}
	}
}

// enqueue adds a notice to n people.
func (s *stage) enqueue(n int) error {
	_, err := s.svc.NotifyAll(s.ctx, illumicode.Notice{Letter: "trial"}, people(0, n))
	return err
}

// untilEmpty does something again and again until nothing is left to send.
func (s *stage) untilEmpty(again func() error) error {
	for {
		if err := again(); err != nil {
			return err
		}
		left, err := flow.Of(s.svc).Store.Left(s.ctx, s.svc.Now().Add(24*time.Hour))
		if s.ctx.Err() != nil {
			return errors.New("the time was over before everything had arrived")
		}
		if err == nil && !left { // an error: the database is down just now
			return nil
		}
	}
}

// pause waits for a random time up to d.
func (s *stage) pause(d time.Duration) error {
	select {
	case <-s.ctx.Done():
		return s.ctx.Err()
	case <-time.After(time.Duration(rand.Int64N(int64(d)))):
		return nil
	}
}

// A scenario is one kind of fault, many times.
type scenario struct {
	name     string
	database string // empty for both
	perFault int    // how many letters one fault can make arrive twice; 0 if they have no number
	play     func(s *stage, letters, faults int) error
}

const (
	onSQLite   = "SQLite"
	onPostgres = "PostgreSQL"
)

var scenarios = []scenario{
	{"workers killed (SIGKILL)", "", senders, func(s *stage, letters, faults int) error {
		return s.during(letters, faults, s.kill)
	}},
	{"workers stopped past their lease", "", senders, func(s *stage, letters, _ int) error {
		return s.during(letters, max(1, letters/2500), s.suspend)
	}},
	{"database stopped (immediate) and started", onPostgres, 3 * senders, func(s *stage, letters, faults int) error {
		return s.during(letters, max(2, faults/4), func() error {
			s.faults++
			if err := s.pg.Crash(s.ctx); err != nil {
				return err
			}
			if err := s.pause(300 * time.Millisecond); err != nil {
				return err
			}
			return s.pg.Up(s.ctx)
		})
	}},
	{"database connections cut", onPostgres, 3 * senders, func(s *stage, letters, faults int) error {
		return s.during(letters, faults, func() error {
			s.faults++
			_, err := s.svc.Store().DB().ExecContext(s.ctx,
				"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND "+
					"backend_type = 'client backend'")
			return err
		})
	}},
	{"mail connections cut, provider hangs", "", 0, func(s *stage, letters, _ int) error {
		s.mail.moods(0.002, 0.02)
		return s.during(letters, 0, nil)
	}},
	{"provider whose reply does not end", "", 0, func(s *stage, letters, _ int) error {
		s.mail.flood(20 / float64(letters))
		return s.during(letters, 0, nil)
	}},
	{"a transaction held open all the time", "", 0, func(s *stage, letters, _ int) error {
		tx, err := s.svc.Store().DB().BeginTx(s.ctx, nil)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if s.pg == nil { // a reader: a writer would be the only one
			tx.Rollback()
			if tx, err = s.reader(); err != nil {
				return err
			}
			defer tx.Rollback()
		}
		var n int
		if err := tx.QueryRow("SELECT COUNT(*) FROM illumicode_delivery").Scan(&n); err != nil {
			return err
		}
		return s.during(letters, 0, nil)
	}},
	{"disk full", onSQLite, 0, diskFull},
}

// during enqueues letters, starts three workers, and causes faults while they work.
func (s *stage) during(letters, faults int, fault func() error) error {
	if err := s.enqueue(letters); err != nil {
		return err
	}
	for range 3 {
		if err := s.start(); err != nil {
			return err
		}
	}
	return s.faulty(letters, faults, fault)
}

// faulty causes faults while workers work, and waits until they have done everything.
func (s *stage) faulty(letters, faults int, fault func() error) error {
	for s.faults < faults {
		arrived := s.progress()
		if err := s.pause(500 * time.Millisecond); err != nil {
			return err
		}
		// A fault when nobody does anything would prove nothing.
		if s.progress() == letters {
			return fmt.Errorf("all letters had arrived after %d of %d faults: take more letters", s.faults, faults)
		}
		if s.progress() == arrived {
			continue
		}
		if err := fault(); err != nil {
			return err
		}
	}
	return s.untilEmpty(func() error { return s.pause(100 * time.Millisecond) })
}

func (s *stage) progress() int { n, _ := s.mail.counts(); return n }

// A size is how much of a scenario is played.
type size struct{ letters, faults int }

// play plays a scenario on a database.
func play(ctx context.Context, program string, sc scenario, database string, z size) (report, error) {
	dir, err := os.MkdirTemp("", "illumicode-chaos-")
	if err != nil {
		return report{}, err
	}
	defer os.RemoveAll(dir)
	file := ""
	if database == onSQLite {
		file = filepath.Join(dir, "chaos.db")
		if sc.name == "disk full" {
			unmount, err := smallDisk(dir)
			if err != nil {
				return report{}, err
			}
			defer unmount()
		}
	}
	s, err := newStage(ctx, program, file)
	if err != nil {
		return report{}, err
	}
	s.dir = dir
	start := time.Now()
	r := report{name: sc.name, database: database, letters: z.letters}
	if err := sc.play(s, z.letters, z.faults); err != nil {
		return r, errors.Join(err, s.end())
	}
	r.arrived, r.extra = s.mail.counts()
	sum, err := flow.Of(s.svc).Store.Summary(ctx, time.Now())
	if err != nil {
		return r, errors.Join(err, s.end())
	}
	r.resumed = s.resumed
	r.took, r.faults, r.repeats, r.bound = time.Since(start), s.faults, sum.Repeats, s.faults*sc.perFault
	if s.accepted > 0 {
		r.letters = s.accepted
	}
	return r, s.end()
}
