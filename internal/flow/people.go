package flow

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/nyaruka/phonenumbers"
	"golang.org/x/text/unicode/norm"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/core/near"
	"github.com/illumicode/illumicode/internal/dial"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
)

// Recipient reads an address or a phone number as people type them. A number is refused if no provider carries text
// messages, or if the numbering plan of its country has no such number.
func (p *Parts) Recipient(typed string) (message.Address, error) {
	typed = strings.TrimSpace(typed)
	digits := typed != "" && strings.Trim(typed, "+0123456789 ()/.-") == ""
	if strings.Contains(typed, "@") || !strings.HasPrefix(typed, "+") && !(digits && p.SMS) {
		return message.ParseAddress(typed)
	}
	if !p.SMS {
		return message.Address{}, fmt.Errorf("%w: it is a phone number, and no provider carries SMS",
			message.ErrAddress)
	}
	number, err := phonenumbers.Parse(typed, "")
	if err != nil || !phonenumbers.IsPossibleNumber(number) {
		return message.Address{}, fmt.Errorf("%w: it is no phone number with a country code, such as +47 900 12 345",
			message.ErrAddress)
	}
	return message.Phone(phonenumbers.Format(number, phonenumbers.E164))
}

// KnownRecipient reads an address that is in the tables already. It may be one that nobody could write to today.
func KnownRecipient(address string) (message.Address, error) {
	return message.ParseRecipient(strings.TrimSpace(address))
}

// Locale returns the best language of the service's letters for a reader's wishes: BCP 47 tags or an Accept-Language
// value.
func (p *Parts) Locale(wishes ...string) string { return p.Letters.Locale(wishes...).String() }

// PurposeOf returns a purpose by its name, signup for the empty one, or an error if the service has none of the name.
func (p *Parts) PurposeOf(name string) (string, error) {
	if name == "" {
		name = challenge.Signup
	}
	if _, known := p.Purposes[name]; !known {
		return "", fmt.Errorf(
			"illumicode: Request.Purpose is %q, which is no purpose of this service; %s; Config.Purposes "+
				"names the application's own", name, near.List(name, slices.Collect(maps.Keys(p.Purposes))))
	}
	return name, nil
}

// A LimitRequest is a request as the limits look at it, before its keys are made.
type LimitRequest struct {
	To      message.Address
	Purpose string
	Subject string
	Known   Known
	Stage   limit.Stage
	Vouched bool // the application vouches for who asks
}

// Known is what a letter of a known browser counts under: a letter of its own each day, and the rest from what its
// subject has for all of them. The zero Known is that of a browser that is not known.
type Known struct{ Browser, Subject string }

// Keyed returns how rules look at a request. Nothing in it can be read back: addresses, subjects and networks are keyed
// digests.
func (p *Parts) Keyed(ctx context.Context, a LimitRequest) judge.Request {
	key := p.Keys.Index()[0]
	digest := func(what, value string) string {
		if value == "" {
			return ""
		}
		return key.Lookup(what + " " + value)
	}
	ask := judge.Request{
		Purpose: a.Purpose, Stage: a.Stage, Medium: limit.Mail,
		New:     a.Purpose != challenge.SignIn && a.Purpose != challenge.StepUp,
		Address: digest("address", a.To.Canonical(p.Conventions)), Network: digest("network", Network(ctx)),
		Domain: a.To.Domain(), Browser: cmp.Or(digest("browser", a.Known.Browser), digest("subject", a.Known.Subject)),
	}
	// What is reserved depends on what is presented, and never on who holds the typed address.
	ask.Vouched = a.Vouched || a.Known != Known{} || a.Purpose == challenge.StepUp || a.Purpose == challenge.Reverify
	if a.To.IsPhone() {
		ask.Medium, ask.Domain = limit.SMS, dial.Code(a.To.String())
	}
	// Before a proof nobody may be told apart by whether there is an account.
	if a.Purpose == challenge.StepUp || a.Purpose == challenge.Reverify {
		ask.Subject = digest("subject", a.Subject)
	}
	// A subject who is signed in, and asks at an address of theirs, does not wait for what strangers have used up.
	if a.Purpose == challenge.StepUp {
		ask.Browser = ask.Subject
	}
	return ask
}

// KnownFor is how long a browser stays known after it has last signed in.
const KnownFor = 180 * 24 * time.Hour

// knowing is what the value that makes a browser known is sealed for.
const knowing = "browser"

// SealBrowser returns the value that makes a browser known. It counts while the browser's row is there.
func (p *Parts) SealBrowser(b store.Browser) string {
	return p.Keys.Active().Seal(knowing, b.ID, b.Mailbox)
}

// KnownBrowser returns the browser that a value makes known for a mailbox, or the zero Browser.
func (p *Parts) KnownBrowser(ctx context.Context, sealed, mailbox string) (store.Browser, error) {
	if sealed == "" {
		return store.Browser{}, nil
	}
	values, err := p.Keys.Unseal(knowing, sealed, p.Now())
	if err != nil || len(values) != 2 || values[1] != mailbox {
		return store.Browser{}, nil // not ours, or for another mailbox
	}
	b, err := p.Store.Browser(ctx, values[0])
	if errors.Is(err, store.ErrNotFound) { // revoked
		return store.Browser{}, nil
	}
	if err != nil || b.Mailbox != mailbox || p.Now().After(b.Used.Add(KnownFor)) {
		return store.Browser{}, err
	}
	return b, nil
}

// Thumbs returns the thumbprints under which a mailbox may be suppressed, that of new rows first: under all keys, and
// as it was written before mailboxes were normalised.
func (p *Parts) Thumbs(mailbox string) []string {
	var all []string
	for _, form := range []string{mailbox, norm.NFD.String(mailbox)} {
		if len(all) > 0 && form == mailbox {
			break
		}
		for _, key := range p.Keys.Index() {
			all = append(all, key.Lookup(form))
		}
	}
	return all
}

// Suppress adds a suppression, with a line of the trail.
func (p *Parts) Suppress(ctx context.Context, t store.Tx, sup store.Suppression, actor string) error {
	now, key := p.Now(), p.Keys.Index()[0]
	sup.Thumb, sup.Kid, sup.Since = key.Lookup(sup.Mailbox), key.ID(), now
	if err := t.Suppress(ctx, sup); err != nil {
		return err
	}
	return t.Record(ctx, store.Step{
		Mailbox: sup.Mailbox, At: now, What: "suppressed", Outcome: string(sup.Scope) + ": " + sup.Reason,
		Network: Network(ctx), Actor: actor,
	})
}
