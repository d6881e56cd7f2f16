package choose

import (
	"time"

	"github.com/illumicode/illumicode/route"
)

// A Stock is what one process has of a provider: letters leased from its quotas, moments at which letters
// may leave, and letters on their way. The zero Hold has nothing. It is not safe for concurrent use.
type Stock struct {
	urgent, others part
	onWay          int       // letters that have no answer yet
	heard          time.Time // the last answer, or when the first of them left
}

// A part is what a process has for the urgent lane, or for the others.
type part struct {
	lease  Lease
	full   Full // the last; asked again when it is over
	slots  Slots
	queued int       // letters that wait for their moment
	later  time.Time // when moments are given out again
}

func (h *Stock) of(urgent bool) *part {
	if urgent {
		return &h.urgent
	}
	return &h.others
}

// Take takes one leased letter at now. Without any it returns what was last refused, if that still
// holds; with neither, ask [TakeLease] for more.
func (h *Stock) Take(urgent bool, now time.Time) (ok bool, full Full) {
	for _, p := range []*part{h.of(urgent), &h.others} { // what others may use, the urgent lane may too
		if p.lease.N > 0 && now.Before(p.lease.Ends) {
			p.lease.N--
			return true, Full{}
		}
	}
	if full := h.of(urgent).full; now.Before(full.At) {
		return false, full
	}
	return false, Full{}
}

// Leased keeps what [TakeLease] has answered, and takes one letter of it if there is any.
func (h *Stock) Leased(urgent bool, l Lease, full Full) (ok bool) {
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
func (h *Stock) PutBack(urgent bool, now time.Time) {
	if p := h.of(urgent); now.Before(p.lease.Ends) {
		p.lease.N++
	}
}

// Unused returns how many leased letters are left, and forgets them.
func (h *Stock) Unused(now time.Time) (n int) {
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

// Moment takes the next moment of those given out. Without any, ask [TakeSlots] for more.
func (h *Stock) Moment(urgent bool, now time.Time) (at time.Time, ok bool) {
	for s := &h.of(urgent).slots; s.N > 0; {
		at = s.From
		s.From, s.N = s.From.Add(s.Gap), s.N-1
		if now.Sub(at) <= Late {
			return at, true
		}
	}
	return time.Time{}, false
}

// Given keeps what [TakeSlots] has answered, and takes the first moment of it; without any, at is when
// to ask again.
func (h *Stock) Given(urgent bool, s Slots, later time.Time) (at time.Time, ok bool) {
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

// Later returns when moments are given out again, after [TakeSlots] had none; zero if it had always some.
func (h *Stock) Later(urgent bool) time.Time { return h.of(urgent).later }

// Queue counts letters that wait for their moment: 1 for one that begins to, -1 for one that has ended.
func (h *Stock) Queue(urgent bool, n int) { h.of(urgent).queued += n }

// crowd is how long letters may wait for their moment before others look for another provider.
const crowd = time.Second

// BusyUntil returns when one more letter would no longer wait long for its moment; zero if it does not
// now. By then half of those that wait have gone, so that not everybody looks again for each that goes.
func (h *Stock) BusyUntil(c route.Caps, health Health, urgent bool, now time.Time) time.Time {
	if !Paced(c, health) {
		return time.Time{}
	}
	p := h.of(urgent)
	if wait := time.Duration(p.queued) * Gap(c, health); wait > crowd {
		return now.Add(wait - crowd/2)
	}
	if p.later.Sub(now) > crowd {
		return p.later
	}
	return time.Time{}
}

// Sent notes that a letter has left for the provider.
func (h *Stock) Sent(now time.Time) {
	if h.onWay == 0 {
		h.heard = now
	}
	h.onWay++
}

// Heard notes that a letter's attempt has ended, with an answer or without.
func (h *Stock) Heard(now time.Time) {
	h.onWay--
	h.heard = now
}

// Silent returns when to look again at a provider that is silent; zero for one that is not. A provider is silent if
// several letters wait for its answer, and none has come for as long as a circuit first stays open. An attempt may take
// ten minutes (RFC 5321 §4.5.3.2.6), in which a provider that hangs would gather every sender.
func (h *Stock) Silent(b Breaker, now time.Time) time.Time {
	first := b.withDefaults().First
	if h.onWay < 2 || now.Sub(h.heard) < first {
		return time.Time{}
	}
	return now.Add(min(first, time.Second))
}

// Patience is how long a letter waits for one of a provider's connections, before another provider may
// have it.
func (b Breaker) Patience() time.Duration { return 2 * b.withDefaults().First }
