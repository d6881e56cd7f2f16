package main

import (
	"context"
	"fmt"
	"math"
	"time"

	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/store"
)

// A wayJSON is where a provider stands: what is left of its quotas, and whether it is left alone.
type wayJSON struct {
	Name  string    `json:"name"`
	Left  *int      `json:"left,omitempty"` // letters, of the tightest quota; nil without one
	Shut  string    `json:"shut,omitempty"`
	Until time.Time `json:"until,omitzero"`
	Gap   string    `json:"gap,omitempty"` // between letters, since it asked to slow down

	Domains []slowJSON `json:"domains,omitempty"` // that it does not bring letters to as fast as they come
}

// A slowJSON is how letters to one recipient domain fare with a provider.
type slowJSON struct {
	Domain string    `json:"domain"`
	Shut   string    `json:"shut,omitempty"`
	Until  time.Time `json:"until,omitzero"`
	Gap    string    `json:"gap,omitempty"`
}

// waysAt returns where the providers of the configuration stand.
func waysAt(ctx context.Context, f *config.File, st *store.Store, now time.Time) ([]wayJSON, error) {
	known, err := st.Ways(ctx)
	if err != nil {
		return nil, err
	}
	paces, err := st.Paces(ctx)
	if err != nil {
		return nil, err
	}
	terms, err := f.Terms()
	if err != nil {
		return nil, err
	}
	all := make([]wayJSON, len(f.Provider))
	for i, p := range f.Provider {
		w := wayJSON{Name: p.Name}
		if caps := terms[p.Name].Caps; choose.Quotas(caps) {
			states, _ := choose.States(caps)
			held, err := st.Caps(ctx, p.Name, states)
			if err != nil {
				return nil, err
			}
			if left := choose.Left(caps, held, now); left < math.MaxInt {
				w.Left = &left
			}
		}
		for _, k := range known {
			if k.Name == p.Name {
				w.Until, w.Shut = k.Health.Shut(choose.Breaker{}, now)
				if k.Health.Gap > 0 {
					w.Gap = k.Health.Gap.String()
				}
			}
		}
		for _, one := range paces {
			if one.Provider == p.Name {
				slow := slowJSON{Domain: one.Domain}
				slow.Until, slow.Shut = one.Health.Shut(choose.Breaker{}, now)
				if one.Health.Gap > 0 {
					slow.Gap = one.Health.Gap.Round(time.Millisecond).String()
				}
				w.Domains = append(w.Domains, slow)
			}
		}
		all[i] = w
	}
	return all, nil
}

// tellDomains prints the recipient domains that a provider's letters go slowly to: the first ones, as there may be a
// thousand.
func (a *app) tellDomains(w wayJSON) {
	const most = 5
	for i, d := range w.Domains {
		switch {
		case i == most:
			a.line("provider %s: %d more domains are slowed down; --json lists them.", w.Name, len(w.Domains)-most)
			return
		case d.Shut != "" && d.Gap == "":
			a.line("provider %s, domain %s: our account was refused there; tried again at %s. `illumicode outbox "+
				"resume domain %[2]s` tries at once.", w.Name, d.Domain, clock(d.Until))
		default:
			a.line("provider %s, domain %s asked to slow down: letters keep %s between them, less with each that it "+
				"takes.", w.Name, d.Domain, d.Gap)
		}
	}
}

// tellWays prints what an operator has to know of providers; nothing of one that is well.
func (a *app) tellWays(all []wayJSON) {
	for _, w := range all {
		switch {
		case w.Shut != "":
			a.line("PROVIDER %s: %s until %s. That ends by itself; `illumicode outbox resume provider %s` tries at "+
				"once.", w.Name, w.Shut, clock(w.Until), w.Name)
		case w.Gap != "":
			a.line("provider %s asked to slow down: its letters keep %s between them, less with each that it takes.",
				w.Name, w.Gap)
		}
		a.tellDomains(w)
		if w.Left != nil {
			a.line("provider %s: %s left of its quota.", w.Name, letters(*w.Left))
		}
	}
}

func letters(n int) string {
	if n == 1 {
		return "1 letter"
	}
	return fmt.Sprintf("%d letters", n)
}
