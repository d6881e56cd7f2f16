package illumicode

import (
	"errors"
	"time"

	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
)

// What an application can tell apart. No error's text holds an address, a code or a token.
var (
	// ErrInvalid matches a link or ticket that was not made by this service, or is damaged.
	ErrInvalid = errors.New("illumicode: not a valid link or ticket")
	// ErrExpired matches a proof whose life is over, for which a resend or a new signup helps, and an admission that is
	// older than a minute.
	ErrExpired = errors.New("illumicode: expired")
	// ErrUsed matches a proof that has done its work, or was used by another caller at the same moment.
	ErrUsed = errors.New("illumicode: it has been done already")
	// ErrCalledOff matches a proof whose challenge was ended before: its reader said "this was not
	// me", its address was corrected, or the same browser began another.
	ErrCalledOff = errors.New("illumicode: called off")
	// ErrOtherBrowser matches a link that signs in, opened where the sign-in did not begin.
	ErrOtherBrowser = errors.New("illumicode: this link signs in only the browser that asked for it")
	// ErrPurpose matches a proof given to a call that is for others.
	ErrPurpose = errors.New("illumicode: the proof is for another purpose")
	// ErrOtherAction matches a proof that is good for another action than the one about to be done.
	ErrOtherAction = errors.New("illumicode: the proof is for another action")
	// ErrNotConfirmed matches an address that the subject has not confirmed, or not lately enough.
	ErrNotConfirmed = errors.New("illumicode: the subject has not confirmed this address")
	// ErrWrongCode matches a code that does not fit; see [WrongCodeError].
	ErrWrongCode = errors.New("illumicode: the code does not fit")
	// ErrNotACode matches input that no code can look like. It has cost no try.
	ErrNotACode = errors.New("illumicode: not a code; it has digits only")
	// ErrNoTries matches a code refused unseen, since all tries are spent. The link still works.
	ErrNoTries = errors.New("illumicode: no tries left for a code")
	// ErrTooSoon matches a request, a resend or a try that came too early; see [TooSoonError].
	ErrTooSoon = errors.New("illumicode: too soon")
	// ErrNothingPending means that a subject has no signup to be reminded of, or no frozen account to decide about.
	ErrNothingPending = errors.New("illumicode: nothing is pending")
	// ErrFrozen matches a link that was used already in an account whose change of address was taken back: the
	// proof is kept, and counts when somebody decides who keeps the account.
	ErrFrozen = errors.New("illumicode: the account is frozen until it is settled who keeps it")
	// ErrTaken means that another subject holds the address as confirmed. Roll back.
	ErrTaken = errors.New("illumicode: another subject holds this address")
	// ErrAdmissionUsed means that another transaction has begun a challenge with the admission, and committed.
	ErrAdmissionUsed = errors.New("illumicode: the admission has begun its challenge already; admit the request again")
	// ErrZone matches a Request.Zone that is no time zone of the IANA database.
	ErrZone = flow.ErrZone
	// ErrStuck means that a transaction of the service's own could not begin in time.
	ErrStuck = flow.ErrStuck
	// ErrTooLarge matches attachments that together are larger than Config.MaxAttachments.
	ErrTooLarge = rows.ErrTooLarge

	// ErrDifferent matches a notice or an event under a key that was used for other contents.
	ErrDifferent = errors.New("illumicode: the same key was used for something else")

	// ErrUndoable means that a change of an account's address can still be taken back; see [Closing].
	ErrUndoable = errors.New("illumicode: a change of the account's address can still be taken back")
	// ErrOccupied is for the callback of [Service.Signup], where the application knows that an account has the address
	// and this service has not confirmed it. The stranger who asked is answered as if there was none.
	ErrOccupied = errors.New("illumicode: the address has an account")
)

// A WrongCodeError says how many tries are left; get it with errors.AsType.
type WrongCodeError struct{ TriesLeft int }

func (e *WrongCodeError) Error() string { return ErrWrongCode.Error() }
func (e *WrongCodeError) Unwrap() error { return ErrWrongCode }

// A TooSoonError says when the same call will do; get it with errors.AsType.
type TooSoonError struct {
	At time.Time

	Rule  string // the limit that refused, by its public name; empty for the challenge's own wait
	Limit string // what that limit allows, in words that may be shown

	// That limit allows Times in each Window, as the RateLimit-Policy field says it. Both are zero where no limit
	// refused, and where the limit does not count in that way.
	Times  int
	Window time.Duration

	Vouch bool // the same request would pass at once with Request.Vouched: ask for a puzzle instead of refusing
}

func (e *TooSoonError) Error() string { return ErrTooSoon.Error() }
func (e *TooSoonError) Unwrap() error { return ErrTooSoon }
