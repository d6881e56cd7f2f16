package main

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/internal/store"
)

// A filter is the flags that choose deliveries.
type filter struct {
	state, lane, letter, to, key, provider, heldBy string
	older, newer                                   time.Duration
}

func (f *filter) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.state, "state", "", "only this state: "+joined(store.States))
	cmd.Flags().StringVar(&f.lane, "lane", "", "only this lane: "+joined(store.Lanes))
	cmd.Flags().StringVar(&f.letter, "letter", "", "only letters of this name")
	cmd.Flags().StringVar(&f.to, "to", "", "only those to this address")
	cmd.Flags().StringVar(&f.key, "key", "", "only those under this key of the application")
	cmd.Flags().StringVar(&f.provider, "provider", "", "only those that this provider has had in hand")
	cmd.Flags().StringVar(&f.heldBy, "held-by", "",
		"only those held by this, such as asked, guard or 'letter: NAME'")
	cmd.Flags().DurationVar(&f.older, "older", 0, "only those created longer ago than this, such as 2h")
	cmd.Flags().DurationVar(&f.newer, "newer", 0, "only those created within this time, such as 2h")
}

// joined lists words as a person would.
func joined[T ~string](all []T) string {
	words := make([]string, len(all))
	for i, w := range all {
		words[i] = string(w)
	}
	if len(words) == 1 {
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// filter returns what the flags say, at now.
func (f *filter) filter(now time.Time) (store.Filter, error) {
	if f.state != "" && !slices.Contains(store.States, store.State(f.state)) {
		return store.Filter{},
			misuse{fmt.Errorf("--state %s: there is no such state; the states are %s", f.state, joined(store.States))}
	}
	if f.lane != "" && !slices.Contains(store.Lanes, store.Lane(f.lane)) {
		return store.Filter{},
			misuse{fmt.Errorf("--lane %s: there is no such lane; the lanes are %s", f.lane, joined(store.Lanes))}
	}
	out := store.Filter{State: store.State(f.state), Lane: store.Lane(f.lane), Letter: f.letter, Address: f.to,
		Key: f.key, Provider: f.provider, HeldBy: f.heldBy}
	if f.older > 0 {
		out.CreatedBefore = now.Add(-f.older)
	}
	if f.newer > 0 {
		out.CreatedAfter = now.Add(-f.newer)
	}
	return out, nil
}
