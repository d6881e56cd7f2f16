package postgres

import (
	"errors"
	"fmt"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// A link is a connection whose server must not be silent for long: a read or a write that waits longer than the bound
// closes it. No cancel request is sent, as it could reach a COMMIT that waits for a standby: the server would answer
// that it is done when it is not replicated.
type link struct {
	net.Conn
	bound atomic.Int64 // nanoseconds; 0 for none
	lost  func()       // is told when a bound ran out
	inUse atomic.Bool  // the session has begun

	mu    sync.Mutex // guards what follows
	asked time.Time  // the deadline that the driver has set; zero for none
	ended error      // why nothing works any more
}

func newLink(c net.Conn, bound time.Duration, lost func()) *link {
	l := &link{Conn: c, lost: lost}
	l.bound.Store(int64(bound))
	return l
}

// An endError is why a link has ended. To the driver it is a time-out: after anything else the driver says "closed" of
// what follows, and calls that safe to do again, though the statement was sent.
type endError struct{ error }

func (e endError) Unwrap() error { return e.error }
func (endError) Timeout() bool   { return true }
func (endError) Temporary() bool { return false }

var errSilent = errors.New("postgres: the server was silent")

// deadline returns when the next read or write ends at the latest, and whether that is the link's own bound.
func (l *link) deadline() (at time.Time, own bool) {
	bound := time.Duration(l.bound.Load())
	if bound == 0 {
		return l.asked, false
	}
	at = time.Now().Add(bound)
	if !l.asked.IsZero() && l.asked.Before(at) {
		return l.asked, false
	}
	return at, true
}

// within does one read or write.
func (l *link) within(set func(time.Time) error, do func([]byte) (int, error), b []byte) (int, error) {
	l.mu.Lock()
	at, own := l.deadline()
	err := l.ended
	if err == nil {
		err = set(at)
	}
	l.mu.Unlock()
	if err != nil {
		return 0, err
	}
	n, err := do(b)
	if err == nil {
		return n, nil
	}
	e, ok := errors.AsType[net.Error](err)
	return n, l.failed(err, ok && e.Timeout(), own)
}

// failed returns what a read or write is told that failed with err; own says that the link's bound was set for it.
func (l *link) failed(err error, timeout, own bool) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case l.ended != nil:
		return l.ended
	case timeout && (!own || !l.asked.IsZero() && !time.Now().Before(l.asked)):
		return err // the caller's context has ended
	case timeout:
		l.ended = endError{fmt.Errorf("%w for %v, so its connection was closed; what it did meanwhile is not known",
			errSilent, time.Duration(l.bound.Load()))}
		l.Conn.Close()
		l.lost()
	case !l.inUse.Load():
		return err
	default:
		l.ended = endError{err}
	}
	return l.ended
}

func (l *link) Read(b []byte) (int, error) { return l.within(l.Conn.SetReadDeadline, l.Conn.Read, b) }
func (l *link) Write(b []byte) (int, error) {
	return l.within(l.Conn.SetWriteDeadline, l.Conn.Write, b)
}

// SetDeadline is how the driver ends a read when the caller's context ends.
func (l *link) SetDeadline(t time.Time) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.asked = t
	at, _ := l.deadline()
	return l.Conn.SetDeadline(at)
}
