package store

import (
	"context"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

var (
	openKids = db.Q(`SELECT kid, SUM(n) FROM (
		SELECT kid, COUNT(*) AS n FROM @challenge WHERE state = 'open' AND ends > ? GROUP BY kid
		UNION ALL SELECT kid, COUNT(*) FROM @change WHERE state IN ('pending', 'made') AND undo_ends > ?
		GROUP BY kid
		) AS open GROUP BY kid`)
	selectRetired = db.Q(`SELECT name FROM @setting WHERE name LIKE 'retired kid %'`)
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
	scan := func(r db.Scanner) (k KidCount, err error) { return k, r.Scan(&k.Kid, &k.Rows) }
	all, err := db.All(ctx, s, scan, openKids, db.Millis(now), db.Millis(now))
	if err != nil {
		return nil, err
	}
	names, err := db.All(ctx, s, db.Scalar[string], selectRetired)
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

// IsRetired reports whether a key is on record as retired.
func (s *Store) IsRetired(ctx context.Context, kid string) (bool, error) {
	v, err := s.Setting(ctx, retiredKid+kid)
	return v != "", err
}

// Dependents are the rows that depend on a key of the keyring.
type Dependents struct {
	Challenges   int `json:"challenges"`   // open: their links and codes would stop working
	Changes      int `json:"changes"`      // that can still be taken back: their links would stop working
	Suppressions int `json:"suppressions"` // that would be found no more
}

// Any reports whether there are any.
func (d Dependents) Any() bool { return d.Challenges+d.Changes+d.Suppressions > 0 }

var dependents = db.Q(`SELECT (SELECT COUNT(*) FROM @challenge WHERE kid = ? AND state = 'open' AND ends > ?),
	(SELECT COUNT(*) FROM @change WHERE kid = ? AND state IN ('pending', 'made') AND undo_ends > ?),
	(SELECT COUNT(*) FROM @suppression WHERE kid = ?)`)

// Dependents counts what depends on a key at now.
func (s *Store) Dependents(ctx context.Context, kid string, now time.Time) (Dependents, error) {
	return db.One(ctx, s, func(r db.Scanner) (d Dependents, err error) {
		return d, r.Scan(&d.Challenges, &d.Changes, &d.Suppressions)
	}, dependents, kid, db.Millis(now), kid, db.Millis(now), kid)
}
