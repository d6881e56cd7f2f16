package choose

import (
	"errors"
	"fmt"
	"math"
	"time"

	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/route"
)

// Quotas reports whether days or months are capped.
func Quotas(c route.Caps) bool { return c.PerDay > 0 || c.PerMonth > 0 }

// Check returns what is wrong with the caps.
func CheckCaps(c route.Caps) error {
	switch {
	case c.PerSecond < 0 || c.PerDay < 0 || c.PerMonth < 0 || c.AtOnce < 0 || c.PerCountry < 0:
		return errors.New("a cap is negative; leave it out for none")
	case c.PerSecond > 10000:
		return fmt.Errorf("more than 10,000 letters a second (%g) are not paced; leave the cap out", c.PerSecond)
	case c.PerSecond > 0 && c.PerSecond < 1.0/3600:
		return fmt.Errorf("%g letters a second is less than one an hour; give a cap by day", c.PerSecond)
	case c.PerDay > 0 && c.PerMonth > 0 && c.PerDay > c.PerMonth:
		return fmt.Errorf(
			"the cap by day (%d) is above the one by month (%d), so that it never holds; one of them is mistaken",
			c.PerDay, c.PerMonth)
	case c.Reserve >= 1:
		return fmt.Errorf("a reserve of %g leaves nothing to other lanes than urgent; it is a share below 1", c.Reserve)
	}
	return nil
}

// reserve returns the share that is kept for the urgent lane.
func reserve(c route.Caps) float64 {
	switch {
	case c.Reserve == 0:
		return 0.2
	case c.Reserve < 0:
		return 0
	}
	return c.Reserve
}

// Kept returns how much of a cap is kept for the urgent lane: nothing where it is 1.
func Kept(c route.Caps, whole int) int {
	if whole < 2 {
		return 0
	}
	return min(whole-1, int(math.Ceil(float64(whole)*reserve(c))))
}

// margin is how long before and after a window's end nothing is sent under a quota: what left before it
// must not be counted after it, by a provider whose clock differs a little.
const margin = 2 * time.Second

// The names of the states that leases keep.
const (
	dayState    = "day"
	monthState  = "month"
	paceState   = "pace"
	commonState = "pace of others" // of lanes other than urgent, which get less
)

// States returns the names of the states that the quotas need, and those that the pace needs.
func States(c route.Caps) (quotas, pace []string) {
	if c.PerDay > 0 {
		quotas = append(quotas, dayState)
	}
	if c.PerMonth > 0 {
		quotas = append(quotas, monthState)
	}
	return quotas, []string{paceState, commonState}
}

// A Lease is a number of letters that one worker may send before Ends.
type Lease struct {
	N    int
	Ends time.Time
}

// A Full says which cap has no room, and when it has.
type Full struct {
	Cap string
	At  time.Time
}

// Lease takes some letters out of the quotas at now, for the urgent lane or the others,
// and changes held accordingly. With the zero Lease comes a Full. What a worker that dies has leased
// is lost until the window ends, so a lease is small: a five-hundredth of a day's quota, at most 1000.
func TakeLease(c route.Caps, held map[string]judge.State, urgent bool, now time.Time) (Lease, Full) {
	n := 1000
	rules := make(map[string]limit.Rule, 2)
	add := func(name string, times int, w limit.Window, share int) {
		if times > 0 {
			usable := times
			if !urgent {
				usable -= Kept(c, times)
			}
			rules[name] = limit.Rule{Quota: limit.Quota{Times: usable, Window: w, Zone: c.Zone}}
			n = min(n, max(1, times/share))
		}
	}
	add(dayState, c.PerDay, limit.Day, 500)
	add(monthState, c.PerMonth, limit.Month, 5000)
	ends := now.Add(365 * 24 * time.Hour)
	for _, r := range rules {
		start, end := judge.Around(r.Quota, now)
		switch {
		case now.Before(start.Add(margin)):
			return Lease{}, Full{"its day begins", start.Add(margin)}
		case !now.Before(end.Add(-margin)):
			return Lease{}, Full{"its day ends", end.Add(margin)}
		}
		if last := end.Add(-margin); last.Before(ends) {
			ends = last
		}
	}
	var refusal Full
	for name, r := range rules {
		st, _ := judge.Look(&r, judge.Normalize(&r, held[name], now), 1, now)
		n = min(n, st.Left)
		if !st.Allowed && st.At.After(refusal.At) {
			what := name + " quota used"
			if !urgent && r.Quota.Times < max(c.PerDay, c.PerMonth) {
				what += " but for what is kept for urgent letters"
			}
			refusal = Full{what, st.At.Add(margin)}
		}
	}
	if n == 0 {
		return Lease{}, refusal
	}
	for name, r := range rules {
		_, held[name] = judge.Look(&r, judge.Normalize(&r, held[name], now), n, now)
	}
	return Lease{n, ends}, Full{}
}

