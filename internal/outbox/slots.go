package outbox

import (
	"context"
	"sync"

	"github.com/illumicode/illumicode/internal/store"
)

// Slots bound how many letters one provider carries at once from this process. A share of them is kept
// for the urgent lane. The nil slots are without bound.
type slots struct {
	kept func(most int) int // for the urgent lane

	mu      sync.Mutex // guards what follows
	most    int
	all     int           // in use
	common  int           // of these, by other lanes
	changed chan struct{} // closed when something came free
}

func newSlots(most int, kept func(int) int) *slots {
	return &slots{kept: kept, most: most, changed: make(chan struct{})}
}

// take takes a slot if one is free; otherwise changed is closed when to try again.
func (s *slots) take(lane store.Lane) (ok bool, changed <-chan struct{}) {
	if s == nil {
		return true, nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all >= s.most || lane != store.Urgent && s.common >= s.most-s.kept(s.most) {
		return false, s.changed
	}
	s.all++
	if lane != store.Urgent {
		s.common++
	}
	return true, nil
}

// wait takes a slot and reports whether it got one before ctx ended.
func (s *slots) wait(ctx context.Context, lane store.Lane) bool {
	for {
		ok, changed := s.take(lane)
		if ok {
			return true
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return false
		}
	}
}

func (s *slots) give(lane store.Lane) {
	if s == nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all--
	if lane != store.Urgent {
		s.common--
	}
	s.tell()
}

// tell wakes whoever waits. The caller holds mu.
func (s *slots) tell() {
	close(s.changed)
	s.changed = make(chan struct{})
}

// resize changes how many there are; what is in use above it is given back as it ends.
func (s *slots) resize(most int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.most = most
	s.tell()
}

// none reports whether there are none to wait for.
func (s *slots) none() bool {
	if s == nil {
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.most == 0
}

// inUse returns how many are taken.
func (s *slots) inUse() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.all
}
