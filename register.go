package illumicode

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
)

// A Registration is what an account is made of once its address is confirmed: 4 KiB together at most. Until then it is
// sealed in the challenge's row, and nobody has an account.
type Registration struct {
	Profile []byte // what the form said: JSON, say
	Secret  []byte // what signs in, such as the hash of a password; empty where another browser has proven the address
}

// maxRegistration bounds a registration, and it is padded to a multiple of pad, in bytes.
const (
	maxRegistration = 4 << 10
	pad             = 1 << 10
)

// Register begins a signup whose account is made when its address is confirmed: a stranger who types somebody else's
// address makes no account there, and none that is theirs. compose returns what the account will be made of. It runs
// once, after the limits and before anybody looks whether the address is known: so it costs the same for every address,
// and a refused request hashes no password.
//
// The answer is that of [Service.Signup], whether an account holds the address or not. Registrations of one address
// from several browsers wait side by side, each with a code of its own; the first that is proven ends the others. A
// browser that registers once more (Request.Ticket) goes on with its challenge, and what it says last counts. Finish
// with [Service.RegisterCode] or [Service.RegisterLink]. After an emergency retirement of its key a registration has
// expired.
func (s *Service) Register(ctx context.Context, r Request, compose func(ctx context.Context) (Registration, error)) (
	Pending, error) {
	if compose == nil {
		return Pending{}, errors.New("illumicode: Register needs compose, which returns what the account is made of")
	}
	r.Purpose = challenge.Signup
	a, err := s.admitFor(ctx, r)
	if err != nil {
		return Pending{}, err
	}
	what, err := compose(ctx)
	if n := len(what.Profile) + len(what.Secret); err == nil && n > maxRegistration {
		err = fmt.Errorf("illumicode: the registration has %d bytes; at most %d are kept", n, maxRegistration)
	}
	var p Pending
	if err == nil {
		err = s.Transact(ctx, func(ctx context.Context, tx Tx) (err error) {
			p, err = tx.beginRegistration(ctx, a, what)
			return err
		})
	}
	if err != nil {
		s.p.Limits.Refund(ctx, a.spent)
		return Pending{}, err
	}
	return p, nil
}

func (t Tx) beginRegistration(ctx context.Context, a Admission, what Registration) (Pending, error) {
	holder, err := t.rows().HolderOf(ctx, a.address.Mailbox())
	if err != nil {
		return Pending{}, err
	}
	earlier, err := t.waiting(ctx, a, "")
	if err != nil {
		return Pending{}, err
	}
	held := holder != ""
	if earlier.Sealed != "" && earlier.Decoy == held {
		key, err := t.s.p.ChallengeKey(earlier)
		if err == nil {
			err = t.rows().Reseal(ctx, earlier.ID, seal(key, earlier, what))
		}
		if err != nil {
			return Pending{}, unusable(err)
		}
		return t.goOn(ctx, a, earlier)
	}
	st := start{purpose: challenge.Signup, registration: &what, decoy: held}
	if held {
		st.letter = flow.ExistsLetter
	}
	return t.begin(ctx, a, st)
}

// sealedFor is what a registration is sealed for: its challenge, as that was bound at its beginning.
func sealedFor(c rows.Challenge) string { return "registration " + c.Bound }

// takeAlong has a challenge go on with what the account of another will be made of. It is a decoy if that was one, or
// an account holds its address.
func (t Tx) takeAlong(ctx context.Context, from rows.Challenge, a Admission, st *start) error {
	what, err := t.s.unsealed(from)
	if err != nil {
		return err
	}
	holder, err := t.rows().HolderOf(ctx, a.address.Mailbox())
	if st.registration, st.decoy = &what, st.decoy || from.Decoy || holder != ""; st.decoy {
		st.letter = flow.ExistsLetter
	}
	return err
}

// seal returns a registration as the row of its challenge keeps it. A decoy's has the same length, and nothing in it.
func seal(key *keyring.Key, c rows.Challenge, what Registration) string {
	profile := base64.StdEncoding.EncodeToString(what.Profile)
	secret := base64.StdEncoding.EncodeToString(what.Secret)
	whole := (len(profile) + len(secret) + pad - 1) / pad * pad
	if c.Decoy {
		profile, secret = "", ""
	}
	return key.Seal(sealedFor(c), profile, secret, strings.Repeat(" ", whole-len(profile)-len(secret)))
}

