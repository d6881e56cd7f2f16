package config

import (
	"fmt"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/route"
)

// Terms returns what the file says of each provider's caps, weight, cost and recipients.
func (f *File) Terms() (map[string]route.Terms, error) {
	all := make(map[string]route.Terms, len(f.Provider))
	for i, p := range f.Provider {
		t := route.Terms{Weight: p.Weight, Cost: p.Cost, Only: p.Only, Never: p.Never,
			Caps: route.Caps{PerSecond: p.PerSecond, PerDay: p.PerDay, PerMonth: p.PerMonth, PerCountry: p.PerCountry,
				AtOnce: p.AtOnce, Reserve: p.Reserve}}
		err := error(nil)
		if p.Zone != "" {
			t.Caps.Zone, err = loadZone(p.Zone)
		}
		if err == nil {
			err = choose.Check(t)
		}
		if err != nil {
			return nil, f.wrong(fmt.Sprintf("provider[%d] (%s)", i, p.Name), "cannot be: %w", err)
		}
		all[p.Name] = t
	}
	return all, nil
}
