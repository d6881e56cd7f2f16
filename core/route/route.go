// Package route chooses the provider for the next attempt of a delivery.
package route

// A Tried is one earlier attempt of the same delivery.
type Tried struct {
	Provider  string
	Ambiguous bool // it may have taken the letter
}

// Choose returns the provider for the next attempt, from providers in order of preference, of
// which there is at least one. tried is in order of time.
//
// An ambiguous attempt is repeated with the same provider, which alone can recognise the
// repeat. Otherwise the provider that was tried least often goes next, the preferred one first:
// one that is down does not hold up a letter that another would carry.
func Choose(providers []string, tried []Tried) string {
	count := make(map[string]int, len(providers))
	for _, t := range tried {
		count[t.Provider]++
	}
	if n := len(tried); n > 0 && tried[n-1].Ambiguous {
		for _, p := range providers {
			if p == tried[n-1].Provider {
				return p
			}
		}
	}
	best := providers[0]
	for _, p := range providers[1:] {
		if count[p] < count[best] {
			best = p
		}
	}
	return best
}
