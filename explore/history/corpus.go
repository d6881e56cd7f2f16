package history

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/illumicode/illumicode/explore/world"
)

// corpus has a line for each history that has found something: what it was, and the steps.
//
//go:embed corpus.jsonl
var corpus string

// A Found is a history that has once found something.
type Found struct {
	What  string
	Steps []Step `json:",omitempty"`
	Block *Block `json:",omitempty"`
	Break *Break `json:",omitempty"`
}

// Corpus returns the histories that have found something.
func Corpus() (all []Found, err error) {
	n := 0
	for line := range strings.Lines(corpus) {
		n++
		var one Found
		if err := json.Unmarshal([]byte(line), &one); err != nil {
			return nil, fmt.Errorf("corpus.jsonl, line %d: %w", n, err)
		}
		all = append(all, one)
	}
	return all, nil
}

// Row returns a history as a line of the corpus.
func Row(what string, f *Failure) string {
	one := Found{What: what, Steps: f.Steps, Block: f.Block, Break: f.Break}
	if f.Block != nil || f.Break != nil {
		one.Steps = nil
	}
	raw, _ := json.Marshal(one) // plain values
	return string(raw)
}

// Play plays it, and returns how it fails.
func (f Found) Play(ctx context.Context, w *world.World) (err error) {
	switch {
	case f.Block != nil:
		_, err = PlayBlock(ctx, w, *f.Block)
	case f.Break != nil:
		_, err = PlayBreak(ctx, w, *f.Break)
	default:
		_, err = Play(ctx, w, f.Steps)
	}
	return err
}
