package outbox

import (
	"context"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/store"
)

// Slots bound how many letters one provider carries at once in this process. A fifth, and at
// least one where there is more than one, is kept for the urgent lane.
type slots struct {
	all    chan struct{}
	common chan struct{} // for the other lanes
}

// slotsOf returns the slots of each provider that has a bound.
func slotsOf(ways []provider.Provider) map[string]*slots {
	m := make(map[string]*slots)
	for _, p := range ways {
		if most := p.Can().Most; most > 0 {
			kept := 0
			if most > 1 {
				kept = max(1, most/5)
			}
			m[p.Name()] = &slots{all: make(chan struct{}, most), common: make(chan struct{}, most-kept)}
		}
	}
	return m
}

// try takes a slot if one is free.
func (s *slots) try(lane store.Lane) bool {
	if s == nil {
		return true
	}
	if lane != store.Urgent {
		select {
		case s.common <- struct{}{}:
		default:
			return false
		}
	}
	select {
	case s.all <- struct{}{}:
		return true
	default:
		if lane != store.Urgent {
			<-s.common
		}
		return false
	}
}

// wait takes a slot and reports whether it got one before ctx ended.
func (s *slots) wait(ctx context.Context, lane store.Lane) bool {
	if lane != store.Urgent {
		select {
		case s.common <- struct{}{}:
		case <-ctx.Done():
			return false
		}
	}
	select {
	case s.all <- struct{}{}:
		return true
	case <-ctx.Done():
		if lane != store.Urgent {
			<-s.common
		}
		return false
	}
}

func (s *slots) give(lane store.Lane) {
	if s == nil {
		return
	}
	<-s.all
	if lane != store.Urgent {
		<-s.common
	}
}
