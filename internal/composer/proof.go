package composer

import (
	"context"
	"errors"
	"fmt"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/core/otp"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
)

// errElsewhere means that a delivery does not go where its challenge has the letter go.
var errElsewhere = errors.New("illumicode: the delivery is addressed to another address than its challenge; " +
	"somebody else has written to its table")

// proof gives a letter the code and the link of its challenge, or says why it is not needed any more. One that nobody
// gets, as it is a decoy's, becomes what it would be where somebody did.
func (c Composer) proof(ctx context.Context, d outbox.Addressed, r *render.Request) (withheld string, err error) {
	row, err := c.p.Store.Challenge(ctx, d.Challenge)
	if errors.Is(err, store.ErrNotFound) {
		return "", drop("its challenge is gone")
	}
	if err != nil {
		return "", later(err)
	}
	if row.Decoy {
		if withheld, err = c.unsaid(ctx, d, row); err != nil {
			return "", later(err)
		}
	}
	if err := c.unneeded(ctx, d.Delivery, row); err != nil {
		return "", err
	}
	key, err := c.p.ChallengeKey(row)
	if err == nil && d.Address != row.Address {
		err = errElsewhere
	}
	if err != nil {
		return "", c.keyless(ctx, row.Kid, err)
	}
	if r.Data, err = letterData(row); err != nil {
		return "", err
	}
	if withheld != "" {
		r.Letter = c.p.Purposes[row.Purpose].Letter
	}
	if withheld != "" || !row.Decoy {
		r.Proof = c.proofOf(d.Delivery, row, key)
	}
	return withheld, nil
}

// keyless returns err, or that another worker may know better: one that has the key of a row, which this process lacks.
// Machines get a new key one after another. A key whose time is over is nobody's, and so is one that is on record as
// retired.
func (c Composer) keyless(ctx context.Context, kid string, err error) error {
	if !errors.Is(err, keyring.ErrUnknownKey) || c.p.Keys.Has(kid) {
		return err
	}
	retired, askErr := c.p.Store.IsRetired(ctx, kid)
	switch {
	case askErr != nil:
		return later(askErr)
	case retired:
		return fmt.Errorf("its key was retired in an emergency: %w", err)
	}
	return fmt.Errorf("%w: its key %s is not in the keyring of this process, and may be in another's",
		outbox.ErrElsewhere, kid)
}

// later says that the database may answer another time.
func later(err error) error { return fmt.Errorf("%w: %w", outbox.ErrLater, err) }

// drop says why a letter is not needed any more.
func drop(note string) *outbox.Drop { return &outbox.Drop{State: store.Cancelled, Note: note} }

// unneeded returns a [*outbox.Drop] if a challenge's letter is not needed any more, or the database's error.
func (c Composer) unneeded(ctx context.Context, d store.Delivery, row store.Challenge) error {
	if row.Resends > 0 {
		again, err := c.p.Store.AskedAgain(ctx, d)
		switch {
		case err != nil:
			return later(err)
		case again:
			return drop("it was asked for again, and a later letter goes")
		}
	}
	switch {
	case row.State == proof.Accepted:
		return drop("the address is confirmed already")
	case row.State == proof.Ended:
		return drop("its challenge was called off: " + row.Why)
	case !row.Alive(c.p.Now()):
		return &outbox.Drop{State: store.Expired, Note: "its proof has expired"}
	case row.Burnt() && !row.Forms.Has(challenge.Link):
		return drop("the tries of its code are used up")
	}
	return nil
}

// unsaid returns why nobody gets a decoy's letter, or "" if somebody does. The error is the database's.
func (c Composer) unsaid(ctx context.Context, d outbox.Addressed, row store.Challenge) (why string, err error) {
	var said bool
	const nobody = "nobody is written to"
	why = nobody
	switch {
	case !c.p.TellOwner:
	case d.Withheld:
	case isPhone(d.Delivery):
		said, err = c.mayText(ctx, d.Delivery)
		why = "no text message says so"
	case d.Letter == flow.UnknownLetter:
		said, err = c.unbraked(ctx, d.Delivery)
		why = "a limit on letters to addresses not yet confirmed"
	case d.Letter == flow.ExistsLetter: // an application may say that an address is taken which nobody has confirmed
		said, err = c.p.Store.Held(ctx, row.Mailbox)
		why = "no account holds the address"
	}
	if said {
		why = ""
	}
	return why, err
}

// isPhone reports whether a delivery is a text message.
func isPhone(d store.Delivery) bool {
	to, err := message.ParseRecipient(d.Address)
	return err == nil && to.IsPhone()
}

// mayText reports whether a text message may tell an owner what must not be told to who asked. Only rules on such
// messages count: they take nothing from codes.
func (c Composer) mayText(ctx context.Context, d store.Delivery) (bool, error) {
	if !c.p.TellTexts || !c.p.Letters.HasSMS(d.Letter) {
		return false, nil
	}
	if d.Attempts > 0 {
		return true, nil
	}
	return c.p.Limits.SpendTold(ctx)
}

// proofOf returns the code and the links of a challenge's letter. They come from the rows, so every attempt carries the
// same.
func (c Composer) proofOf(d store.Delivery, row store.Challenge, key *keyring.Key) render.Proof {
	p := render.Proof{NotMe: c.p.NotMeURL(row, key, d)}
	if row.Forms.Has(challenge.Link) {
		p.Link = c.p.ConfirmURL(c.p.Links.Sign(key, keyring.Claims{
			Purpose: row.Purpose, Challenge: row.ID, IssuedAt: d.Fixed.Unix(), Expires: row.Ends.Unix(), ID: d.ID,
			Bound: row.Bound, Action: row.Action,
		}))
		p.LinkLife = min(row.LinkLife, row.Ends.Sub(d.Fixed))
	}
	if row.Forms.Has(challenge.Code) && !row.Burnt() { // a code that is dead on arrival misleads
		p.Code = otp.Format(otp.Derive(key.CodeKey(), row.Bound, d.Generation, row.Digits))
		p.CodeLife = min(row.CodeLife, row.Ends.Sub(d.Fixed))
	}
	return p
}

// letterData returns the values of a challenge's letter.
func letterData(row store.Challenge) (map[string]any, error) {
	data, err := store.ReadData(row.Data)
	if err == nil {
		data["name"] = row.Name
		if row.Decoy { // a stranger has typed it, and its reader has not asked for the letter
			data["name"] = ""
		}
	}
	return data, err
}

// unbraked reports whether a letter that nobody asked for by name may go to an address without an account. The
// requester is not told: that would tell whether there is an account.
func (c Composer) unbraked(ctx context.Context, d store.Delivery) (bool, error) {
	if d.Attempts > 0 {
		return true, nil
	}
	ok, err := c.p.Limits.SpendNew(ctx, judge.Request{Purpose: challenge.SignIn, Stage: limit.First, Medium: limit.Mail,
		New: true})
	return ok, err
}
