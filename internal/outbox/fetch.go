package outbox

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

// fetch claims from some lanes, and queues, until ctx ends. wake is what it is woken by.
func (w *worker) fetch(ctx context.Context, wake chan struct{}, lanes ...store.Lane) {
	loop := w.loops.begin("looked for letters of lane "+string(lanes[0]), w.cfg.Poll)
	defer loop.end()
	woken := false
	look := lanes // where something may be
	poll := time.NewTicker(w.cfg.Poll)
	defer poll.Stop()
	for pause := time.Duration(0); ctx.Err() == nil; {
		err := error(nil)
		var room chan struct{}
		var more []store.Lane // where there is more than there was room for
		if !w.holds.Load() {
			for _, lane := range look {
				left := false
				if left, err = w.fill(ctx, lane, woken); err != nil {
					break
				}
				if left { // go on as soon as there is room
					room = w.queue.room[lane]
					more = append(more, lane)
				}
			}
		}
		look = lanes
		if err != nil && ctx.Err() == nil {
			pause = nextPause(pause)
			w.log.Error("the worker cannot claim", "error", err, "again_in", pause)
			sleep(ctx, pause)
			continue
		}
		if err == nil {
			loop.round()
			if lanes[0] != store.Urgent {
				w.looking.Do(func() { close(w.looked) })
			}
		}
		pause, woken = 0, false
		select {
		case <-ctx.Done():
		case <-room:
			look = more
		case <-wake:
			woken = true
			w.cfg.Observer.Woken()
		case <-poll.C:
		}
	}
}

// fill claims as much of a lane as there is room for, and reports whether it may have more. The
// lane is probed before it is claimed from, as the probe takes no lock; not so the urgent one when
// somebody has just said that something is there.
func (w *worker) fill(ctx context.Context, lane store.Lane, woken bool) (more bool, err error) {
	if w.pausedLane(lane) {
		return false, nil
	}
	room := w.queue.free(lane)
	if room == 0 {
		return true, nil
	}
	now := w.now()
	mark := w.marks[lane].mark(now)
	if lane != store.Urgent || !woken {
		due, err := w.store.AnyDue(ctx, lane, mark, now)
		if err != nil || !due {
			return false, err
		}
	}
	claimed, err := w.store.Claim(ctx, w.row.ID, store.Reach{Lane: lane, After: mark, Most: room}, now)
	if err != nil {
		return false, err
	}
	slices.SortFunc(claimed, func(a, b store.Delivery) int { // a database returns them as it likes
		return cmp.Or(a.Due.Compare(b.Due), strings.Compare(a.ID, b.ID))
	})
	w.marks[lane].claimed(claimed, now)
	w.queue.put(lane, w.screened(ctx, w.addressed(ctx, claimed...)))
	w.cfg.Observer.Claimed(lane, len(claimed))
	return len(claimed) == room, nil
}

// screened returns what of a claim may be sent, and ends the rest. One question for a whole claim
// costs little; one for each letter would cost a fifth of its delivery.
func (w *worker) screened(ctx context.Context, claimed []Addressed) []Addressed {
	if w.cfg.Screen == nil || len(claimed) == 0 {
		return claimed
	}
	notes, err := w.cfg.Screen(ctx, claimed)
	if err != nil {
		w.log.Error("it cannot be told who must not be written to, so nothing is sent", "error", err)
		for _, d := range claimed {
			w.unclaim(d.Delivery, w.now().Add(w.cfg.Poll), "")
		}
		return nil
	}
	if len(notes) == 0 {
		return claimed
	}
	return slices.DeleteFunc(claimed, func(d Addressed) bool {
		note, suppressed := notes[d.ID]
		if suppressed {
			w.drop(d, store.Suppressed, note)
		}
		return suppressed
	})
}
