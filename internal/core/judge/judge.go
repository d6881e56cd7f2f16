package judge

import (
	"time"

	"github.com/illumicode/illumicode/limit"
)

// A State is all that is kept of what a rule has counted under one key. Its meaning is the rule's; the
// zero State is that of a key which was never used. Instants are whole microseconds.
type State struct {
	At time.Time
	N  int64
}

// A Standing is what a rule says to one more request.
type Standing struct {
	Allowed bool
	At      time.Time // when the same would pass, if it does not now; zero if it never will
	Left    int       // how many single ones would pass right now, before this one
}

// Normalize returns a state as it is to be read at now: one that a clock has left in the future, before it
// was set back, is taken to be of now.
func Normalize(r *limit.Rule, s State, now time.Time) State {
	latest := now
	switch {
	case r.Rate.Times > 0:
		latest = now.Add(burst(r.Rate))
	case r.Quota.Times > 0:
		latest, _ = Around(r.Quota, now)
	case r.AtOnce.Most > 0:
		latest = now.Add(r.AtOnce.Hold)
	}
	if s.At.After(latest) {
		s.At = latest.Truncate(time.Microsecond)
	}
	return s
}

// Look returns what a rule says to n at once, at now, to which the state has been settled, and the
// state after them if it lets them pass. A ladder counts n as one.
func Look(r *limit.Rule, s State, n int, now time.Time) (Standing, State) {
	now = now.Truncate(time.Microsecond)
	switch {
	case r.Rate.Times > 0:
		return lookRate(r.Rate, s, n, now)
	case r.Quota.Times > 0:
		return lookQuota(r.Quota, s, n, now)
	case r.AtOnce.Most > 0:
		return lookAtOnce(r.AtOnce, s, n, now)
	}
	return lookLadder(r.Ladder, s, now)
}

// look keeps in At when all that happened would have happened at a steady pace: the theoretical
// arrival time.
func lookRate(r limit.Rate, s State, n int, now time.Time) (Standing, State) {
	from := s.At
	if from.Before(now) {
		from = now
	}
	full := now.Add(burst(r))
	st := Standing{Left: int(max(0, full.Sub(from)) / gap(r))}
	if n > r.Burst {
		return st, s
	}
	next := from.Add(gap(r) * time.Duration(n))
	if st.Allowed = !next.After(full); !st.Allowed {
		st.At = next.Add(-burst(r))
	}
	return st, State{At: next}
}

// look keeps in At when the window began, and in N how many it has seen.
func lookQuota(q limit.Quota, s State, n int, now time.Time) (Standing, State) {
	start, end := Around(q, now)
	used := s.N
	if s.At.Before(start) {
		used = 0
	}
	st := Standing{Left: int(max(0, int64(q.Times)-used))}
	if n > q.Times {
		return st, s
	}
	if st.Allowed = used+int64(n) <= int64(q.Times); !st.Allowed {
		st.At = end
	}
	return st, State{At: start, N: used + int64(n)}
}

// look keeps in At the last event, and in N on which rung it was.
func lookLadder(l limit.Ladder, s State, now time.Time) (Standing, State) {
	n := s.N
	if n > 0 {
		if free := s.At.Add(l.Rungs[min(n, int64(len(l.Rungs)))-1]); now.Before(free) {
			return Standing{At: free}, s
		}
		n = max(0, n-int64(now.Sub(s.At)/l.Decay))
	}
	return Standing{Allowed: true, Left: 1}, State{At: now, N: min(n+1, int64(len(l.Rungs)))}
}

// look keeps in N how many go on, and in At until when the last of them counts.
func lookAtOnce(o limit.AtOnce, s State, n int, now time.Time) (Standing, State) {
	held := s.N
	if !now.Before(s.At) {
		held = 0
	}
	st := Standing{Left: int(max(0, int64(o.Most)-held))}
	if n > o.Most {
		return st, s
	}
	if st.Allowed = held+int64(n) <= int64(o.Most); !st.Allowed {
		st.At = s.At
	}
	return st, State{At: now.Add(o.Hold), N: held + int64(n)}
}

// Return gives n back that were spent and not used, or, of an AtOnce, have ended. Now is when.
func Return(r *limit.Rule, s State, n int, now time.Time) State {
	switch {
	case r.Rate.Times > 0:
		s.At = s.At.Add(-gap(r.Rate) * time.Duration(n))
	case r.Quota.Times > 0:
		if start, _ := Around(r.Quota, now); !s.At.Before(start) {
			s.N = max(0, s.N-int64(n))
		}
	default:
		if s.N = max(0, s.N-int64(n)); s.N == 0 {
			s.At = time.Time{}
		}
	}
	return s
}

// Idle returns from when on a state says nothing that the zero State would not.
func Idle(r *limit.Rule, s State) time.Time {
	switch {
	case r.Quota.Times > 0:
		_, end := Around(r.Quota, s.At)
		return end
	case len(r.Ladder.Rungs) > 0:
		rest := max(r.Ladder.Decay*time.Duration(s.N), r.Ladder.Rungs[len(r.Ladder.Rungs)-1])
		return s.At.Add(rest)
	}
	return s.At
}

// A Decision is the answer to one request.
type Decision struct {
	Allowed bool
	Refuser *limit.Rule // what keeps it back longest; nil if it is allowed
	At      time.Time   // when the same request would pass, if nothing came in between; zero if it never will
	Left    int         // how many more of it would pass right now, this one not counted; of refused ones 0
	Tight   *limit.Rule // whose Left it is; nil if no rule applies
	Noted   *limit.Rule // an observing rule that would have refused; nil if none
	Vouch   bool        // of a refused one: each rule that refuses lets what is vouched for pass
}

// Judge decides whether n of a request may happen at now under the rules that it is bound by, whose
// states are in the same order, and fills next with their states after it. It allocates nothing.
//
// If a rule that enforces refuses, nothing is spent of any. An observing rule that
// would refuse is not spent from either.
func Judge(bound []Bound, states []State, n int, now time.Time, next []State) Decision {
	d := Decision{Allowed: true, Vouch: true}
	never := false
	for i := range bound {
		r := bound[i].Rule
		settled := Normalize(r, states[i], now)
		st, after := Look(bound[i].as(), settled, n, now)
		next[i] = after
		switch {
		case st.Allowed:
			if left := st.Left - n; !r.Observe && (d.Tight == nil || left < d.Left) {
				d.Left, d.Tight = max(0, left), r
			}
			continue
		case r.Observe:
			d.Noted, next[i] = r, settled
			continue
		}
		d.Allowed = false
		if whole, _ := Look(r, settled, n, now); !whole.Allowed {
			d.Vouch = false
		}
		switch {
		case st.At.IsZero():
			never, d.Refuser = true, r
		case !never && (d.Refuser == nil || st.At.After(d.At)):
			d.At, d.Refuser = st.At, r
		}
	}
	if d.Allowed {
		d.Vouch = false
		return d
	}
	for i := range bound {
		next[i] = Normalize(bound[i].Rule, states[i], now)
	}
	d.Left, d.Tight = 0, d.Refuser
	if never {
		d.At = time.Time{}
	}
	return d
}
