package outbox

import (
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

// A trail remembers how far a worker has claimed in a lane. The mark it gives trails behind, for
// rows whose transactions commit a little late, and every now and then it gives none, for all
// others: a claim then looks at the whole lane. The urgent lane has no trail and always does.
type trail struct {
	looked time.Time // when the whole lane was last looked at
	steps  []step    // the newest last
}

type step struct {
	at   time.Time
	mark store.Mark
}

const (
	trailing  = 500 * time.Millisecond // how far the mark trails behind
	fullEvery = 5 * time.Second        // how often the whole lane is looked at
)

// mark returns where a claim at now begins to look.
func (t *trail) mark(now time.Time) store.Mark {
	if t == nil {
		return store.Mark{}
	}
	if since := now.Sub(t.looked); since >= fullEvery || since < 0 {
		t.looked = now
		return store.Mark{}
	}
	for len(t.steps) > 1 && now.Sub(t.steps[1].at) >= trailing {
		t.steps = t.steps[1:]
	}
	if len(t.steps) == 0 || now.Sub(t.steps[0].at) < trailing {
		return store.Mark{}
	}
	return t.steps[0].mark
}

// claimed notes what a claim at now has found.
func (t *trail) claimed(all []store.Delivery, now time.Time) {
	if t == nil || len(all) == 0 {
		return
	}
	var m store.Mark
	for _, d := range all {
		if one := (store.Mark{Due: d.Due, ID: d.ID}); before(m, one) {
			m = one
		}
	}
	n := len(t.steps)
	if n > 0 && before(m, t.steps[0].mark) {
		t.steps, n = nil, 0 // a look at the whole lane has found what the mark had passed: go back
	}
	if n == 0 || now.Sub(t.steps[n-1].at) >= trailing/10 {
		t.steps = append(t.steps, step{now, m})
	}
}

func before(a, b store.Mark) bool {
	return a.Due.Before(b.Due) || a.Due.Equal(b.Due) && a.ID < b.ID
}
