package illumicode

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/core/proof"
	rows "github.com/illumicode/illumicode/internal/store"
)

// readLink checks a token of one of these purposes.
func (s *Service) readLink(link Link, purpose string) (keyring.Claims, error) {
	claims, err := s.p.Links.Verify(string(link), s.p.Now())
	switch {
	case errors.Is(err, keyring.ErrExpired) && claims.Purpose == purpose:
		return claims, ErrExpired
	case err != nil:
		return claims, fmt.Errorf("%w: %w", ErrInvalid, err)
	case claims.Purpose != purpose:
		return claims, ErrInvalid
	}
	return claims, nil
}

// A Disowned is a challenge whose reader says that somebody else began it.
type Disowned struct {
	Purpose string
	Subject string // empty where the challenge was a decoy
	Address string
	Done    bool // it had been accepted: whoever did that may be in the account
	Void    bool // it had been ended already
}

func disowned(c rows.Challenge) Disowned {
	return Disowned{Purpose: c.Purpose, Subject: cmp.Or(c.Subject, c.Made), Address: c.Address,
		Done: c.State == proof.Accepted,
		Void: c.State == proof.Ended}
}

func (s *Service) byNotMeLink(ctx context.Context, link Link) (rows.Challenge, error) {
	claims, err := s.readLink(link, challenge.NotMe)
	if err != nil {
		return rows.Challenge{}, err
	}
	c, err := s.p.Store.Challenge(ctx, claims.Challenge)
	if errors.Is(err, rows.ErrNotFound) {
		return c, ErrInvalid
	}
	if err != nil {
		return c, err
	}
	if _, err := s.p.ChallengeKey(c); err != nil || c.Kid != claims.KeyID() || c.Bound != claims.Bound {
		return rows.Challenge{}, ErrInvalid
	}
	return c, nil
}

// brakeBy is how many wrong codes one "this was not me" counts as.
const brakeBy = 15

// NotMe ends a challenge for the reader of its letter, who says that somebody else began it: its codes and links are
// void, guessing at the address becomes slower, and the browser that began, or that has signed in by it, is known no
// longer. apply, which may be nil, makes the application's own writes in the same commit, and learns whether the
// challenge had been accepted already: then sessions should end. It is not called for a challenge that is void already,
// and a second call does no harm. The error matches [ErrInvalid] or [ErrExpired].
func (s *Service) NotMe(ctx context.Context, link Link,
	apply func(ctx context.Context, tx Tx, d Disowned) error) error {
	c, err := s.byNotMeLink(ctx, link)
	if err != nil {
		return err
	}
	return s.Transact(ctx, func(ctx context.Context, tx Tx) error {
		c, err := tx.disown(ctx, c)
		if errors.Is(err, rows.ErrNotFound) {
			return ErrInvalid
		}
		if d := disowned(c); err == nil && apply != nil && !d.Void {
			err = apply(ctx, tx, d)
		}
		return err
	})
}

// disown ends a challenge, and returns it as it was before that or, if it had ended since it was read, as it is.
func (t Tx) disown(ctx context.Context, c rows.Challenge) (rows.Challenge, error) {
	name, now := "address:"+c.Mailbox, t.s.p.Now()
	r, err := t.rows().LockFailures(ctx, name, now) // first, as sign-ins do, which end challenges too
	if err != nil {
		return c, err
	}
	ended, err := t.s.p.CallOff(ctx, t.rows(), c, proof.NotMe)
	if err == nil {
		err = t.rows().RevokeBegun(ctx, c)
	}
	switch {
	case err != nil:
		return c, err
	case ended:
		r.Failures, r.At = r.Count(now)+brakeBy, now
		return c, t.rows().SetFailures(ctx, name, r)
	}
	return t.rows().ChallengeOf(ctx, c.ID) // accepted, perhaps since it was read
}
