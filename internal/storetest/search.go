package storetest

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/illumicode/illumicode/internal/store"
)

// A Find is a column in which something stands.
type Find struct {
	Table, Column string
	Rows          int
}

// Search looks for texts in every text column of every table, in any case, and returns where they stand.
func Search(ctx context.Context, st *store.Store, texts ...string) ([]Find, error) {
	columns, err := st.TextColumns(ctx)
	if err != nil {
		return nil, err
	}
	var found []Find
	for _, c := range columns {
		for _, one := range slices.Compact(slices.Sorted(slices.Values(texts))) {
			f := Find{Table: c[0], Column: c[1]}
			pattern := "%" + strings.NewReplacer("!", "!!", "%", "!%", "_", "!_").Replace(strings.ToLower(one)) + "%"
			if err := st.DB().QueryRowContext(ctx, st.Words(fmt.Sprintf(
				"SELECT COUNT(*) FROM @%s WHERE LOWER(%s) LIKE ? ESCAPE '!'", strings.TrimPrefix(f.Table,
					"illumicode_"),
				f.Column)), pattern).Scan(&f.Rows); err != nil {
				return nil, err
			}
			if f.Rows > 0 {
				found = append(found, f)
				break
			}
		}
	}
	return found, nil
}
