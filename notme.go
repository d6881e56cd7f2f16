package illumicode

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"time"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/token"
	"github.com/illumicode/illumicode/store"
)

// The purposes of links that prove nothing, but take something back; see [Service.LinkPurpose].
const (
	LinkNotMe = "not-me" // [Service.NotMe]
	LinkUndo  = "undo"   // [Service.Undo]
)

// notMeFor is how long after a challenge's end its reader can still say that it was somebody else.
const notMeFor = 7 * 24 * time.Hour

// notMeURL returns the link of a challenge's letter by which its reader says so.
func (s *Service) notMeURL(c store.Challenge, key *token.Key, d store.Delivery) string {
	return s.refuseURL(s.links.Sign(key, token.Claims{
		Purpose: LinkNotMe, Challenge: c.ID, IssuedAt: d.Fixed.Unix(), Expires: c.Ends.Add(notMeFor).Unix(), ID: d.ID,
		Address: key.Thumbprint(c.Address),
	}))
}

func (s *Service) refuseURL(tok string) string {
	return s.site.BaseURL + s.site.NotMePath + "?" + url.Values{"t": {tok}}.Encode()
}

// readLink checks a token of one of these purposes.
func (s *Service) readLink(link string, purpose string) (token.Claims, error) {
	claims, err := s.links.Verify(link, s.now())
	switch {
	case errors.Is(err, token.ErrExpired) && claims.Purpose == purpose:
		return claims, ErrExpired
	case err != nil:
		return claims, fmt.Errorf("%w: %w", ErrInvalid, err)
	case claims.Purpose != purpose:
		return claims, ErrInvalid
	}
	return claims, nil
}

// LinkPurpose returns what the link of a letter is for, such as challenge.Signup, [LinkNotMe] or
// [LinkUndo], for pages that serve several. It is "" for what is no link of this service.
func (s *Service) LinkPurpose(link string) string {
	claims, err := s.links.Verify(link, s.now())
	if err != nil && !errors.Is(err, token.ErrExpired) {
		return ""
	}
	return claims.Purpose
}

// A Disowned is a challenge whose reader says that somebody else began it.
type Disowned struct {
	Purpose string
	Subject string // empty where the challenge was a decoy
	Address string
	Done    bool // it had been accepted: whoever did that may be in the account
	Void    bool // it had been ended already
}

func disowned(c store.Challenge) Disowned {
	return Disowned{Purpose: c.Purpose, Subject: c.Subject, Address: c.Address, Done: c.State == challenge.Accepted, Void: c.State == challenge.Ended}
}

// InspectNotMe returns what a link "this was not me" would disown. The error matches [ErrInvalid] or
// [ErrExpired].
func (s *Service) InspectNotMe(ctx context.Context, link string) (Disowned, error) {
	c, err := s.byNotMeLink(ctx, link)
	return disowned(c), err
}

func (s *Service) byNotMeLink(ctx context.Context, link string) (store.Challenge, error) {
	claims, err := s.readLink(link, LinkNotMe)
	if err != nil {
		return store.Challenge{}, err
	}
	c, err := s.store.Challenge(ctx, claims.Challenge)
	if errors.Is(err, store.ErrNotFound) {
		return c, ErrInvalid
	}
	if err != nil {
		return c, err
	}
	key, err := s.keys.Key(claims.KeyID(), s.now())
	if err != nil || c.Kid != claims.KeyID() || key.Thumbprint(c.Address) != claims.Address {
		return store.Challenge{}, ErrInvalid
	}
	return c, nil
}

// brakeBy is how many wrong codes one "this was not me" counts as.
const brakeBy = 15

// NotMe ends a challenge for the reader of its letter, who says that somebody else began it: its
// codes and links are void, and guessing at the address becomes slower. apply, which may be nil,
// makes the application's own writes in the same commit, and learns whether the challenge had been
// accepted already: then sessions should end. It is not called for a challenge that is void already, and
// a second call does no harm. The error matches [ErrInvalid] or [ErrExpired].
func (s *Service) NotMe(ctx context.Context, link string, apply func(tx *sql.Tx, d Disowned) error) error {
	c, err := s.byNotMeLink(ctx, link)
	if err != nil {
		return err
	}
	return s.inTx(ctx, func(tx *sql.Tx) error {
		t, name, now := s.In(tx), "address:"+c.Mailbox, s.now()
		r, err := t.rows.LockFailures(ctx, name, now) // first, as sign-ins do, which end challenges too
		if err != nil {
			return err
		}
		ended, err := t.callOff(ctx, c, challenge.NotMe)
		switch {
		case err != nil:
			return err
		case ended:
			r.Failures, r.At = r.Count(now)+brakeBy, now
			err = t.rows.SetFailures(ctx, name, r)
		default: // accepted, perhaps since it was read
			c, err = t.rows.ChallengeOf(ctx, c.ID)
		}
		if errors.Is(err, store.ErrNotFound) {
			return ErrInvalid
		}
		if d := disowned(c); err == nil && apply != nil && !d.Void {
			err = apply(tx, d)
		}
		return err
	})
}
