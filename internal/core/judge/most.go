package judge

import (
	"time"

	"github.com/illumicode/illumicode/limit"
)

// NoBound is what [Most] returns for a rule that bounds nothing over time.
const NoBound = int64(1) << 62

// MostOpen is Most of what a rule leaves to requests that nobody vouches for.
func MostOpen(r limit.Rule, d time.Duration) int64 {
	if r.Reserved > 0 {
		r = *unreserved(r)
	}
	return Most(r, d)
}

// Most returns how many events a rule lets one key have in the worst stretch of length d, wherever it
// begins: a calendar quota can be used up on both sides of midnight.
func Most(r limit.Rule, d time.Duration) int64 {
	switch {
	case r.Rate.Times > 0:
		return int64(r.Rate.Burst) + int64(d/gap(r.Rate))
	case r.Quota.Times > 0:
		// No window is shorter than this, in any zone.
		shortest := map[limit.Window]time.Duration{limit.Hour: time.Hour, limit.Day: 23 * time.Hour,
			limit.Month: 28*24*time.Hour - time.Hour}[r.Quota.Window]
		if r.Quota.Zone == nil || r.Quota.Zone == time.UTC {
			shortest = map[limit.Window]time.Duration{limit.Hour: time.Hour, limit.Day: 24 * time.Hour,
				limit.Month: 28 * 24 * time.Hour}[r.Quota.Window]
		}
		// A stretch touches one window more than fits behind its first instant.
		return int64(r.Quota.Times) * (2 + int64((d-1)/shortest))
	case r.AtOnce.Most > 0:
		return NoBound
	}
	n, now := int64(0), time.Unix(0, 0)
	for s, end := (State{}), now.Add(d); now.Before(end); n++ {
		st, next := Look(&r, s, 1, now)
		if !st.Allowed {
			if now = st.At; !now.Before(end) {
				break
			}
			_, next = Look(&r, s, 1, now)
		}
		if s = next; r.Ladder.Rungs[len(r.Ladder.Rungs)-1] == 0 {
			return NoBound
		}
	}
	return n
}
