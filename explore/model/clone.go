package model

import (
	"maps"
	"slices"
)

// Clone returns a copy that shares nothing.
func (m *Model) Clone() *Model {
	c := *m
	c.browsers, c.admissions, c.proofs = slices.Clone(m.browsers), slices.Clone(m.admissions), slices.Clone(m.proofs)
	c.challenges, c.changes, c.known, c.letters = copies(m.challenges), copies(m.changes), copies(m.known),
		copies(m.letters)
	c.holders, c.registered, c.wrong, c.spent = maps.Clone(m.holders), maps.Clone(m.registered), maps.Clone(m.wrong),
		maps.Clone(m.spent)
	c.suppressed, c.recalled = maps.Clone(m.suppressed), maps.Clone(m.recalled)
	c.Covered = maps.Clone(m.Covered)
	c.addresses = make(map[holding]*standing, len(m.addresses))
	for of, s := range m.addresses {
		one := *s
		c.addresses[of] = &one
	}
	return &c
}

func copies[T any](all []*T) []*T {
	out := make([]*T, len(all))
	for i, one := range all {
		c := *one
		out[i] = &c
	}
	return out
}

// Lag has pauses go by the wrong codes that there are now: tries that are made at once do not slow each other.
func (m *Model) Lag() { m.lag = maps.Clone(m.wrong) }

// AsOf gives browsers the cookies that they have in another model: requests under way at once carry those from before.
func (m *Model) AsOf(before *Model) { m.browsers = slices.Clone(before.browsers) }
