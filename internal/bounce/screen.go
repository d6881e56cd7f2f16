package bounce

import (
	"context"
	"errors"
	"time"

	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// Screen returns which deliveries go to addresses that must not be written to, with the reason.
func (c Consequences) Screen(ctx context.Context, claimed []outbox.Addressed) (map[string]string, error) {
	var thumbs []string
	whose := make(map[string][]store.Delivery, len(claimed))
	for _, d := range claimed {
		if d.Unread != nil {
			continue // it will not be composed either
		}
		for _, thumb := range c.p.Thumbs(d.To.Mailbox()) {
			thumbs = append(thumbs, thumb)
			whose[thumb] = append(whose[thumb], d.Delivery)
		}
	}
	found, err := c.p.Store.SuppressedAmong(ctx, thumbs)
	notes := make(map[string]string, len(found))
	for _, sup := range found {
		for _, d := range whose[sup.Thumb] {
			if notes[d.ID] != "" {
				continue
			}
			keep, err := c.keepsBack(ctx, sup, d)
			if err != nil {
				return nil, err
			}
			if keep {
				notes[d.ID] = "its address is suppressed (" + string(sup.Scope) +
					"); `illumicode address show` says why"
			}
		}
	}
	return notes, err
}

// bounceRest is how long an address that has bounced is left alone after a challenge was let through.
const bounceRest = 24 * time.Hour

// keepsBack reports whether a suppression keeps a delivery back. An address that has bounced still
// gets one challenge a day, so that it can be proven again. It also gets the letters that ask it again,
// which are rarer than that.
func (c Consequences) keepsBack(ctx context.Context, sup store.Suppression, d store.Delivery) (bool, error) {
	switch sup.Scope {
	case store.NoticesOnly:
		return !c.p.Letters.Kind(d.Letter).Security(), nil
	case store.BouncedOnce:
		if d.Challenge == "" {
			return true, nil
		}
		if d.Letter == flow.RecheckLetter {
			return false, nil
		}
		let, err := c.p.Store.LetThrough(ctx, sup.Thumb, d.Challenge, bounceRest, c.p.Now())
		if err != nil || let {
			return !let, err
		}
		fair, err := c.fair(ctx, d)
		return !fair, err
	}
	return true, nil
}

// bouncedPlaces are how many letters of a day networks share at an address that has bounced, beside the one that goes
// to the first that asks: strangers who ask first, or have forged the bounce, must not keep its owner out.
const bouncedPlaces = 3

// fair reports whether the network that has asked for a letter has had fewer than others today.
func (c Consequences) fair(ctx context.Context, d store.Delivery) (bool, error) {
	to, err := message.ParseRecipient(d.Address)
	if err != nil {
		return false, nil
	}
	network, err := c.p.Store.BegunFrom(ctx, d.Challenge)
	if errors.Is(err, store.ErrNotFound) || network == "" {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	had, err := c.p.Store.LettersByNetwork(ctx, to.Mailbox(), c.p.Now().Add(-bounceRest))
	had[network] = max(0, had[network]-1) // this one is among them
	return err == nil && judge.Fair(bouncedPlaces, had, network), err
}
