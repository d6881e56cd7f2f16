package limits

import (
	"context"
	"encoding/json"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/store/db"
)

// A Pace is what all workers know of letters to one recipient domain through one provider.
type Pace struct {
	Provider, Domain string
	Health           choose.Health
	Slowed, Accused  time.Time // when fewer letters were last asked for, and when our account was last refused
	Changed          time.Time
}

// mostPaces is how many are kept, of all providers together, and keepPaces for how long without a change.
const (
	mostPaces = 1000
	keepPaces = 24 * time.Hour
)

var (
	selectPaces = db.Q(`SELECT provider, domain, health, slowed, accused, changed FROM @pace
		ORDER BY provider, domain`)
	lockPace = db.Q(`INSERT INTO @pace (provider, domain, health, slowed, accused, changed)
		VALUES (?, ?, '{}', 0, 0, ?)
		ON CONFLICT (provider, domain) DO UPDATE SET domain = illumicode_pace.domain
		RETURNING provider, domain, health, slowed, accused, changed`)
	updatePace = db.Q(`UPDATE @pace SET health = ?, slowed = ?, accused = ?, changed = ?
		WHERE provider = ? AND domain = ?`)
	deletePace = db.Q(`DELETE FROM @pace WHERE provider = ? AND domain = ?`)
	boundPaces = db.Q(`DELETE FROM @pace WHERE changed < ? OR changed < (SELECT MIN(changed) FROM
		(SELECT changed FROM @pace ORDER BY changed DESC LIMIT ?) newest)`)
	countSlowed  = db.Q(`SELECT COUNT(*) FROM @pace WHERE provider = ? AND slowed > ?`)
	countAccused = db.Q(`SELECT COUNT(*) FROM @pace WHERE provider = ? AND accused > ?`)
)

func scanPace(r db.Scanner) (p Pace, err error) {
	var health string
	var slowed, accused, changed int64
	if err = r.Scan(&p.Provider, &p.Domain, &health, &slowed, &accused, &changed); err == nil {
		err = json.Unmarshal([]byte(health), &p.Health)
	}
	p.Slowed, p.Accused, p.Changed = db.Instant(slowed), db.Instant(accused), db.Instant(changed)
	return p, err
}

// Paces returns the recipient domains that do not get letters as fast as they come.
func (s Rows) Paces(ctx context.Context) ([]Pace, error) {
	return db.All(ctx, s, scanPace, selectPaces)
}

// UpdatePace changes what is known of a domain by what all workers have written of it, and returns what it is then. A
// domain that has recovered is forgotten, and so are those that are beyond a thousand.
//
// widely reports whether so many domains have said the same of late that it concerns the provider: see
// [choose.Health.Widely].
func (s Rows) UpdatePace(ctx context.Context, provider, domain string, now time.Time,
	change func(choose.Health) choose.Health) (h choose.Health, widely bool, err error) {
	err = s.WriteRelaxed(ctx, func(t Tx) error {
		p, err := db.One(ctx, t, scanPace, lockPace, provider, domain, db.Millis(now))
		if err != nil {
			return err
		}
		if h = change(p.Health); h.Good() {
			_, err = t.Exec(ctx, deletePace, provider, domain)
			return err
		}
		if h == p.Health {
			return nil
		}
		if h.Accused(p.Health) {
			p.Accused = now
		}
		raw, err := json.Marshal(h)
		if err != nil {
			return err
		}
		if _, err := t.Exec(ctx, updatePace, string(raw), db.Millis(h.Slowed), db.Millis(p.Accused), db.Millis(now),
			provider, domain); err != nil {
			return err
		}
		if p.Health.Good() { // a new one
			if _, err := t.Exec(ctx, boundPaces, db.Millis(now.Add(-keepPaces)), mostPaces); err != nil {
				return err
			}
		}
		slowed, err := db.One(ctx, t, scanCount, countSlowed, provider, db.Millis(now.Add(-choose.SlowWithin)))
		if err != nil {
			return err
		}
		accusing, err := db.One(ctx, t, scanCount, countAccused, provider, db.Millis(now.Add(-choose.AccusedWithin)))
		widely = h.Widely(slowed, accusing)
		return err
	})
	return h, widely, err
}

func scanCount(r db.Scanner) (n int, err error) {
	err = r.Scan(&n)
	return n, err
}
