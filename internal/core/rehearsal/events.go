package rehearsal

import "time"

// A kind is what an event is.
type kind uint8

const (
	arriving   kind = iota // somebody of a group comes: who is the group
	asking                 // the application has taken a person's first request
	pressing               // a person presses "send again": n is their visit
	receiving              // a letter is in a person's mailbox
	despairing             // a person gives up
	announcing             // a notice to many is enqueued
	falling                // a delivery that waited is due
	napping                // a sender that waited for a provider looks again
	tiring                 // letters of a way have waited long for a connection: who is the way
	leaving                // a letter's moment has come
	answering              // an attempt ends: n is what the provider answers
	turning                // the machine has time for the next letter
	sampling
)

// An event is something that happens. It has no pointer in it, so that a heap of them costs the garbage
// collector nothing.
type event struct {
	at   time.Duration // from the scenario's start
	seq  uint32        // of two at one instant the one that was made first comes first
	kind kind
	who  int32
	n    int32
}

// events is a heap, the next one on top. Four children to a node: half as many levels as two have.
type events struct {
	heap []event
	made uint32
}

func (e event) before(other event) bool {
	if e.at != other.at {
		return e.at < other.at
	}
	return int32(e.seq-other.seq) < 0 // the count may wrap; what is compared is near
}

// push lets an event happen at an instant.
func (p *play) push(at time.Time, e event) {
	e.at = at.Sub(p.Start)
	p.events.push(e)
}

func (h *events) push(e event) {
	e.seq = h.made
	h.made++
	h.heap = append(h.heap, e)
	q := h.heap
	i := len(q) - 1
	for i > 0 {
		parent := (i - 1) / 4
		if !e.before(q[parent]) {
			break
		}
		q[i] = q[parent]
		i = parent
	}
	q[i] = e
}

func (h *events) pop() event {
	q := h.heap
	top, last := q[0], q[len(q)-1]
	q = q[:len(q)-1]
	h.heap = q
	if len(q) == 0 {
		return top
	}
	i := 0
	for {
		child := 4*i + 1
		if child >= len(q) {
			break
		}
		best := child
		for c := child + 1; c < min(child+4, len(q)); c++ {
			if q[c].before(q[best]) {
				best = c
			}
		}
		if !q[best].before(last) {
			break
		}
		q[i] = q[best]
		i = best
	}
	q[i] = last
	return top
}
