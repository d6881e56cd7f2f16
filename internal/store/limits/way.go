package limits

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/store/db"
)

// A Way is what all workers know of a provider.
type Way struct {
	Name    string
	Health  choose.Health
	Changed time.Time
}

var (
	selectWays = db.Q(`SELECT name, health, changed FROM @way ORDER BY name`)
	lockWay    = db.Q(`INSERT INTO @way (name, health, changed) VALUES (?, '{}', ?)
		ON CONFLICT (name) DO UPDATE SET name = illumicode_way.name RETURNING name, health, changed`)
	updateWay = db.Q(`UPDATE @way SET health = ?, changed = ? WHERE name = ?`)
)

func scanWay(r db.Scanner) (w Way, err error) {
	var health string
	var changed int64
	if err = r.Scan(&w.Name, &health, &changed); err == nil {
		err = json.Unmarshal([]byte(health), &w.Health)
	}
	w.Changed = db.Instant(changed)
	return w, err
}

// Ways returns what is known of providers that have ever failed.
func (s Rows) Ways(ctx context.Context) ([]Way, error) {
	return db.All(ctx, s, scanWay, selectWays)
}

// UpdateHealth changes what is known of a provider by what all workers have written of it, and returns
// what it is then.
func (s Rows) UpdateHealth(ctx context.Context, name string, now time.Time, change func(choose.Health) choose.Health) (
	h choose.Health, err error) {
	err = s.WriteRelaxed(ctx, func(t Tx) error {
		w, err := db.One(ctx, t, scanWay, lockWay, name, db.Millis(now))
		if err != nil {
			return err
		}
		if h = change(w.Health); h == w.Health {
			return nil
		}
		raw, err := json.Marshal(h)
		if err != nil {
			return err
		}
		_, err = t.Exec(ctx, updateWay, string(raw), db.Millis(now), name)
		return err
	})
	return h, err
}

// capName is the name of a tally that a provider's cap keeps.
func capName(provider, state string) string { return "provider " + provider + ": " + state }

// UpdateCaps changes the states of a provider's caps, which no other worker overtakes, so that what they let through
// holds even where power fails.
func (s Rows) UpdateCaps(ctx context.Context, provider string, states []string, now time.Time,
	change func(held map[string]judge.State)) error {
	return s.Write(ctx, func(t Tx) error { return t.updateCaps(ctx, provider, states, now.Add(capsIdle), change) })
}

// How long the state of a cap is kept without a change: past the longest window, and for a pace a day.
const (
	capsIdle = 62 * 24 * time.Hour
	paceIdle = 24 * time.Hour
)

// UpdatePaces is UpdateCaps for what counts for a moment only, and waits for no disk.
func (s Rows) UpdatePaces(ctx context.Context, provider string, states []string, now time.Time,
	change func(held map[string]judge.State)) error {
	return s.WriteRelaxed(ctx, func(t Tx) error {
		return t.updateCaps(ctx, provider, states, now.Add(paceIdle), change)
	})
}

func (t Tx) updateCaps(ctx context.Context, provider string, states []string, idle time.Time,
	change func(held map[string]judge.State)) error {
	names := make([]string, len(states))
	for i, state := range states {
		names[i] = capName(provider, state)
	}
	locked, err := t.LockTallies(ctx, names)
	if err != nil {
		return err
	}
	held := make(map[string]judge.State, len(states))
	for i, state := range states {
		held[state] = locked[names[i]]
	}
	change(held)
	all := make([]Tally, len(states))
	for i, state := range states {
		all[i] = Tally{Name: names[i], State: held[state], Idle: idle}
	}
	return t.SetTallies(ctx, all)
}

// Caps returns the states of a provider's caps as they are.
func (s Rows) Caps(ctx context.Context, provider string, states []string) (map[string]judge.State, error) {
	names := make([]string, len(states))
	for i, state := range states {
		names[i] = capName(provider, state)
	}
	found, err := s.Tallies(ctx, names)
	held := make(map[string]judge.State, len(states))
	for i, state := range states {
		held[state] = found[names[i]]
	}
	return held, err
}

var (
	deleteOldShares = db.Q(`DELETE FROM @share WHERE provider = ? AND until < ?`)
	selectShares    = db.Q(`SELECT worker, n FROM @share WHERE provider = ?`)
	upsertShare     = db.Q(`INSERT INTO @share (provider, worker, n, until) VALUES (?, ?, ?, ?)
		ON CONFLICT (provider, worker) DO UPDATE SET n = excluded.n, until = excluded.until`)
	deleteShare = db.Q(`DELETE FROM @share WHERE worker = ?`)
)

// A Share is a worker's part of the letters that a provider carries at once.
type Share struct {
	Provider, Worker string
	Whole            int // what the provider carries
	InUse            int // what the worker cannot give back yet
}

// Share gives a worker its part until a time by which it asks again: as much as the others have left, and when all
// have asked as much as each of them.
func (s Rows) Share(ctx context.Context, h Share, now, until time.Time) (n int, err error) {
	err = s.WriteRelaxed(ctx, func(t Tx) error {
		if _, err := t.LockTallies(ctx, []string{capName(h.Provider, "shares")}); err != nil {
			return err
		}
		if _, err := t.Exec(ctx, deleteOldShares, h.Provider, db.Millis(now)); err != nil {
			return err
		}
		type share struct {
			worker string
			n      int
		}
		all, err := db.All(ctx, t, func(r db.Scanner) (one share, err error) {
			return one, r.Scan(&one.worker, &one.n)
		}, selectShares, h.Provider)
		if err != nil {
			return err
		}
		others, count := 0, 1
		for _, one := range all {
			if one.worker != h.Worker {
				others, count = others+one.n, count+1
			}
		}
		n = max(h.InUse, min((h.Whole+count-1)/count, h.Whole-others), 0)
		_, err = t.Exec(ctx, upsertShare, h.Provider, h.Worker, n, db.Millis(until))
		return err
	})
	if err != nil {
		return 0, fmt.Errorf("store: the share of %s: %w", h.Provider, err)
	}
	return n, nil
}

// ReturnShares gives back all that a worker has of providers.
func (s Rows) ReturnShares(ctx context.Context, worker string) error {
	_, err := s.Exec(ctx, deleteShare, worker)
	return err
}
