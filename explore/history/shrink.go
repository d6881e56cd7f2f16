package history

import (
	"context"
	"errors"
	"slices"

	"github.com/illumicode/illumicode/explore/world"
)

// Shrink takes steps and calls out of a history that fails, and makes what is left simpler, as long as it fails.
func Shrink(ctx context.Context, w *world.World, f *Failure) *Failure {
	try := func(h History) bool {
		_, err := Play(ctx, w, h, quiet)
		g, ok := errors.AsType[*Failure](err)
		if ok {
			g.Seed, f = f.Seed, g
		}
		return ok
	}
	for smaller := true; smaller; {
		smaller = false
		for size := max(1, len(f.History.Steps)/2); size > 0; size /= 2 {
			for at := 0; at+size <= len(f.History.Steps); {
				h := f.History
				if h.Steps = slices.Delete(slices.Clone(h.Steps), at, at+size); try(h) {
					smaller = true
				} else {
					at += size
				}
			}
		}
		for at := 0; at < len(f.History.Calls) && len(f.History.Calls) > 1; {
			h := f.History
			if h.Calls = slices.Delete(slices.Clone(h.Calls), at, at+1); try(h) {
				smaller = true
			} else {
				at++
			}
		}
	}
	for at := 0; at < len(f.History.Steps); at++ {
		h := f.History
		s := h.Steps[at]
		h.Steps = slices.Clone(h.Steps)
		if h.Steps[at] = (Step{Verb: s.Verb, For: s.For, End: "commits", Fate: "takes it"}); !try(h) {
			h.Steps[at] = Step{Verb: s.Verb, A: s.A, B: s.B, C: s.C, D: s.D, For: s.For, End: "commits",
				Fate: "takes it"}
			try(h)
		}
	}
	for at := 0; at < len(f.History.Order); at++ {
		h := f.History
		h.Order = slices.Clone(h.Order)
		h.Order[at] = 0
		try(h)
	}
	return f
}

// quiet tells nobody.
func quiet(string) {}
