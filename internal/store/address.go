package store

import (
	"context"
	"errors"
	"time"
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
}

const addressColumns = `subject, address, mailbox, standing, since, reason, asked, grace_ends, locale`

func scanAddress(r scanner) (a Address, err error) {
	var since, asked, grace int64
	err = r.Scan(&a.Subject, &a.Address, &a.Mailbox, &a.Standing, &since, &a.Reason, &asked, &grace, &a.Locale)
	a.Since, a.Asked, a.GraceEnds = instant(since), instant(asked), instant(grace)
	return a, err
}

var addressInsert = insert{into: `INSERT INTO illumicode_address (subject, address, mailbox, standing, since)`,
	values: `?, ?, ?, 'unconfirmed', ?`, conflict: ` ON CONFLICT (subject, address) DO NOTHING`}

var doubt = together(
	`INSERT INTO illumicode_address (subject, address, mailbox, standing, since, reason) VALUES (?, ?, ?, 'stale', ?, ?)
	ON CONFLICT (subject, address) DO UPDATE SET standing = 'stale', since = excluded.since, reason = excluded.reason,
	grace_ends = 0`, insertTrail)

// Doubt makes an address of a subject stale, without a time of grace, whether the subject has it now or
// had it before; with a line of its trail.
func (t Tx) Doubt(ctx context.Context, a Address, step Step) error {
	return t.all(ctx, doubt, []any{step.Subject, a.Address, a.Mailbox, millis(step.At), a.Reason}, step.args())
}

var (
	insertHolder = q(`INSERT INTO illumicode_holder (mailbox, subject, since) VALUES (?, ?, ?)
		ON CONFLICT (mailbox) DO NOTHING`)
	selectHolder = q(`SELECT subject FROM illumicode_holder WHERE mailbox = ?`)
	deleteHolder = q(
		`DELETE FROM illumicode_holder WHERE mailbox = ? AND subject = ? AND NOT EXISTS (SELECT 1 FROM
			illumicode_address a
		WHERE a.subject = illumicode_holder.subject AND a.mailbox = illumicode_holder.mailbox AND a.standing <>
		'unconfirmed')`)
	lastProven = q(
		`SELECT COALESCE(MAX(since), 0) FROM illumicode_address WHERE mailbox = ? AND standing = 'confirmed'`)
	anyAddress     = q(`SELECT EXISTS (SELECT 1 FROM illumicode_address WHERE subject = ?)`)
	confirmAddress = together(`INSERT INTO illumicode_address (subject, address, mailbox, standing, since, locale)
		VALUES (?, ?, ?, 'confirmed', ?, COALESCE((SELECT locale FROM illumicode_challenge WHERE id = ?), ''))
		ON CONFLICT (subject, address) DO UPDATE SET standing = 'confirmed', since = excluded.since, mailbox =
		excluded.mailbox,
		reason = '', asked = 0, grace_ends = 0, locale = CASE excluded.locale WHEN '' THEN illumicode_address.locale
		ELSE excluded.locale END`, insertTrail,
		`DELETE FROM illumicode_suppression WHERE thumb IN (SELECT value FROM json_each(?)) AND scope = 'bounced'`)
	deleteAddress     = q(`DELETE FROM illumicode_address WHERE subject = ? AND address = ?`)
	deleteUnconfirmed = q(
		`DELETE FROM illumicode_address WHERE subject = ? AND address = ? AND standing = 'unconfirmed'`)
)

// TakeMailbox makes a subject the holder of a mailbox and reports whether it is: false means that another
// one holds it. No statement fails on a conflict.
func (t Tx) TakeMailbox(ctx context.Context, subject, mailbox string, now time.Time) (bool, error) {
	n, err := t.exec(ctx, insertHolder, mailbox, subject, millis(now))
	if err != nil || n == 1 {
		return n == 1, err
	}
	rows, err := t.query(ctx, selectHolder, mailbox)
	holder, err := one(t.s, rows, err, scanText)
	return holder == subject, err
}

// Proven returns when a mailbox was last confirmed; the zero time if it is not now.
func (t Tx) Proven(ctx context.Context, mailbox string) (time.Time, error) {
	rows, err := t.query(ctx, lastProven, mailbox)
	at, err := one(t.s, rows, err, scanInt)
	return instant(at), err
}

