package illumicode

import (
	"context"
	"fmt"
	"slices"
	"strings"

	rows "github.com/illumicode/illumicode/internal/store"
)

// checkKeys compares the keyring with the keys that open challenges and changes were made under. A keyring that knows
// none of them is refused, unless the database sends for another site: workers then hold everything. Where some of the
// links and codes are refused, because their key is missing or its time is over, that is warned of, with counts.
func (s *Service) checkKeys(ctx context.Context) error {
	open, err := s.p.Store.OpenKids(ctx, s.p.Now())
	if err != nil {
		return err
	}
	refused := slices.DeleteFunc(slices.Clone(open), func(k rows.KidCount) bool {
		_, err := s.p.Keys.Key(k.Kid, s.p.Now())
		return err == nil
	})
	switch {
	case len(refused) == 0:
		return nil
	case slices.ContainsFunc(open, func(k rows.KidCount) bool { return s.p.Keys.Has(k.Kid) }):
		s.p.Log.Warn(
			"links and codes are open under keys that the keyring lacks, or whose time is over; they are refused",
			"keys", kidList(refused))
		return nil
	}
	site, err := s.p.Store.Setting(ctx, rows.SettingSite)
	if err != nil {
		return err
	}
	if site != "" && site != s.p.Site.BaseURL {
		s.p.Log.Warn("the keyring knows none of the keys of open links and codes, and the database sends for another "+
			"site: workers hold everything", "keys", kidList(refused), "site", site)
		return nil
	}
	return wrong("Keys",
		fmt.Sprintf("knows none of the keys under which links and codes of this database are open (%s): "+
			"every one of them would be refused. Use the keyring that made them; if it is lost, put each on record "+
			"with "+
			"`illumicode keys retire KID --emergency`", kidList(refused)))
}

// kidList names keys with the rows that need them.
func kidList(all []rows.KidCount) string {
	var b strings.Builder
	for i, k := range all {
		if i > 0 {
			b.WriteString(", ")
		}
		fmt.Fprintf(&b, "%s: %d", k.Kid, k.Rows)
	}
	return b.String()
}
