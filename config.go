package illumicode

import (
	"context"
	"log/slog"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/letter"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/token"
)

// Config says what a [Service] works with. Store, Keys or KeySource, Site.BaseURL, Site.Name, From and Providers are
// required. New copies it; changing it afterwards has no effect.
type Config struct {
	Store     *store.Store
	Keys      *token.Keyring
	KeySource KeySource // instead of Keys: where the keyring is, and where a new one is found while the service runs
	Site      Site
	From      message.Address     // the sender of every letter; a provider must accept it
	Providers []provider.Provider // the ways out, the preferred one first; no two have one name

	// ReturnPath is where what comes back about letters goes: a domain of its own, such as bounces.ferry.example, or an
	// address at whose host sub-addresses (RFC 5233) arrive, such as bounces@ferry.example. Each letter's envelope is
	// from a signed address there; package feedback reads them. Empty means that envelopes are from From. A provider
	// whose senders lack it sends with From.
	ReturnPath string
	Bounces    delivery.Bounces // what follows from what comes back

	Sign delivery.Signer // signs letters, as a dkim.Signer does; nil means unsigned

	// Data describes the values of the application's own letters: for each letter's name a struct of the type that its
	// notices will carry. New refuses a letter that uses a field which its struct lacks. Values that the library itself
	// supplies need no field.
	Data map[string]any

	Events []EventRule // what events lead to; none by default

	// Guard says what may leave; the zero Guard is live. Capture takes captured letters, such as a provider that writes
	// to an inbox: required with delivery.Capture, else nil.
	Guard   delivery.Guard
	Capture provider.Provider

	MaxAttachments int64 // of one letter, in bytes; 0 or less means 20 MiB

	Letters *letter.Set // nil means letters.Default

	// Signup, Reverify, SignIn and StepUp are the lives, tries and resends of these flows; the zero Policy is all
	// defaults. Purposes are the application's own besides, each under its name.
	Signup, Reverify, SignIn, StepUp challenge.Policy
	Purposes                         map[string]challenge.Purpose

	// Limits are the rules on how often letters can be asked for; nil means [DefaultLimits], and an empty slice none.
	// They hold across all processes on the same database.
	Limits []limit.Rule

	// Conventions say which spellings reach one mailbox, by domain in A-labels, beside those that are widely known:
	// limits count them as one.
	Conventions map[string]message.Convention

	// Admit refuses addresses that the application does not want, as the function of message.RefuseDomains does. Its
	// error may be shown to who asked, so it must not tell whether the address has an account. It may be called at any
	// time from any goroutine. Nil admits all.
	Admit func(ctx context.Context, a message.Address) error

	// TellOwner lets the owner of an address know what must not be told to who asked: that a sign-in was tried and
	// there is no account, or a signup and there is one already. False writes nothing.
	TellOwner bool

	// TellOwnerByText lets text messages say so too, to phone numbers. They cost money, and count under the limits on
	// the purpose "told" alone, of which there must be one.
	TellOwnerByText bool

	Welcome bool             // whether a confirmed signup is followed by the letter "welcome"
	Undo    time.Duration    // how long the holder of an old address can take a change back; 0 or less means 7 days
	Recheck delivery.Recheck // how stale and bounced addresses are asked again

	// Lapsed is told once, by a worker and in the transaction that closes it, of every signup that nobody confirmed in
	// time, so that the application can drop its account; and, with Lapse.Grace, of every stale address whose time of
	// grace is over. An error rolls back and is tried again. Nil means that nobody need be told.
	Lapsed func(ctx context.Context, tx Tx, l Lapse) error

	// Failed is told by a worker of every letter that has reached nobody for good, after its end is on record. It is
	// told once at most: a worker that dies just then tells nobody, where an event rule for [event.LetterFailed] is
	// never passed over. It must return soon. Nil means that nobody need be told.
	Failed func(f Failure)

	Outbox   delivery.Settings // how workers work; the zero Outbox is all defaults
	Observer delivery.Observer // is told what the service does, as package metrics is; nil means nobody
	Log      *slog.Logger      // one line an attempt, no addresses, no secrets; nil means slog.Default

	// Now is the service's clock: every instant in rows, tokens and decisions comes from it. Nil means time.Now. Tests
	// and rehearsals set it.
	Now func() time.Time
}

// A Site is what letters say about who is writing, and where their links lead.
type Site struct {
	BaseURL  string // absolute, https (or http on loopback), without a slash at its end
	Name     string // of the service, as people know it
	HomePage string // in the letters' foot; empty means none
	Imprint  string // postal address and the like, several lines; empty means none

	Mark      string         // a picture beside the name: an https URL; empty means none
	MarkImage []byte         // the same, to travel with each letter: PNG, JPEG or GIF; nil means none
	Colours   letter.Colours // of letters; empty ones have defaults

	ConfirmPath string // where package web serves the page behind a link; empty means /confirm
	NotMePath   string // the page behind "this was not me" and "take it back"; empty means /not-me

	// UnsubscribePath is the page behind a notice's List-Unsubscribe; empty means /unsubscribe.
	UnsubscribePath string
}
