package flow

import (
	"errors"
	"net/url"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/store"
)

// notMeFor is how long after a challenge's end its reader can still say that it was somebody else.
const notMeFor = 7 * 24 * time.Hour

// ConfirmURL returns the URL that carries a token to the page behind a link.
func (p *Parts) ConfirmURL(token string) string { return p.url(p.Site.ConfirmPath, "t", token) }

// TakeBackURL returns the URL that carries a token to the page that takes something back.
func (p *Parts) TakeBackURL(token string) string { return p.url(p.Site.NotMePath, "t", token) }

func (p *Parts) url(path, name, value string) string {
	return p.Site.BaseURL + path + "?" + url.Values{name: {value}}.Encode()
}

// NotMeURL returns the link of a challenge's letter that says "this was not me".
func (p *Parts) NotMeURL(c store.Challenge, key *keyring.Key, d store.Delivery) string {
	return p.TakeBackURL(p.Links.Sign(key, keyring.Claims{
		Purpose: challenge.NotMe, Challenge: c.ID, IssuedAt: d.Fixed.Unix(), Expires: c.Ends.Add(notMeFor).Unix(),
		ID: d.ID, Bound: c.Bound,
	}))
}

// unsubscribing is what the sealed value of an unsubscribe link is for.
const unsubscribing = "unsubscribe"

// UnsubscribeURL returns the link of a notice that unsubscribes its reader from its category.
func (p *Parts) UnsubscribeURL(address, category string) string {
	return p.url(p.Site.UnsubscribePath, "u", p.Keys.Active().Seal(unsubscribing, address, category))
}

// errUnsubscribe means that a value is no unsubscribe link's.
var errUnsubscribe = errors.New("flow: not the value of an unsubscribe link")

// Unsubscription returns the address and the category in the value of an unsubscribe link.
func (p *Parts) Unsubscription(sealed string) (address, category string, err error) {
	values, err := p.Keys.Unseal(unsubscribing, sealed, p.Now())
	switch {
	case err != nil:
		return "", "", err
	case len(values) != 2:
		return "", "", errUnsubscribe
	}
	return values[0], values[1], nil
}

// A ReturnPath is where what comes back goes. The zero ReturnPath is the sender of each letter.
type ReturnPath struct{ Prefix, Domain string }

// Of returns the envelope sender of a delivery.
func (r ReturnPath) Of(key *keyring.Key, delivery, sender string) string {
	path := key.ReturnPath(delivery)
	if r.Domain == "" || path == "" {
		return sender
	}
	return r.Prefix + path + "@" + r.Domain
}

// LinkPurpose returns what a link is for, or "" if it is none of this service's.
func (p *Parts) LinkPurpose(link string) string {
	claims, err := p.Links.Verify(link, p.Now())
	if err != nil && !errors.Is(err, keyring.ErrExpired) {
		return ""
	}
	return claims.Purpose
}