// Confirm records an address as confirmed for a subject, with a line of its trail, and reports
// whether it could: false means that another subject holds the mailbox. What bounces have suppressed
// ends; thumbs are the mailbox's thumbprints under all keys.
func (t Tx) Confirm(ctx context.Context, address string, thumbs []string, step Step) (bool, error) {
	holds, err := t.TakeMailbox(ctx, step.Subject, step.Mailbox, step.At)
	if err != nil || !holds {
		return false, err
	}
	return true, t.all(ctx, confirmAddress, []any{step.Subject, address, step.Mailbox, millis(step.At), step.Challenge},
		step.args(), []any{list(thumbs)})
}

// AnyAddress reports whether a subject has an address, confirmed or not.
func (t Tx) AnyAddress(ctx context.Context, subject string) (bool, error) {
	rows, err := t.query(ctx, anyAddress, subject)
	return one(t.s, rows, err, func(r scanner) (yes bool, err error) { return yes, r.Scan(&yes) })
}

// ReleaseMailbox lets others hold a mailbox that a subject has held, unless it has the address again.
func (t Tx) ReleaseMailbox(ctx context.Context, subject, mailbox string) error {
	_, err := t.exec(ctx, deleteHolder, mailbox, subject)
	return err
}

// RemoveAddress takes an address from a subject.
func (t Tx) RemoveAddress(ctx context.Context, subject, address string) error {
	_, err := t.exec(ctx, deleteAddress, subject, address)
	return err
}

// RemoveUnconfirmed takes an address from a subject that has not confirmed it.
func (t Tx) RemoveUnconfirmed(ctx context.Context, subject, address string) error {
	_, err := t.exec(ctx, deleteUnconfirmed, subject, address)
	return err
}

// relied are the addresses that an application relies on: an address on which it does not any more must
// not get another time of grace.
const relied = `(standing = 'confirmed' OR standing IN ('stale', 'bounced') AND grace_ends > 0)`

var setStanding = q(`UPDATE illumicode_address SET standing = ?, since = ?, reason = ?, grace_ends = ?, asked = 0
	WHERE subject = ? AND mailbox = ? AND standing <> ? AND ` + relied)

var setBounced = q(`UPDATE illumicode_address SET standing = 'bounced', since = ?, reason = ?, grace_ends = ?, asked = ?
	WHERE mailbox = ? AND standing <> 'bounced' AND ` + relied)

// SetBounced makes a mailbox bounced for every subject that relies on it. They count as asked just
// now: a letter that asks would come back as well.
func (t Tx) SetBounced(ctx context.Context, mailbox, reason string, grace, now time.Time) error {
	_, err := t.exec(ctx, setBounced, millis(now), reason, millis(grace), millis(now), mailbox)
	return err
}

var (
	selectAddresses = q(`SELECT ` + addressColumns +
		` FROM illumicode_address WHERE subject = ? ORDER BY since DESC, address`)
	selectByMailbox = q(`SELECT ` + addressColumns +
		` FROM illumicode_address WHERE mailbox = ? AND subject <> '' ORDER BY since DESC, subject`)
	selectOwner = q(`SELECT ` + addressColumns +
		` FROM illumicode_address a WHERE mailbox = ? AND standing IN ('confirmed', 'stale', 'bounced')
		AND subject = (SELECT subject FROM illumicode_holder h WHERE h.mailbox = a.mailbox)
		AND NOT EXISTS (SELECT 1 FROM illumicode_change c WHERE c.subject = a.subject AND c.state = 'frozen') LIMIT 1`)
	selectRelied = q(
		`SELECT address FROM illumicode_address WHERE subject = ? AND (standing = 'confirmed' OR grace_ends > ?)
		AND NOT EXISTS (SELECT 1 FROM illumicode_change WHERE subject = ? AND state = 'frozen') ORDER BY since DESC,
		address LIMIT 1`)
	selectToAsk = q(`SELECT ` + addressColumns + ` FROM illumicode_address
		WHERE standing IN ('stale', 'bounced') AND asked <= ? AND grace_ends > 0 ORDER BY asked LIMIT ?`)
	selectGraceOver = q(`SELECT ` + addressColumns +
		` FROM illumicode_address WHERE grace_ends > 0 AND grace_ends <= ? ORDER BY grace_ends LIMIT ?`)
	markAsked = q(`UPDATE illumicode_address SET asked = ? WHERE subject = ? AND address = ? AND asked = ?`)
	endGrace  = q(`UPDATE illumicode_address SET grace_ends = 0 WHERE subject = ? AND address = ? AND grace_ends = ?`)
)

