package illumicode

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

	"github.com/illumicode/illumicode/store"
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

// ImportOptions are the optional settings of [Service.Import].
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
	Refused   int // left out
	Why       []Refusal
}

// A Refusal is a row that was left out, and why. At most 100 are kept.
type Refusal struct {
	Line int
	Why  string
}

// importBatch is how many rows one transaction takes.
const importBatch = 500

// Import takes addresses over with their standings, from a stream of any length in bounded memory
// (a dry run remembers who would hold which mailbox), in transactions of some hundred rows: after an
// error from rows, which it returns, what came before is taken over, and the same import can simply be
// repeated. A row that cannot be taken is left out and reported.
func (s *Service) Import(ctx context.Context, rows iter.Seq2[Backfill, error], o ImportOptions) (Imported, error) {
	var done Imported
	now := s.now()
	refuse := func(line int, why string) {
		done.Refused++
		if len(done.Why) < 100 {
			done.Why = append(done.Why, Refusal{line, why})
		}
	}
	var batch []store.Backfill
	seen := make(map[[2]string]bool)
	before := make(holders) // of a dry run, whose batches leave nothing behind
	flush := func() error {
		changed, conflicts, err := s.store.TakeOver(ctx, batch, o.DryRun)
		if err != nil {
			return err
		}
		if o.DryRun {
			found := before.take(batch, conflicts)
			conflicts, changed = append(conflicts, found...), changed-int64(len(found))
		}
		for _, line := range conflicts {
			refuse(line, "another subject holds the address as confirmed")
		}
		for _, b := range batch {
			if b.Standing == store.Silenced && !o.DryRun {
				if err := s.Suppress(ctx, b.Address.Address, store.AllLetters, cmp.Or(b.Reason, "imported as suppressed")); err != nil {
					return err
				}
			}
		}
		done.Changed += int(changed)
		done.Unchanged += len(batch) - int(changed) - len(conflicts)
		batch = batch[:0]
		clear(seen)
		return nil
	}
	for row, err := range rows {
		if err != nil {
			return done, errors.Join(err, flush())
		}
		done.Rows++
		b, err := s.backfill(row, o, now)
		if err != nil {
			refuse(row.Line, err.Error())
			continue
		}
		key := [2]string{b.Subject, b.Address.Address}
		if seen[key] { // one statement must not meet a row twice
			if err := flush(); err != nil {
				return done, err
			}
		}
		seen[key] = true
		if batch = append(batch, b); len(batch) == importBatch {
			if err := flush(); err != nil {
				return done, err
			}
		}
	}
	return done, flush()
}

// holders are the mailboxes that a dry run would have given to subjects: a hash of each, some 40 bytes for
// one.
type holders map[uint64]uint64

var hashSeed = maphash.MakeSeed()

// take adds the rows of a batch, those of the lines refused aside, and returns the lines of those whose
// mailbox an earlier batch would have given to another subject.
func (h holders) take(batch []store.Backfill, refused []int) (lines []int) {
	for _, b := range batch {
		if !b.Standing.Held() || slices.Contains(refused, b.Line) {
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
func (s *Service) backfill(row Backfill, o ImportOptions, now time.Time) (store.Backfill, error) {
	switch {
	case row.Wrong != "":
		return store.Backfill{}, errors.New(row.Wrong)
	case row.Subject == "":
		return store.Backfill{}, errors.New("it has no subject")
	}
	to, err := s.anyRecipient(row.Address)
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
		return store.Backfill{}, fmt.Errorf("its standing %q is none; they are unconfirmed, confirmed, stale, bounced and suppressed", row.Standing)
	}
	locale := ""
	if row.Locale != "" {
		if _, err := language.Parse(row.Locale); err != nil {
			return store.Backfill{}, fmt.Errorf("its locale %q is no language tag such as de or pt-BR (BCP 47)", row.Locale)
		}
		locale = s.Locale(row.Locale)
	}
	b := store.Backfill{Line: row.Line, Address: store.Address{Subject: row.Subject, Address: to.String(), Mailbox: to.Mailbox(),
		Standing: standing, Since: row.Since, Reason: row.Reason, Locale: locale}}
	if standing == store.Stale || standing == store.Bounced {
		b.GraceEnds = now.Add(s.recheck.Grace)
	}
	return b, nil
}
