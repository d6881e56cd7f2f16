package history

import (
	"context"
	"errors"
	"slices"

	"github.com/illumicode/illumicode/explore/world"
)

// Shrink takes steps out of a history that fails, and makes what is left simpler, as long as it fails.
func Shrink(ctx context.Context, w *world.World, f *Failure) *Failure {
	for smaller := true; smaller; {
		smaller = false
		for size := max(1, len(f.Steps)/2); size > 0; size /= 2 {
			for at := 0; at+size <= len(f.Steps); {
				if g := fails(ctx, w, slices.Delete(slices.Clone(f.Steps), at, at+size)); g != nil {
					f, smaller = g, true
				} else {
					at += size
				}
			}
		}
	}
	for i := range f.Steps {
		for _, simpler := range simplify(f.Steps[i]) {
			steps := slices.Clone(f.Steps)
			steps[i] = simpler
			if g := fails(ctx, w, steps); g != nil && len(g.Steps) <= len(f.Steps) {
				f = g
				break
			}
		}
		if i >= len(f.Steps)-1 {
			break
		}
	}
	return f
}

func fails(ctx context.Context, w *world.World, steps []Step) *Failure {
	_, err := Play(ctx, w, steps)
	f, _ := errors.AsType[*Failure](err)
	return f
}

// simplify returns simpler steps than one, the simplest first.
func simplify(s Step) (all []Step) {
	plain := Step{Verb: s.Verb, For: s.For, End: "commits", Fate: "takes it"}
	if plain != s {
		all = append(all, plain)
		plain.A, plain.B, plain.C, plain.D = s.A, s.B, s.C, s.D
		all = append(all, plain)
	}
	return all
}

// ShrinkBlock takes steps and calls out of a block that fails, and changes of turns, as long as it fails.
func ShrinkBlock(ctx context.Context, w *world.World, f *Failure) *Failure {
	try := func(b Block) bool {
		_, err := PlayBlock(ctx, w, b)
		g, ok := errors.AsType[*Failure](err)
		if ok && g.Block != nil {
			f = g
		}
		return ok && g.Block != nil
	}
	for smaller := true; smaller; {
		smaller = false
		for _, part := range []func(*Block) *[]Step{func(b *Block) *[]Step { return &b.Before },
			func(b *Block) *[]Step { return &b.Calls }} {
			for at := 0; at < len(*part(f.Block)); {
				b := *f.Block
				steps := part(&b)
				if *steps = slices.Delete(slices.Clone(*steps), at, at+1); try(b) {
					smaller = true
				} else {
					at++
				}
			}
		}
	}
	for at := range f.Block.Order {
		if f.Block.Order[at] == 0 {
			continue
		}
		b := *f.Block
		b.Order = slices.Clone(b.Order)
		b.Order[at] = 0
		try(b)
	}
	return f
}