// Country returns the name of the state that counts the texts to a country.
func Country(code string) string { return "country " + code }

// TakeCountry takes one text to a country out of its day at now, and changes held accordingly. If there is none left,
// it returns a Full.
func TakeCountry(c route.Caps, held map[string]judge.State, code string, now time.Time) (ok bool, full Full) {
	r, name := countryRule(c), Country(code)
	st, after := judge.Look(&r, judge.Normalize(&r, held[name], now), 1, now)
	if !st.Allowed {
		return false, Full{"its texts of a day to " + code + " are used", st.At.Add(margin)}
	}
	held[name] = after
	return true, Full{}
}

// ReturnCountry gives one text to a country back that was not sent, unless its day is over.
func ReturnCountry(c route.Caps, held map[string]judge.State, code string, now time.Time) {
	r, name := countryRule(c), Country(code)
	if s, ok := held[name]; ok {
		held[name] = judge.Return(&r, s, 1, now)
	}
}

func countryRule(c route.Caps) limit.Rule {
	return limit.Rule{Quota: limit.Quota{Times: c.PerCountry, Window: limit.Day, Zone: c.Zone}}
}

// Return gives n leased letters back that were not sent, unless their window is over.
func Return(c route.Caps, held map[string]judge.State, n int, now time.Time) {
	for name, w := range map[string]limit.Window{dayState: limit.Day, monthState: limit.Month} {
		if s, ok := held[name]; ok {
			r := limit.Rule{Quota: limit.Quota{Times: math.MaxInt32, Window: w, Zone: c.Zone}}
			held[name] = judge.Return(&r, s, n, now)
		}
	}
}

// Left returns how many letters the quotas still let through at now, the urgent lane's included.
func Left(c route.Caps, held map[string]judge.State, now time.Time) int {
	left := math.MaxInt
	for name, q := range map[string]limit.Quota{dayState: {Times: c.PerDay, Window: limit.Day, Zone: c.Zone},
		monthState: {Times: c.PerMonth, Window: limit.Month, Zone: c.Zone}} {
		if q.Times > 0 {
			r := limit.Rule{Quota: q}
			st, _ := judge.Look(&r, judge.Normalize(&r, held[name], now), 1, now)
			left = min(left, st.Left)
		}
	}
	return left
}

// Slots are moments at which letters may leave, From and every Gap after it.
type Slots struct {
	From time.Time
	Gap  time.Duration
	N    int
}

const (
	// spread makes the distance of letters a little longer than the cap asks, as they do not arrive
	// exactly when they left: N letters and one more take this long, and not a second.
	spread = 1050 * time.Millisecond
	// ahead is how far in the future slots are given out; none is kept from a worker that comes later
	// for longer. The urgent lane looks twice as far.
	ahead = 250 * time.Millisecond
)

// Paced reports whether letters have to keep a distance: under the cap, or since the provider said "slow
// down".
func Paced(c route.Caps, h Health) bool { return c.PerSecond > 0 || h.Gap > 0 }

// Gap returns the distance that letters keep.
func Gap(c route.Caps, h Health) time.Duration {
	if c.PerSecond <= 0 {
		return h.Gap
	}
	return max(h.Gap, time.Duration(math.Ceil(float64(spread/time.Microsecond)/c.PerSecond))*time.Microsecond)
}

// Slots takes moments to send at, for the urgent lane or the others, and changes held accordingly: a
// tenth of a second's worth at a time. With none comes the time to ask again. Letters of all lanes leave
// in one row; those of others than urgent never fill it.
func TakeSlots(c route.Caps, held map[string]judge.State, h Health, urgent bool, now time.Time) (Slots, time.Time) {
	gap := Gap(c, h)
	later := func(at time.Time) time.Time { // a state that a clock has left in the future counts from now
		switch {
		case at.Before(now):
			return now
		case at.After(now.Add(ahead + 50*gap)):
			return now.Add(ahead)
		}
		return at
	}
	from := later(held[paceState].At)
	n := max(1, int(100*time.Millisecond/gap))
	if !urgent {
		if common := later(held[commonState].At); common.After(from) {
			from = common
		}
	}
	most := ahead
	if urgent { // past all that the others have
		most *= 2
	}
	if from.After(now.Add(most)) {
		return Slots{}, from.Add(-most)
	}
	from = from.Truncate(time.Microsecond).Add(time.Microsecond)
	held[paceState] = judge.State{At: from.Add(time.Duration(n) * gap)}
	if !urgent {
		wider := time.Duration(float64(gap) / (1 - reserve(c)))
		held[commonState] = judge.State{At: from.Add(time.Duration(n) * wider)}
	}
	return Slots{from, gap, n}, time.Time{}
}