// unsealed returns the registration of a challenge. For a decoy it has the same length, and no contents.
func (s *Service) unsealed(c rows.Challenge) (what Registration, err error) {
	values, err := s.p.Keys.Unseal(sealedFor(c), c.Sealed, s.p.Now())
	if err != nil || len(values) != 3 {
		return what, cmp.Or(unusable(err), ErrInvalid)
	}
	if c.Decoy {
		what.Profile = make([]byte, base64.StdEncoding.DecodedLen(len(values[2])))
		return what, nil
	}
	if what.Profile, err = base64.StdEncoding.DecodeString(values[0]); err == nil {
		what.Secret, err = base64.StdEncoding.DecodeString(values[1])
	}
	return what, err
}

// AcceptRegistration is [Tx.Accept] for a signup that [Service.Register] has begun: create makes the account, in the
// same transaction, and returns its subject. It gets the secret only if the browser has proven that registered
// ([Proof.SameBrowser]); else let whoever reads the mailbox choose another. It returns [ErrOccupied] where the
// application knows that an account has the address: roll back then, as after every error.
func (t Tx) AcceptRegistration(ctx context.Context, p Proof,
	create func(ctx context.Context, tx Tx, r Registration) (subject string, err error)) error {
	switch err := t.ok(); {
	case err != nil:
		return err
	case !p.sealed:
		return ErrPurpose
	}
	now := t.s.p.Now()
	// The mailbox, then who holds it, then challenges: two that register the same address wait here, one for the other.
	if _, err := t.rows().LockFailures(ctx, "address:"+p.address.Mailbox(), now); err != nil {
		return err
	}
	holder, err := t.rows().HolderOf(ctx, p.address.Mailbox())
	if err == nil && holder != "" {
		err = ErrTaken
	}
	if err != nil {
		return err
	}
	won, err := t.win(ctx, p)
	if err != nil {
		return err
	}
	what, err := t.s.unsealed(won)
	if err != nil {
		return err
	}
	if !p.here {
		what.Secret = nil
	}
	subject, err := create(ctx, t, what)
	if err == nil && subject == "" {
		err = errors.New("illumicode: the account that was made has no subject")
	}
	if err != nil {
		return err
	}
	p.subject, *p.contested = subject, !p.here
	if err := t.confirm(ctx, p, now); err != nil {
		return err
	}
	if err := t.rows().MadeOf(ctx, won.ID, subject); err != nil {
		return err
	}
	if t.s.welcome {
		if err := t.addWelcome(ctx, won, now); err != nil {
			return err
		}
	}
	others, err := t.rows().Registering(ctx, won.Mailbox)
	for i := 0; err == nil && i < len(others); i++ {
		_, err = t.s.p.CallOff(ctx, t.rows(), others[i], proof.Superseded)
	}
	return err
}

// RegisterCode proves a code and makes the account in one call; create is that of [Tx.AcceptRegistration], and gets the
// secret. The try stays spent after every outcome. The error matches those of [Service.Prove] and
// [Tx.AcceptRegistration]; after [ErrOccupied] the challenge has ended.
func (s *Service) RegisterCode(ctx context.Context, ticket Ticket, code string,
	create func(ctx context.Context, tx Tx, p Proof, r Registration) (subject string, err error)) error {
	p, err := s.Prove(ctx, ticket, code)
	if err != nil {
		return err
	}
	return s.registerInTx(ctx, p, create)
}

// RegisterLink is RegisterCode for a link, opened in a browser that has a ticket; "" for none. Only with that of the
// browser that registered create gets the secret.
func (s *Service) RegisterLink(ctx context.Context, ticket Ticket, link Link,
	create func(ctx context.Context, tx Tx, p Proof, r Registration) (subject string, err error)) error {
	p, err := s.ProveLinkFrom(ctx, ticket, link)
	if err != nil {
		return err
	}
	return s.registerInTx(ctx, p, create)
}

func (s *Service) registerInTx(ctx context.Context, p Proof,
	create func(ctx context.Context, tx Tx, p Proof, r Registration) (subject string, err error)) error {
	err := s.Transact(ctx, func(ctx context.Context, tx Tx) error {
		return tx.AcceptRegistration(ctx, p, func(ctx context.Context, tx Tx, r Registration) (string, error) {
			return create(ctx, tx, p, r)
		})
	})
	if !errors.Is(err, ErrOccupied) {
		return err
	}
	// The account is there: this challenge makes none any more.
	return errors.Join(err, s.Transact(ctx, func(ctx context.Context, tx Tx) error {
		c, err := tx.rows().ChallengeOf(ctx, p.challenge)
		if err == nil {
			_, err = s.p.CallOff(ctx, tx.rows(), c, proof.Occupied)
		}
		return err
	}))
}
