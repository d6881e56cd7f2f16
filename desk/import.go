package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"iter"
	"slices"
	"time"

	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

// A Backfill is one account's address as another system knew it, to be taken over.
type Backfill struct {
	Line     int // where it stood, for reports
	Subject  string
	Address  string
	Standing string    // empty for what ImportOptions say
	Since    time.Time // since when; the zero time means now
	Reason   string
	Locale   string // a BCP 47 tag, the language in which its owner is written to; empty if it is not known
	Wrong    string // why the row could not be read; empty if it could
}

// ImportOptions are the optional settings of [Desk.Import].
type ImportOptions struct {
	DryRun bool // count, and change nothing

	// Grandfather makes addresses without a standing confirmed if they are from before this instant,
	// so that accounts which are older than the confirmation do not lock their owners out. Others
	// without a standing are unconfirmed.
	Grandfather time.Time
}

// Imported is what an import came to.
type Imported struct {
	Rows      int
	Changed   int // new, or with another standing than before
	Unchanged int // known already, or something newer is known
	Omitted   int // left out
	Why       []LeftOut
}

// A LeftOut is a row that was left out, and why. At most 100 are kept.
type LeftOut struct {
	Line int
	Why  string
}

// importBatch is how many rows one transaction takes.
const importBatch = 500

// Import takes addresses over with their standings, from a stream of any length in bounded memory (a dry run remembers
// the holder of each mailbox). It commits some hundred rows at a time. After an error from rows, which it returns, the
// rows before are taken over, and the same import can be repeated. A row that cannot be taken is left out and reported.
func (d *Desk) Import(ctx context.Context, rows iter.Seq2[Backfill, error], o ImportOptions) (Imported, error) {
	in := importing{d: d, o: o, now: d.p.Now(), seen: make(map[[2]string]bool), before: make(holders)}
	for row, err := range rows {
		if err != nil {
			return in.done, errors.Join(err, in.flush(ctx))
		}
		in.done.Rows++
		b, err := d.backfill(row, o, in.now)
		if err != nil {
			in.leaveOut(row.Line, err.Error())
			continue
		}
		if err := in.add(ctx, b); err != nil {
			return in.done, err
		}
	}
	err := in.flush(ctx)
	return in.done, err
}

// An importing is one import under way.
type importing struct {
	d    *Desk
	o    ImportOptions
	now  time.Time
	done Imported

	batch  []store.Backfill
	seen   map[[2]string]bool // subject and address of the rows in batch
	before holders            // of a dry run, whose batches leave nothing behind
}

func (in *importing) leaveOut(line int, why string) {
	in.done.Omitted++
	if len(in.done.Why) < 100 {
		in.done.Why = append(in.done.Why, LeftOut{line, why})
	}
}

// add puts a row into the batch, and writes full batches.
func (in *importing) add(ctx context.Context, b store.Backfill) error {
	key := [2]string{b.Subject, b.Address.Address}
	if in.seen[key] { // one statement must not meet a row twice
		if err := in.flush(ctx); err != nil {
			return err
		}
	}
	in.seen[key] = true
	if in.batch = append(in.batch, b); len(in.batch) == importBatch {
		return in.flush(ctx)
	}
	return nil
}

// flush writes the batch.
func (in *importing) flush(ctx context.Context) error {
	changed, conflicts, err := in.d.p.Store.TakeOver(ctx, in.batch, in.o.DryRun)
	if err != nil {
		return err
	}
	if in.o.DryRun {
		found := in.before.take(in.batch, conflicts)
		conflicts, changed = append(conflicts, found...), changed-int64(len(found))
	}
	for _, line := range conflicts {
		in.leaveOut(line, "another subject holds the address as confirmed")
	}
	for _, b := range in.batch {
		if b.Standing != store.Silenced || in.o.DryRun {
			continue
		}
		why := Reason(cmp.Or(b.Reason, "imported as suppressed"))
		if err := in.d.Suppress(ctx, b.Address.Address, AllLetters, why); err != nil {
			return err
		}
	}
	in.done.Changed += int(changed)
	in.done.Unchanged += len(in.batch) - int(changed) - len(conflicts)
	in.batch = in.batch[:0]
	clear(in.seen)
	return nil
}

// holders are the mailboxes that a dry run would have given to subjects: a hash of each, some 40 bytes for
// one.
type holders map[uint64]uint64

var hashSeed = maphash.MakeSeed()

// take adds the rows of a batch, those of the lines refused aside, and returns the lines of those whose
// mailbox an earlier batch would have given to another subject.
func (h holders) take(batch []store.Backfill, refused []int) (lines []int) {
	for _, b := range batch {
		if !b.Standing.Holds() || slices.Contains(refused, b.Line) {
			continue
		}
		mailbox, subject := maphash.String(hashSeed, b.Mailbox), maphash.String(hashSeed, b.Subject)
		if holder, taken := h[mailbox]; !taken {
			h[mailbox] = subject
		} else if holder != subject {
			lines = append(lines, b.Line)
		}
	}
	return lines
}

// backfill reads one row.
func (d *Desk) backfill(row Backfill, o ImportOptions, now time.Time) (store.Backfill, error) {
	switch {
	case row.Wrong != "":
		return store.Backfill{}, errors.New(row.Wrong)
	case row.Subject == "":
		return store.Backfill{}, errors.New("it has no subject")
	}
	to, err := flow.KnownRecipient(row.Address)
	if err != nil {
		return store.Backfill{}, err
	}
	if row.Since.IsZero() {
		row.Since = now
	}
	standing := store.Standing(row.Standing)
	switch standing {
	case "":
		standing = store.Unconfirmed
		if row.Since.Before(o.Grandfather) {
			standing, row.Reason = store.Confirmed, cmp.Or(row.Reason, "older than the confirmation of addresses")
		}
	case store.Unconfirmed, store.Confirmed, store.Stale, store.Bounced, store.Silenced:
	default:
		return store.Backfill{},
			fmt.Errorf("its standing %q is none; they are unconfirmed, confirmed, stale, bounced and suppressed",
				row.Standing)
	}
	locale := ""
	if row.Locale != "" {
		if _, err := language.Parse(row.Locale); err != nil {
			return store.Backfill{}, fmt.Errorf("its locale %q is no language tag such as de or pt-BR (BCP 47)",
				row.Locale)
		}
		locale = d.p.Locale(row.Locale)
	}
	b := store.Backfill{Line: row.Line, Address: store.Address{Subject: row.Subject, Address: to.String(),
		Mailbox: to.Mailbox(), Standing: standing, Since: row.Since, Reason: row.Reason, Locale: locale}}
	if standing == store.Stale || standing == store.Bounced {
		b.GraceEnds = now.Add(d.p.Grace)
	}
	return b, nil
}
