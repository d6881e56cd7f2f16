package store

import (
	"context"
	"strings"
	"time"
)

var (
	openKids = q(`SELECT kid, SUM(n) FROM (
		SELECT kid, COUNT(*) AS n FROM illumicode_challenge WHERE state = 'open' AND ends > ? GROUP BY kid
		UNION ALL SELECT kid, COUNT(*) FROM illumicode_change WHERE state IN ('pending', 'made') AND undo_ends > ?
		GROUP BY kid
		) AS open GROUP BY kid`)
	selectRetired = q(`SELECT name FROM illumicode_setting WHERE name LIKE 'retired kid %'`)
)

// retiredKid names the setting that says that a key was retired in an emergency.
const retiredKid = "retired kid "

// A KidCount is how many open rows were made under a key.
type KidCount struct {
	Kid  string
	Rows int
}

// OpenKids counts the rows that are still good at now by the key that they were made under. Keys that were retired in
// an emergency are on record and not among them.
func (s *Store) OpenKids(ctx context.Context, now time.Time) ([]KidCount, error) {
	rows, err := s.query(ctx, openKids, millis(now), millis(now))
	all, err := collect(s, rows, err, func(r scanner) (k KidCount, err error) { return k, r.Scan(&k.Kid, &k.Rows) })
	if err != nil {
		return nil, err
	}
	found, err := s.query(ctx, selectRetired)
	names, err := collect(s, found, err, scanText)
	retired := make(map[string]bool)
	for _, name := range names {
		retired[strings.TrimPrefix(name, retiredKid)] = true
	}
	kept := all[:0]
	for _, k := range all {
		if !retired[k.Kid] {
			kept = append(kept, k)
		}
	}
	return kept, err
}

// RecordRetired puts on record that a key was retired while rows depended on it.
func (s *Store) RecordRetired(ctx context.Context, kid string) error {
	return s.Set(ctx, retiredKid+kid, "emergency")
}
