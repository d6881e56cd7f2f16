package keyring

import (
	"fmt"
	"slices"
	"time"
)

// A Use is what keys of a keyring are for.
type Use string

// The uses.
const (
	ForLinks    Use = "link"    // links, codes, and what is sealed
	ForReceipts Use = "receipt" // receipts for other services
	ForLookups  Use = "index"   // digests that rows are found by
)

// Rotate returns a keyring with a new active key of a use. What was active verifies until then, and
// keys whose time is over at now are left out.
func (r *Keyring) Rotate(use Use, now, until time.Time) (*Keyring, error) {
	k := *r.now.Load()
	switch use {
	case ForLinks:
		k.all = rotated(k.all, GenerateKey(now), now, until)
	case ForLookups:
		k.index = rotated(k.index, GenerateKey(now), now, time.Time{}) // until no row is kept under it
	case ForReceipts:
		var kept []*ReceiptKey
		for i, one := range k.receipts {
			next := *one
			if i == 0 {
				next.until = until
			}
			if now.Before(next.until) {
				kept = append(kept, &next)
			}
		}
		k.receipts = append([]*ReceiptKey{GenerateReceiptKey(now)}, kept...)
	default:
		return nil, fmt.Errorf("token: no keys are for %q; there are %s, %s and %s", use, ForLinks, ForReceipts,
			ForLookups)
	}
	return newKeyring(k.all, k.receipts, k.index)
}

func rotated(all []*Key, next *Key, now, until time.Time) []*Key {
	out := []*Key{next}
	for i, one := range all {
		kept := newKey(one.kid, one.secret, one.verifyUntil)
		if i == 0 {
			kept.verifyUntil = until
		}
		if kept.verifyUntil.IsZero() || now.Before(kept.verifyUntil) {
			out = append(out, kept)
		}
	}
	return out
}

// Without returns a keyring without a key that does not sign. The error says why it must stay.
func (r *Keyring) Without(kid string) (*Keyring, error) {
	k := *r.now.Load()
	if !slices.Contains(k.kids(), kid) {
		return nil, fmt.Errorf("%w: kid %q", ErrUnknownKey, kid)
	}
	if kid == k.all[0].kid || kid == k.index[0].kid || len(k.receipts) > 0 && kid == k.receipts[0].kid {
		return nil, fmt.Errorf("token: %s is active; rotate first, so that another one signs", kid)
	}
	not := func(one *Key) bool { return one.kid == kid }
	k.all, k.index = slices.DeleteFunc(slices.Clone(k.all), not), slices.DeleteFunc(slices.Clone(k.index), not)
	k.receipts = slices.DeleteFunc(slices.Clone(k.receipts), func(one *ReceiptKey) bool { return one.kid == kid })
	return newKeyring(k.all, k.receipts, k.index)
}
