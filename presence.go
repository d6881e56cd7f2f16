package illumicode

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/token"
)

// A KeySource returns the contents of a keyring file, wherever they are kept. The service reads it at its start, and
// while it runs or is called, about every ten seconds, and sooner if Outbox.Poll is short: a source that asks another
// machine should remember the answer for a while. It is called by one goroutine at a time, with ten seconds until its
// context ends.
type KeySource func(ctx context.Context) ([]byte, error)

// KeyFile returns the source of a keyring in a file, which only its owner may read: mode 0600 or less.
func KeyFile(path string) KeySource {
	return func(context.Context) ([]byte, error) {
		info, err := os.Stat(path)
		if err != nil {
			return nil, fmt.Errorf("the keyring cannot be read: %w; make it with `illumicode keys new --out %s`", err,
				filepath.Base(path))
		}
		if info.Mode().Perm()&0o077 != 0 && runtime.GOOS != "windows" { // where modes do not tell
			return nil, fmt.Errorf("the keyring is readable by others (mode %v); chmod 600 %s, and consider its keys "+
				"known to them", info.Mode().Perm(), path)
		}
		return os.ReadFile(path)
	}
}

// KeyEnv returns the source of a keyring in an environment variable. A process that runs has the one it began with: a
// new keyring needs a restart.
func KeyEnv(name string) KeySource {
	return func(context.Context) ([]byte, error) {
		if v := os.Getenv(name); v != "" {
			return []byte(v), nil
		}
		return nil,
			fmt.Errorf("the environment variable %s is empty; it should hold the keyring, as `illumicode keys new` "+
				"writes it", name)
	}
}

// read returns the keyring of a source.
func (source KeySource) read(ctx context.Context) (*token.Keyring, error) {
	bounded, cancel := context.WithTimeout(ctx, readKeysWithin)
	defer cancel()
	raw, err := source(bounded)
	if err != nil {
		return nil, err
	}
	return token.Parse(raw)
}

const (
	readKeysWithin = 10 * time.Second
	lookAtKeys     = 10 * time.Second // with a short poll sooner
	appearEvery    = 5 * time.Minute
	appearWithin   = time.Second
)

// A presence tells other processes, in the database, that this one is there and which keys it knows.
type presence struct {
	p      *flow.Parts
	source KeySource // nil for a keyring that the application replaces itself
	every  time.Duration

	next    atomic.Int64 // when to look again, in Unix nanoseconds
	reading atomic.Bool

	mu     sync.Mutex // guards what follows
	row    rows.Process
	there  bool   // the row may be there: an answer can be lost with its context
	said   string // the keys of the row as it was written
	wrote  time.Time
	warned time.Time // that it could not be written

	unread time.Time // when it was last said that the source cannot be read; of whoever is reading
}

func newPresence(p *flow.Parts, source KeySource, poll time.Duration) *presence {
	host, _ := os.Hostname() // for people; the pid beside it helps even without
	r := &presence{p: p, source: source, every: lookAtKeys, row: rows.Process{ID: flow.NewID(), Host: host,
		PID: os.Getpid(), Version: programVersion()}}
	if poll > 0 {
		r.every = min(r.every, housekeepPolls*poll)
	}
	p.Store.AtClose(func() { r.leave(context.Background()) })
	return r
}

// housekeepPolls is how many polls of a worker pass between two looks at what time asks for.
const housekeepPolls = 20

// here looks after the keys where a call comes, if nobody has for a while. It fails no call.
func (r *presence) here(ctx context.Context) {
	now, next := time.Now().UnixNano(), r.next.Load()
	if now < next || !r.next.CompareAndSwap(next, now+int64(r.every)) {
		return
	}
	if r.source != nil && next != 0 && r.reading.CompareAndSwap(false, true) {
		go func() { // a call does not wait for it; it ends with the bound of a source
			defer r.reading.Store(false)
			r.refresh(context.WithoutCancel(ctx))
			r.appear(context.WithoutCancel(ctx))
		}()
		return
	}
	r.appear(ctx)
}

// run does the same until ctx ends, and then takes this process off the list.
func (r *presence) run(ctx context.Context) {
	for ctx.Err() == nil {
		r.next.Store(time.Now().Add(2 * r.every).UnixNano())
		if r.source != nil && r.reading.CompareAndSwap(false, true) {
			r.refresh(ctx)
			r.reading.Store(false)
		}
		r.appear(ctx)
		select {
		case <-ctx.Done():
		case <-time.After(r.every):
		}
	}
	r.leave(context.WithoutCancel(ctx))
}

// refresh takes up the keyring of the source. If it cannot be read, the keys stay.
func (r *presence) refresh(ctx context.Context) {
	ring, err := r.source.read(ctx)
	if err != nil {
		if ctx.Err() == nil && time.Since(r.unread) > time.Minute {
			r.unread = time.Now()
			r.p.Log.Error("the keyring cannot be read; the keys stay as they were", "error", err)
		}
		return
	}
	next := keyring.Of(ring)
	if string(next.Marshal()) == string(r.p.Keys.Marshal()) {
		return
	}
	r.p.Keys.Replace(next)
	r.p.Log.Info("took up the keyring", "signs", next.Active())
}

// appear writes down which keys this process knows, if that has changed or was long ago.
func (r *presence) appear(ctx context.Context) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.row.Kids, r.row.Signs = r.p.Keys.Kids()
	said := strings.Join(r.row.Kids, " ") + "/" + strings.Join(r.row.Signs, " ")
	if said == r.said && time.Since(r.wrote) < appearEvery {
		return
	}
	bounded, cancel := context.WithTimeout(ctx, appearWithin)
	defer cancel()
	r.row.Seen, r.there = r.p.Now(), true
	err := r.p.Store.Appear(bounded, r.row)
	if err == nil && said != r.said {
		err = r.compare(bounded)
	}
	if err != nil {
		if ctx.Err() == nil && time.Since(r.warned) > appearEvery {
			r.warned = time.Now()
			r.p.Log.Warn("other processes cannot be told which keys this one knows", "error", err)
		}
		return
	}
	r.said, r.wrote = said, time.Now()
}

// compare warns of processes that sign with a key which this one lacks: it refuses what they make.
func (r *presence) compare(ctx context.Context) error {
	all, err := r.p.Store.Processes(ctx, r.row.Seen)
	for _, other := range all {
		for _, kid := range other.Signs {
			if !slices.Contains(r.row.Kids, kid) {
				r.p.Log.Warn("another process signs with a key that this one lacks: its links are refused here",
					"key", kid, "host", other.Host, "pid", other.PID)
			}
		}
	}
	return err
}

// leave takes this process off the list; it comes back with the next call.
func (r *presence) leave(ctx context.Context) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.there {
		return
	}
	bounded, cancel := context.WithTimeout(ctx, appearWithin)
	defer cancel()
	if err := r.p.Store.Disappear(bounded, r.row.ID); err != nil {
		r.p.Log.Warn("this process stays on the list for a day", "error", err)
	}
	r.there, r.said = false, ""
}

// programVersion returns the version of this module in the program.
func programVersion() string {
	const module = "github.com/illumicode/illumicode"
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return ""
	}
	for _, m := range append(info.Deps, &info.Main) {
		if m.Path == module {
			return m.Version
		}
	}
	return ""
}
