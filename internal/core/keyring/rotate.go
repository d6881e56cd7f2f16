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

// Add returns a keyring with a new key of a use, and its kid. The key signs nothing, unless it is the first of its use:
// it verifies, so that every process can know it before [Keyring.Activate] makes it sign.
func (r *Keyring) Add(use Use, now time.Time) (next *Keyring, kid string, err error) {
	k := *r.now.Load()
	switch use {
	case ForLinks:
		one := GenerateKey(now)
		k.all, kid = append(slices.Clone(k.all), one), one.kid
	case ForLookups:
		one := GenerateKey(now)
		k.index, kid = append(slices.Clone(k.index), one), one.kid
	case ForReceipts:
		one := GenerateReceiptKey(now)
		k.receipts, kid = append(slices.Clone(k.receipts), one), one.kid
	default:
		return nil, "", fmt.Errorf("token: no keys are for %q; there are %s, %s and %s", use, ForLinks, ForReceipts,
			ForLookups)
	}
	next, err = newKeyring(k.all, k.receipts, k.index)
	return next, kid, err
}

// Activate returns a keyring in which the key of a kid signs, of those of its use. What was active verifies until then,
// or, of lookups, until no row is kept under it; keys whose time is over at now are left out.
func (r *Keyring) Activate(kid string, now, until time.Time) (*Keyring, error) {
	k := *r.now.Load()
	switch {
	case kid == k.all[0].kid, kid == k.index[0].kid, len(k.receipts) > 0 && kid == k.receipts[0].kid:
		return nil, fmt.Errorf("token: %s is active already", kid)
	case k.byKid[kid] != nil:
		if _, err := r.Key(kid, now); err != nil {
			return nil, err
		}
		k.all = activated(k.all, kid, now, until)
	case slices.ContainsFunc(k.index, func(one *Key) bool { return one.kid == kid }):
		k.index = activated(k.index, kid, now, time.Time{})
	case slices.ContainsFunc(k.receipts, func(one *ReceiptKey) bool { return one.kid == kid }):
		k.receipts = activatedReceipt(k.receipts, kid, now, until)
	default:
		return nil, fmt.Errorf("%w: kid %q", ErrUnknownKey, kid)
	}
	return newKeyring(k.all, k.receipts, k.index)
}

// Rotate is Add and Activate at once, for a keyring that no process has yet.
func (r *Keyring) Rotate(use Use, now, until time.Time) (*Keyring, error) {
	next, kid, err := r.Add(use, now)
	if err != nil || use == ForReceipts && len(next.Receipts()) == 1 {
		return next, err
	}
	return next.Activate(kid, now, until)
}

func activated(all []*Key, kid string, now, until time.Time) (out []*Key) {
	for i, one := range all {
		kept := newKey(one.kid, one.secret, one.verifyUntil)
		switch {
		case one.kid == kid:
			kept.verifyUntil = time.Time{}
			out = slices.Insert(out, 0, kept)
			continue
		case i == 0:
			kept.verifyUntil = until
		}
		if kept.verifyUntil.IsZero() || now.Before(kept.verifyUntil) {
			out = append(out, kept)
		}
	}
	return out
}

func activatedReceipt(all []*ReceiptKey, kid string, now, until time.Time) (out []*ReceiptKey) {
	for i, one := range all {
		kept := *one
		switch {
		case one.kid == kid:
			kept.until = time.Time{}
			out = slices.Insert(out, 0, &kept)
			continue
		case i == 0:
			kept.until = until
		}
		if kept.until.IsZero() || now.Before(kept.until) {
			out = append(out, &kept)
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
		return nil, fmt.Errorf("token: %s is active; rotate and activate first, so that another one signs", kid)
	}
	not := func(one *Key) bool { return one.kid == kid }
	k.all, k.index = slices.DeleteFunc(slices.Clone(k.all), not), slices.DeleteFunc(slices.Clone(k.index), not)
	k.receipts = slices.DeleteFunc(slices.Clone(k.receipts), func(one *ReceiptKey) bool { return one.kid == kid })
	return newKeyring(k.all, k.receipts, k.index)
}

// Kids returns the ids of all keys, and those that sign: of links, of receipts if there is one, and of lookups.
func (r *Keyring) Kids() (all, sign []string) {
	k := r.now.Load()
	sign = append(sign, k.all[0].kid)
	if len(k.receipts) > 0 {
		sign = append(sign, k.receipts[0].kid)
	}
	return k.kids(), append(sign, k.index[0].kid)
}

// LooksUp reports whether the key of a kid is one for lookups.
func (r *Keyring) LooksUp(kid string) bool {
	return slices.ContainsFunc(r.now.Load().index, func(one *Key) bool { return one.kid == kid })
}
