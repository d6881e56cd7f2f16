package queue

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/illumicode/illumicode/internal/store/db"
)

var (
	insertShared = db.Q(`INSERT INTO @shared (id, data) VALUES (?, ?)`)
	selectShared = db.Q(`SELECT id, data FROM @shared WHERE id @listed()`)
	listShared   = db.Q(`SELECT id FROM @shared WHERE id > ? ORDER BY id LIMIT 500`)
	inUse        = db.Q(`SELECT EXISTS (SELECT 1 FROM @fanout WHERE id = ?)
		OR EXISTS (SELECT 1 FROM @delivery WHERE shared = ? AND shared <> '')
		OR EXISTS (SELECT 1 FROM @ended WHERE shared = ? AND shared <> '' AND state IN ('failed', 'unknown'))`)
	deleteShared = db.Q(`DELETE FROM @shared WHERE id = ? AND NOT EXISTS (SELECT 1 FROM @fanout WHERE id = ?)
		AND NOT EXISTS (SELECT 1 FROM @delivery WHERE shared = ? AND shared <> '')
		AND NOT EXISTS (SELECT 1 FROM @ended WHERE shared = ? AND shared <> '' AND state IN ('failed', 'unknown'))`)
)

// Shared returns what the deliveries of some lists have in common, as JSON, by the lists' ids.
func (s Rows) Shared(ctx context.Context, ids ...string) (map[string]string, error) {
	all, err := db.All(ctx, s, func(r db.Scanner) (one [2]string, err error) {
		return one, r.Scan(&one[0], &one[1])
	}, selectShared, db.List(ids))
	by := make(map[string]string, len(all))
	for _, one := range all {
		by[one[0]] = one[1]
	}
	return by, err
}

// EraseShared erases what lists have in common whose last delivery has ended and could not be tried again, and returns
// how many lists that were.
func (s Rows) EraseShared(ctx context.Context) (erased int, err error) {
	for after := ""; ; {
		ids, err := db.All(ctx, s, db.Scalar[string], listShared, after)
		if err != nil || len(ids) == 0 {
			return erased, err
		}
		for _, id := range ids {
			after = id
			if used, err := db.One(ctx, s, db.Scalar[bool], inUse, id, id, id); err != nil {
				return erased, err
			} else if used {
				continue
			}
			n, err := s.Exec(ctx, deleteShared, id, id, id, id)
			if erased += int(n); err != nil {
				return erased, err
			}
		}
	}
}

// ReadData reads the data of a delivery, or what it shares. Numbers keep their spelling.
func ReadData(raw string) (map[string]any, error) {
	dec := json.NewDecoder(strings.NewReader(raw))
	dec.UseNumber()
	data := make(map[string]any)
	if err := dec.Decode(&data); err != nil {
		return nil, fmt.Errorf("illumicode: the delivery's data is no JSON object: %w", err)
	}
	return data, nil
}
