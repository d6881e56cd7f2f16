package outbox

import (
	"maps"
	"slices"
	"sync"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/store"
)

// A queue holds what a worker has claimed and no sender has begun, lane by lane, and knows what
// senders have in work.
type queue struct {
	most int                          // of a lane
	room map[store.Lane]chan struct{} // there is room again

	mu     sync.Mutex // guards what follows
	ready  *sync.Cond
	lanes  map[store.Lane][]Addressed
	turns  choose.Turns
	known  map[string]int64 // the claim of every delivery that is queued or in work
	closed bool
}

func newQueue(most int, weights map[store.Lane]int) *queue {
	q := &queue{most: most, room: make(map[store.Lane]chan struct{}),
		turns: choose.NewTurns(weights[store.Urgent], weights[store.Normal], weights[store.Bulk]),
		lanes: make(map[store.Lane][]Addressed), known: make(map[string]int64)}
	// The lanes that one fetcher fills share what it waits for.
	q.room[store.Urgent], q.room[store.Normal] = make(chan struct{}, 1), make(chan struct{}, 1)
	q.room[store.Bulk] = q.room[store.Normal]
	q.ready = sync.NewCond(&q.mu)
	return q
}

// free returns how many more of a lane may be claimed: none until half its room is free, as one
// larger claim costs little more than a small one.
func (q *queue) free(lane store.Lane) int {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.freeLocked(lane)
}

func (q *queue) freeLocked(lane store.Lane) int {
	if n := q.most - len(q.lanes[lane]); n >= (q.most+1)/2 {
		return n
	}
	return 0
}

func (q *queue) put(lane store.Lane, all []Addressed) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.lanes[lane] = append(q.lanes[lane], all...)
	for _, d := range all {
		q.known[d.ID] = d.Claim
	}
	q.ready.Broadcast()
}

// done says that a sender has finished with what it took.
func (q *queue) done(d Addressed) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.known[d.ID] == d.Claim { // else it was claimed again meanwhile
		delete(q.known, d.ID)
	}
}

// ids returns what is queued or in work.
func (q *queue) ids() []string {
	q.mu.Lock()
	defer q.mu.Unlock()
	return slices.Collect(maps.Keys(q.known))
}

// any reports whether something is queued or in work.
func (q *queue) any() bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return len(q.known) > 0
}

// take returns the next delivery for a sender, and waits for one; false means that the queue is
// closed and empty. A reserved sender gets urgent ones only; the others get each lane in
// proportion to its weight, as long as several have something.
func (q *queue) take(reserved bool) (Addressed, bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for {
		if lane, ok := q.next(reserved); ok {
			d := q.lanes[lane][0]
			q.lanes[lane] = q.lanes[lane][1:]
			if q.freeLocked(lane) > 0 {
				select {
				case q.room[lane] <- struct{}{}:
				default:
				}
			}
			return d, true
		}
		if q.closed {
			return Addressed{}, false
		}
		q.ready.Wait()
	}
}

// next chooses a lane.
func (q *queue) next(reserved bool) (lane store.Lane, ok bool) {
	if reserved && !q.closed { // at the end everybody helps to give back
		return store.Urgent, len(q.lanes[store.Urgent]) > 0
	}
	i := q.turns.Next(func(i int) bool { return len(q.lanes[store.Lanes[i]]) > 0 })
	if i < 0 {
		return "", false
	}
	return store.Lanes[i], true
}

// close lets senders empty the queue and end.
func (q *queue) close() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.closed = true
	q.ready.Broadcast()
}
