package route

import "time"

// A Hold is what one process has of a provider's caps: letters leased from its quotas, and moments at
// which letters may leave. The zero Hold has nothing. It is not safe for concurrent use.
type Hold struct{ urgent, others part }

// A part is what a process has for the urgent lane, or for the others.
type part struct {
	lease  Lease
	full   Refusal // the last; asked again when it is over
	slots  Slots
	queued int       // letters that wait for their moment
	later  time.Time // when moments are given out again
}

func (h *Hold) of(urgent bool) *part {
	if urgent {
		return &h.urgent
	}
	return &h.others
}

// Take takes one leased letter at now. Without any it returns what was last refused, if that still
// holds; with neither, ask [Caps.Lease] for more.
func (h *Hold) Take(urgent bool, now time.Time) (ok bool, full Refusal) {
	for _, p := range []*part{h.of(urgent), &h.others} { // what others may use, the urgent lane may too
		if p.lease.N > 0 && now.Before(p.lease.Ends) {
			p.lease.N--
			return true, Refusal{}
		}
	}
	if full := h.of(urgent).full; now.Before(full.At) {
		return false, full
	}
	return false, Refusal{}
}

// Leased keeps what [Caps.Lease] has answered, and takes one letter of it if there is any.
func (h *Hold) Leased(urgent bool, l Lease, full Refusal) (ok bool) {
	p := h.of(urgent)
	p.full = full
	if l.N == 0 {
		return false
	}
	l.N--
	p.lease = l
	return true
}

// PutBack returns a letter that was taken and not sent.
func (h *Hold) PutBack(urgent bool, now time.Time) {
	if p := h.of(urgent); now.Before(p.lease.Ends) {
		p.lease.N++
	}
}

// Unused returns how many leased letters are left, and forgets them.
func (h *Hold) Unused(now time.Time) (n int) {
	for _, p := range []*part{&h.urgent, &h.others} {
		if now.Before(p.lease.Ends) {
			n += p.lease.N
		}
		p.lease = Lease{}
	}
	return n
}

// Late is how long after its moment a letter may leave. A moment that is over is not made up for: two
// letters at once are what a pace is to prevent.
const Late = 20 * time.Millisecond

// Moment takes the next moment of those given out. Without any, ask [Caps.Slots] for more.
func (h *Hold) Moment(urgent bool, now time.Time) (at time.Time, ok bool) {
	for s := &h.of(urgent).slots; s.N > 0; {
		at = s.From
		s.From, s.N = s.From.Add(s.Gap), s.N-1
		if now.Sub(at) <= Late {
			return at, true
		}
	}
	return time.Time{}, false
}

// Given keeps what [Caps.Slots] has answered, and takes the first moment of it; without any, at is when
// to ask again.
func (h *Hold) Given(urgent bool, s Slots, later time.Time) (at time.Time, ok bool) {
	p := h.of(urgent)
	if s.N == 0 {
		p.later = later
		return later, false
	}
	at = s.From
	s.From, s.N = s.From.Add(s.Gap), s.N-1
	p.slots = s
	return at, true
}

// Queue counts letters that wait for their moment: 1 for one that begins to, -1 for one that has ended.
func (h *Hold) Queue(urgent bool, n int) { h.of(urgent).queued += n }

// crowd is how long letters may wait for their moment before others look for another provider.
const crowd = time.Second

// BusyUntil returns when one more letter would no longer wait long for its moment; zero if it does not
// now.
func (h *Hold) BusyUntil(c Caps, health Health, urgent bool, now time.Time) time.Time {
	if !c.Paced(health) {
		return time.Time{}
	}
	p := h.of(urgent)
	if wait := time.Duration(p.queued) * c.Gap(health); wait > crowd {
		return now.Add(wait - crowd)
	}
	if p.later.Sub(now) > crowd {
		return p.later
	}
	return time.Time{}
}