// SetStanding changes how an address of a subject stands that has been confirmed, and reports whether
// it did: not if it stood so already, is not the subject's, or is not confirmed and not in a time of
// grace.
func (t Tx) SetStanding(ctx context.Context, a Address) (bool, error) {
	n, err := t.exec(ctx, setStanding, string(a.Standing), millis(a.Since), a.Reason, millis(a.GraceEnds), a.Subject,
		a.Mailbox, string(a.Standing))
	return n > 0, err
}

// Addresses returns the addresses of a subject, the latest change first.
func (s *Store) Addresses(ctx context.Context, subject string) ([]Address, error) {
	rows, err := s.query(ctx, selectAddresses, subject)
	return collect(s, rows, err, scanAddress)
}

// ReliedAddress returns the latest address of a subject that is confirmed, or in its time of grace at now;
// [ErrNotFound] if there is none, or a change of its addresses is frozen.
func (s *Store) ReliedAddress(ctx context.Context, subject string, now time.Time) (string, error) {
	rows, err := s.query(ctx, selectRelied, subject, millis(now), subject)
	return one(s, rows, err, scanText)
}

// AddressesOf is [Store.Addresses] in a transaction.
func (t Tx) AddressesOf(ctx context.Context, subject string) ([]Address, error) {
	rows, err := t.query(ctx, selectAddresses, subject)
	return collect(t.s, rows, err, scanAddress)
}

// AddressesAt returns what is known of a mailbox, for every subject that has it.
func (s *Store) AddressesAt(ctx context.Context, mailbox string) ([]Address, error) {
	rows, err := s.query(ctx, selectByMailbox, mailbox)
	return collect(s, rows, err, scanAddress)
}

// Owner returns the address of the subject that holds a mailbox and may sign in with it, or
// [ErrNotFound]. It takes as long in both cases: beside what it looks for it looks for one that is
// not there, or for one that is (no mailbox, as it has no @).
func (t Tx) Owner(ctx context.Context, mailbox string) (Address, error) {
	owner, err := t.owner(ctx, mailbox)
	beside := "nobody"
	if err == nil {
		beside = "missing"
	} else if !errors.Is(err, ErrNotFound) {
		return owner, err
	}
	if _, err := t.owner(ctx, beside); err != nil && !errors.Is(err, ErrNotFound) {
		return owner, err
	}
	return owner, err
}

func (t Tx) owner(ctx context.Context, mailbox string) (Address, error) {
	rows, err := t.query(ctx, selectOwner, mailbox)
	return one(t.s, rows, err, scanAddress)
}

// ToAsk returns up to n stale or bounced addresses in their time of grace that were not asked since.
func (s *Store) ToAsk(ctx context.Context, since time.Time, n int) ([]Address, error) {
	rows, err := s.query(ctx, selectToAsk, millis(since), n)
	return collect(s, rows, err, scanAddress)
}

// MarkAsked says that an address is asked again, and reports whether it was this call that did.
func (t Tx) MarkAsked(ctx context.Context, a Address, now time.Time) (bool, error) {
	n, err := t.exec(ctx, markAsked, millis(now), a.Subject, a.Address, millis(a.Asked))
	return n == 1, err
}

// GraceOver returns up to n addresses whose time of grace is over.
func (s *Store) GraceOver(ctx context.Context, now time.Time, n int) ([]Address, error) {
	rows, err := s.query(ctx, selectGraceOver, millis(now), n)
	return collect(s, rows, err, scanAddress)
}

// EndGrace says that the end of an address's grace was told, and reports whether it was this call
// that did.
func (t Tx) EndGrace(ctx context.Context, a Address) (bool, error) {
	n, err := t.exec(ctx, endGrace, a.Subject, a.Address, millis(a.GraceEnds))
	return n == 1, err
}
