package addresses

import (
	"context"
	"errors"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Standing is what is known of an address for a subject.
type Standing string

// The standings.
const (
	Unconfirmed Standing = "unconfirmed"
	Confirmed   Standing = "confirmed"
	Stale       Standing = "stale"      // was confirmed, and is asked again
	Bounced     Standing = "bounced"    // letters to it came back
	Silenced    Standing = "suppressed" // must not be written to
)

// Holds reports whether a subject with it holds the mailbox, which no other then has.
func (s Standing) Holds() bool { return s == Confirmed || s == Stale || s == Bounced }

// An Address is the row of an address and its standing for a subject.
type Address struct {
	Subject   string
	Address   string
	Mailbox   string // message.Address.Mailbox
	Standing  Standing
	Since     time.Time
	Reason    string    // why it stands so, in words; may be empty
	Asked     time.Time // when a stale or bounced one was last asked again; zero if not yet
	GraceEnds time.Time // until when the application lets it work; zero for none
	Locale    string    // of the challenge by which it was last proven, or of an import; empty if neither
	Heard     bool      // a service that hears of the end of its grace has confirmed it
}

// addressRow are the columns of an address.
var addressRow = db.Columns[Address]{
	db.Text("subject", func(r *Address) *string { return &r.Subject }),
	db.Text("address", func(r *Address) *string { return &r.Address }),
	db.Text("mailbox", func(r *Address) *string { return &r.Mailbox }),
	db.Text("standing", func(r *Address) *Standing { return &r.Standing }),
	db.Time("since", func(r *Address) *time.Time { return &r.Since }),
	db.Text("reason", func(r *Address) *string { return &r.Reason }),
	db.Time("asked", func(r *Address) *time.Time { return &r.Asked }),
	db.Time("grace_ends", func(r *Address) *time.Time { return &r.GraceEnds }),
	db.Text("locale", func(r *Address) *string { return &r.Locale }),
	db.Bool("heard", func(r *Address) *bool { return &r.Heard }),
}

// New adds an address that is unconfirmed, unless the subject has it already.
var New = addressRow.Pick("subject", "address", "mailbox", "standing", "since").
	Insert("address", db.Values{"standing": "'unconfirmed'"}).OrNothing("subject, address")

var (
	addStale = addressRow.Pick("subject", "address", "mailbox", "standing", "since", "reason").
			Insert("address", db.Values{"standing": "'stale'"})
	doubt = db.Together(addStale.Alone()+` ON CONFLICT (subject, address) DO UPDATE
		SET standing = 'stale', since = excluded.since, reason = excluded.reason, grace_ends = 0`, NewStep.Alone())
)

// Doubt makes an address of a subject stale, without a time of grace, whether the subject has it now or
// had it before; with a line of its trail.
func (t Tx) Doubt(ctx context.Context, a Address, step Step) error {
	a.Subject, a.Since = step.Subject, step.At
	return t.Together(ctx, doubt, addStale.Args(a), NewStep.Args(step))
}

var (
	insertHolder = db.Q(`INSERT INTO @holder (mailbox, subject, since) VALUES (?, ?, ?)
		ON CONFLICT (mailbox) DO NOTHING`)
	selectHolder = db.Q(`SELECT subject FROM @holder WHERE mailbox = ?`)
	deleteHolder = db.Q(`DELETE FROM @holder WHERE mailbox = ? AND subject = ? AND NOT EXISTS (SELECT 1
		FROM @address a WHERE a.subject = illumicode_holder.subject AND a.mailbox = illumicode_holder.mailbox
		AND a.standing <> 'unconfirmed')`)
	lastProven   = db.Q(`SELECT COALESCE(MAX(since), 0) FROM @address WHERE mailbox = ? AND standing = 'confirmed'`)
	anyAddress   = db.Q(`SELECT EXISTS (SELECT 1 FROM @address WHERE subject = ?)`)
	addConfirmed = addressRow.Pick("locale", "heard", "subject", "address", "mailbox", "standing", "since").
			Insert("address", db.Values{"standing": "'confirmed'",
			"locale": "COALESCE((SELECT locale FROM @challenge WHERE id = ?), '')",
			"heard":  "COALESCE((SELECT heard FROM @challenge WHERE id = ?), 1)"})
	confirmAddress = db.Together(addConfirmed.Alone()+` ON CONFLICT (subject, address) DO UPDATE
		SET standing = 'confirmed', since = excluded.since, mailbox = excluded.mailbox, reason = '', asked = 0,
		grace_ends = 0, heard = excluded.heard, locale = CASE excluded.locale WHEN '' THEN illumicode_address.locale
		ELSE excluded.locale END`,
		NewStep.Alone(),
		`DELETE FROM @suppression WHERE thumb @listed() AND scope = 'bounced'`)
	deleteAddress     = db.Q(`DELETE FROM @address WHERE subject = ? AND address = ?`)
	deleteUnconfirmed = db.Q(`DELETE FROM @address WHERE subject = ? AND address = ? AND standing = 'unconfirmed'`)
)

// A Taking is what came of taking a mailbox.
type Taking int

// The takings.
const (
	Others Taking = iota // another subject holds it
	Had                  // the subject held it before
	Took                 // nobody held it
)

// TakeMailbox makes a subject the holder of a mailbox, unless another one is. No statement fails on a conflict.
func (t Tx) TakeMailbox(ctx context.Context, subject, mailbox string, now time.Time) (Taking, error) {
	switch n, err := t.Exec(ctx, insertHolder, mailbox, subject, db.Millis(now)); {
	case err != nil:
		return Others, err
	case n == 1:
		return Took, nil
	}
	holder, err := db.One(ctx, t, db.Scalar[string], selectHolder, mailbox)
	if err != nil || holder != subject {
		return Others, err
	}
	return Had, nil
}

// HolderOf returns the subject that holds a mailbox, "" for none.
func (t Tx) HolderOf(ctx context.Context, mailbox string) (string, error) {
	holder, err := db.One(ctx, t, db.Scalar[string], selectHolder, mailbox)
	if errors.Is(err, db.ErrNotFound) {
		err = nil
	}
	return holder, err
}

// Held reports whether a subject holds a mailbox.
func (s Rows) Held(ctx context.Context, mailbox string) (bool, error) {
	holder, err := db.One(ctx, s, db.Scalar[string], selectHolder, mailbox)
	if errors.Is(err, db.ErrNotFound) {
		return false, nil
	}
	return holder != "", err
}

// Proven returns when a mailbox was last confirmed; the zero time if it is not now.
func (t Tx) Proven(ctx context.Context, mailbox string) (time.Time, error) {
	at, err := db.One(ctx, t, db.Scalar[int64], lastProven, mailbox)
	return db.Instant(at), err
}

// Confirm records an address as confirmed for a subject, with a line of its trail, unless another subject holds the
// mailbox. What bounces have suppressed ends; thumbs are the mailbox's thumbprints under all keys.
func (t Tx) Confirm(ctx context.Context, address string, thumbs []string, step Step) (Taking, error) {
	taking, err := t.TakeMailbox(ctx, step.Subject, step.Mailbox, step.At)
	if err != nil || taking == Others {
		return taking, err
	}
	a := Address{Subject: step.Subject, Address: address, Mailbox: step.Mailbox, Since: step.At}
	return taking,
		t.Together(ctx, confirmAddress, append([]any{step.Challenge, step.Challenge}, addConfirmed.Args(a)...),
			NewStep.Args(step), []any{db.List(thumbs)})
}

// AnyAddress reports whether a subject has an address, confirmed or not.
func (t Tx) AnyAddress(ctx context.Context, subject string) (bool, error) {
	return db.One(ctx, t, db.Scalar[bool], anyAddress, subject)
}

// ReleaseMailbox lets others hold a mailbox that a subject has held, unless it has the address again.
func (t Tx) ReleaseMailbox(ctx context.Context, subject, mailbox string) error {
	_, err := t.Exec(ctx, deleteHolder, mailbox, subject)
	return err
}

// RemoveAddress takes an address from a subject.
func (t Tx) RemoveAddress(ctx context.Context, subject, address string) error {
	_, err := t.Exec(ctx, deleteAddress, subject, address)
	return err
}

// RemoveUnconfirmed takes an address from a subject that has not confirmed it.
func (t Tx) RemoveUnconfirmed(ctx context.Context, subject, address string) error {
	_, err := t.Exec(ctx, deleteUnconfirmed, subject, address)
	return err
}

// relied are the addresses that an application relies on: an address on which it does not any more must
// not get another time of grace.
const relied = `(standing = 'confirmed' OR standing IN ('stale', 'bounced') AND grace_ends > 0)`

var setStanding = db.Q(`UPDATE @address SET standing = ?, since = ?, reason = ?, grace_ends = ?, asked = 0
	WHERE subject = ? AND mailbox = ? AND standing <> ? AND ` + relied)

var setBounced = db.Q(`UPDATE @address SET standing = 'bounced', since = ?, reason = ?, grace_ends = ?, asked = ?
	WHERE mailbox = ? AND standing <> 'bounced' AND ` + relied)

// SetBounced makes a mailbox bounced for every subject that relies on it. They count as asked just
// now: a letter that asks would come back as well.
func (t Tx) SetBounced(ctx context.Context, mailbox, reason string, grace, now time.Time) error {
	_, err := t.Exec(ctx, setBounced, db.Millis(now), reason, db.Millis(grace), db.Millis(now), mailbox)
	return err
}

var (
	selectAddresses = db.Q(`SELECT ` + addressRow.Names() + ` FROM @address WHERE subject = ?
		ORDER BY since DESC, address`)
	selectByMailbox = db.Q(`SELECT ` + addressRow.Names() + ` FROM @address WHERE mailbox = ? AND subject <> ''
		ORDER BY since DESC, subject`)
	selectOwner = db.Q(`SELECT ` + addressRow.Names() + ` FROM @address a WHERE mailbox = ?
		AND standing IN ('confirmed', 'stale', 'bounced') AND subject = (SELECT subject FROM @holder h
		WHERE h.mailbox = a.mailbox) AND NOT EXISTS (SELECT 1 FROM @change c WHERE c.subject = a.subject
		AND c.state = 'frozen') LIMIT 1`)
	selectRelied = db.Q(`SELECT address FROM @address WHERE subject = ? AND (standing = 'confirmed' OR grace_ends > ?)
		AND NOT EXISTS (SELECT 1 FROM @change WHERE subject = ? AND state = 'frozen') ORDER BY since DESC, address
		LIMIT 1`)
	selectReached = db.Q(`SELECT ` + addressRow.Names() + ` FROM @address WHERE subject = ?
		AND (standing = 'confirmed' OR grace_ends > ?) AND (SUBSTR(address, 1, 1) = '+') = (? = 1)
		ORDER BY since DESC, address LIMIT 1`)
	selectToAsk = db.Q(`SELECT ` + addressRow.Names() + ` FROM @address
		WHERE standing IN ('stale', 'bounced') AND asked <= ? AND grace_ends > ? ORDER BY asked LIMIT ?`)
	selectGraceOver = db.Q(`SELECT ` + addressRow.Names() + ` FROM @address WHERE grace_ends > 0 AND grace_ends <= ?
		AND heard <= ? ORDER BY grace_ends LIMIT ?`)
	markAsked = db.Q(`UPDATE @address SET asked = ? WHERE subject = ? AND address = ? AND asked = ?`)
	endGrace  = db.Q(`UPDATE @address SET grace_ends = 0 WHERE subject = ? AND address = ? AND grace_ends = ?`)
)

// SetStanding changes how an address of a subject stands that has been confirmed, and reports whether
// it did: not if it stood so already, is not the subject's, or is not confirmed and not in a time of
// grace.
func (t Tx) SetStanding(ctx context.Context, a Address) (bool, error) {
	n, err := t.Exec(ctx, setStanding, string(a.Standing), db.Millis(a.Since), a.Reason, db.Millis(a.GraceEnds),
		a.Subject,
		a.Mailbox, string(a.Standing))
	return n > 0, err
}

// Addresses returns the addresses of a subject, the latest change first.
func (s Rows) Addresses(ctx context.Context, subject string) ([]Address, error) {
	return db.All(ctx, s, addressRow.Scan, selectAddresses, subject)
}

// ReliedAddress returns the latest address of a subject that is confirmed, or in its time of grace at now;
// [db.ErrNotFound] if there is none, or a change of its addresses is frozen.
func (s Rows) ReliedAddress(ctx context.Context, subject string, now time.Time) (string, error) {
	return db.One(ctx, s, db.Scalar[string], selectRelied, subject, db.Millis(now), subject)
}

// Reached returns the latest address of a subject that is confirmed, or in its time of grace at now: a phone number,
// or a mail address. [db.ErrNotFound] means that there is none.
func (s Rows) Reached(ctx context.Context, subject string, phone bool, now time.Time) (Address, error) {
	return db.One(ctx, s, addressRow.Scan, selectReached, subject, db.Millis(now), db.Flag(phone))
}

// AddressesOf is [Rows.Addresses] in a transaction.
func (t Tx) AddressesOf(ctx context.Context, subject string) ([]Address, error) {
	return db.All(ctx, t, addressRow.Scan, selectAddresses, subject)
}

// AddressesAt returns what is known of a mailbox, for every subject that has it.
func (s Rows) AddressesAt(ctx context.Context, mailbox string) ([]Address, error) {
	return db.All(ctx, s, addressRow.Scan, selectByMailbox, mailbox)
}

// Owner returns the address of the subject that holds a mailbox and may sign in with it, or
// [db.ErrNotFound]. It takes as long in both cases: beside what it looks for it looks for one that is
// not there, or for one that is (no mailbox, as it has no @).
func (t Tx) Owner(ctx context.Context, mailbox string) (Address, error) {
	owner, err := t.owner(ctx, mailbox)
	beside := "nobody"
	if err == nil {
		beside = "missing"
	} else if !errors.Is(err, db.ErrNotFound) {
		return owner, err
	}
	if _, err := t.owner(ctx, beside); err != nil && !errors.Is(err, db.ErrNotFound) {
		return owner, err
	}
	return owner, err
}

func (t Tx) owner(ctx context.Context, mailbox string) (Address, error) {
	return db.One(ctx, t, addressRow.Scan, selectOwner, mailbox)
}

// ToAsk returns up to n stale or bounced addresses in their time of grace at now that were not asked since.
func (s Rows) ToAsk(ctx context.Context, since, now time.Time, n int) ([]Address, error) {
	return db.All(ctx, s, addressRow.Scan, selectToAsk, db.Millis(since), db.Millis(now), n)
}

// MarkAsked says that an address is asked again, and reports whether it was this call that did.
func (t Tx) MarkAsked(ctx context.Context, a Address, now time.Time) (bool, error) {
	n, err := t.Exec(ctx, markAsked, db.Millis(now), a.Subject, a.Address, db.Millis(a.Asked))
	return n == 1, err
}

// GraceOver returns up to n addresses whose time of grace is over. Those whose service hears of it are for a process
// that hears.
func (s Rows) GraceOver(ctx context.Context, now time.Time, hears bool, n int) ([]Address, error) {
	return db.All(ctx, s, addressRow.Scan, selectGraceOver, db.Millis(now), db.Flag(hears), n)
}

// EndGrace says that the end of an address's grace was told, and reports whether it was this call
// that did.
func (t Tx) EndGrace(ctx context.Context, a Address) (bool, error) {
	n, err := t.Exec(ctx, endGrace, a.Subject, a.Address, db.Millis(a.GraceEnds))
	return n == 1, err
}
