package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/store/queue"
)

// ErrUnderWay means that a letter to an address is in a worker's hands just now.
var ErrUnderWay = errors.New("store: a letter to this address is under way; try again in a minute")

var (
	spellings = db.Q(`SELECT address FROM @address WHERE mailbox = ? UNION SELECT address FROM @challenge
		WHERE mailbox = ? UNION SELECT old_address FROM @change WHERE old_mailbox = ? UNION SELECT new_address
		FROM @change WHERE new_mailbox = ?`)
	underWay = db.Q(`SELECT EXISTS (SELECT 1 FROM @delivery WHERE LOWER(address) @listed() AND state = 'claimed')`)

	// What is about a mailbox alone goes, in the order of locks.
	forgetRows = []string{
		db.Q(`DELETE FROM @feedback WHERE delivery IN (SELECT id FROM @outbox WHERE LOWER(address) @listed())`),
		db.Q(`DELETE FROM @feedback WHERE mailbox @listed()`),
		db.Q(`DELETE FROM @challenge WHERE mailbox @listed()`),
		db.Q(`DELETE FROM @browser WHERE mailbox @listed()`),
		db.Q(`DELETE FROM @change WHERE old_mailbox @listed()`),
		db.Q(`DELETE FROM @change WHERE new_mailbox @listed()`),
		db.Q(`DELETE FROM @holder WHERE mailbox @listed()`),
		db.Q(`DELETE FROM @address WHERE mailbox @listed()`),
		db.Q(`DELETE FROM @trail WHERE mailbox @listed()`),
		db.Q(`UPDATE @suppression SET mailbox = '' WHERE mailbox @listed()`),
		db.Q(`DELETE FROM @preference WHERE mailbox @listed()`),
		db.Q(`DELETE FROM @attempt WHERE delivery IN (SELECT id FROM @outbox WHERE LOWER(address) @listed())`),
		db.Q(`DELETE FROM @item WHERE delivery IN (SELECT id FROM @outbox WHERE LOWER(address) @listed())`),
		db.Q(`DELETE FROM @delivery WHERE LOWER(address) @listed()`),
		db.Q(`DELETE FROM @ended WHERE LOWER(address) @listed()`),
	}
	akin = db.Q(`WITH own AS (SELECT subject FROM @address WHERE mailbox = ? AND standing <> 'unconfirmed'
		AND subject <> '') SELECT DISTINCT address FROM ( SELECT address, mailbox FROM @address
		WHERE subject IN (SELECT subject FROM own) UNION SELECT address, mailbox FROM @challenge
		WHERE subject IN (SELECT subject FROM own) UNION SELECT old_address, old_mailbox FROM @change
		WHERE subject IN (SELECT subject FROM own) UNION SELECT new_address, new_mailbox FROM @change
		WHERE subject IN (SELECT subject FROM own)) AS known WHERE mailbox <> ? ORDER BY address`)
	forgetFailures = db.Q(`DELETE FROM @failure WHERE name = ?`)

	// Where it stands beside others, it is taken out of what they have.
	forgetFallback = []string{
		db.Q(`UPDATE @delivery SET fallback = '' WHERE LOWER(fallback) = ?`),
		db.Q(`UPDATE @ended SET fallback = '' WHERE LOWER(fallback) = ?`),
	}
	mentions = []mention{
		mentionIn("delivery", "id", "visible", "data", "asked_by", "note"),
		mentionIn("ended", "id", "visible", "data", "asked_by", "note"),
		mentionIn("challenge", "id", "data", "name"),
		mentionIn("item", "delivery || ' ' || id", "data"),
		mentionIn("trail", "CAST(seq AS TEXT)", "outcome"),
		mentionIn("address", "subject || ' ' || address", "reason"),
		mentionIn("suppression", "thumb || ' ' || scope", "reason"),
		mentionIn("feedback", "id", "words", "note", "remote"),
		mentionIn("fanout", "id", "draft"),
		mentionIn("shared", "id", "data"),
		mentionIn("attempt", "delivery || ' ' || CAST(number AS TEXT)", "reply"),
		mentionIn("event_aside", "CAST(seq AS TEXT)", "data", "subject", "reason"),
		mentionIn("event", "CAST(seq AS TEXT)", "data", "subject"),
	}
	peopleWith   = db.Q(`SELECT fanout, piece, people FROM @fanout_piece WHERE LOWER(people) LIKE ? ESCAPE '!'`)
	updatePeople = db.Q(`UPDATE @fanout_piece SET people = ? WHERE fanout = ? AND piece = ?`)
)

// A mention is where others' rows of a table may speak of a mailbox: in some texts, by a key that is one text.
type mention struct {
	find, change string
	width        int
}

func mentionIn(table, key string, columns ...string) mention {
	return mention{width: len(columns) + 1,
		find: db.Q("SELECT " + key + ", " + strings.Join(columns, ", ") + " FROM @" + table + " WHERE LOWER(" +
			strings.Join(columns, " || ") + ") LIKE ? ESCAPE '!'"),
		change: db.Q("UPDATE @" + table + " SET " + strings.Join(columns, " = ?, ") + " = ? WHERE " + key + " = ?"),
	}
}

// scan returns the key of a row and its texts.
func (m mention) scan(r db.Scanner) ([]string, error) {
	row, dest := make([]string, m.width), make([]any, m.width)
	for i := range row {
		dest[i] = &row[i]
	}
	return row, r.Scan(dest...)
}

// forgotten stands where an address was.
const forgotten = "forgotten@invalid"

// Erase erases what is kept of a mailbox: addresses, challenges, their trail, letters that wait and
// letters that were sent, attempts, lists, preferences; and where others' rows mention it, the
// mention. What suppresses it stays under its thumbprint alone. typed is how it was given. It is one
// transaction, and returns how many rows it erased or changed. The error may be [ErrUnderWay].
func (s *Store) Erase(ctx context.Context, mailbox, typed string) (total int64, err error) {
	err = s.Write(ctx, func(t Tx) error {
		n, err := t.Exec(ctx, forgetFailures, "address:"+mailbox) // writes first
		total = n
		if err != nil {
			return err
		}
		all, err := t.spellings(ctx, mailbox, typed)
		if err != nil {
			return err
		}
		switch busy, err := db.One(ctx, t, db.Scalar[bool], underWay, db.List(all)); {
		case err != nil:
			return err
		case busy:
			return ErrUnderWay
		}
		count := func(text string, args ...any) error {
			n, err := t.Exec(ctx, text, args...)
			total += n
			return err
		}
		for _, text := range forgetRows {
			if err := count(text, db.List(all)); err != nil {
				return err
			}
		}
		for _, spelling := range all {
			for _, text := range forgetFallback {
				if err := count(text, spelling); err != nil {
					return err
				}
			}
			n, err := t.takeOut(ctx, spelling)
			total += n
			if err != nil {
				return err
			}
		}
		return nil
	})
	return total, err
}

// spellings returns how a mailbox is spelled in the tables, in lower case.
func (t Tx) spellings(ctx context.Context, mailbox, typed string) ([]string, error) {
	all, err := db.All(ctx, t, db.Scalar[string], spellings, mailbox, mailbox, mailbox, mailbox)
	for i, one := range all {
		all[i] = lower(one)
	}
	all = append(all, lower(mailbox), lower(typed))
	slices.Sort(all)
	return slices.Compact(all), err
}

// takeOut removes the mentions of a spelling from rows of others.
func (t Tx) takeOut(ctx context.Context, spelling string) (total int64, err error) {
	for _, m := range mentions {
		found, err := db.All(ctx, t, m.scan, m.find, within(spelling))
		if err != nil {
			return total, err
		}
		for _, row := range found {
			args := make([]any, 0, len(row))
			for _, text := range row[1:] {
				args = append(args, replaceFold(text, spelling, forgotten))
			}
			n, err := t.Exec(ctx, m.change, append(args, row[0])...)
			total += n
			if err != nil {
				return total, err
			}
		}
	}
	type piece struct {
		fanout, people string
		number         int
	}
	found, err := db.All(ctx, t, func(r db.Scanner) (p piece, err error) {
		return p, r.Scan(&p.fanout, &p.number, &p.people)
	}, peopleWith, within(spelling))
	if err != nil {
		return total, err
	}
	for _, p := range found {
		raw, err := queue.WithoutPerson(p.people, spelling)
		if err != nil {
			return total, fmt.Errorf("store: the people of list %s cannot be read: %w", p.fanout, err)
		}
		n, err := t.Exec(ctx, updatePeople, replaceFold(raw, spelling, forgotten), p.fanout, p.number)
		total += n
		if err != nil {
			return total, err
		}
	}
	return total, nil
}

// lower makes ASCII letters small, as LOWER does on every database, and keeps every position.
func lower(s string) string {
	b := []byte(s)
	for i, c := range b {
		if 'A' <= c && c <= 'Z' {
			b[i] += 'a' - 'A'
		}
	}
	return string(b)
}

// within returns the pattern of LIKE for texts that hold a spelling.
func within(spelling string) string {
	return "%" + strings.NewReplacer("!", "!!", "%", "!%", "_", "!_").Replace(spelling) + "%"
}

// replaceFold replaces what is old, in whatever case.
func replaceFold(text, old, by string) string {
	var b strings.Builder
	for {
		i := strings.Index(lower(text), old)
		if i < 0 {
			return b.String() + text
		}
		b.WriteString(text[:i] + by)
		text = text[i+len(old):]
	}
}

// Akin returns the other addresses that the subjects who have a mailbox as theirs have or had, sorted: those
// of the same person, and those that the person asked to have. Accounts that only claim it do not count.
func (s *Store) Akin(ctx context.Context, mailbox string) ([]string, error) {
	return db.All(ctx, s, db.Scalar[string], akin, mailbox, mailbox)
}

// A Find is a column in which something stands.
type Find struct {
	Table, Column string
	Rows          int
}

// Search looks for a mailbox, as it is spelled anywhere or was typed, in every text column of every
// table, and returns where it stands: nowhere, after [Store.Erase]. It reads whole tables.
func (s *Store) Search(ctx context.Context, mailbox, typed string) ([]Find, error) {
	columns, err := s.TextColumns(ctx)
	if err != nil {
		return nil, err
	}
	var found []Find
	for _, column := range columns {
		f := Find{Table: column[0], Column: column[1]}
		for _, spelling := range slices.Compact([]string{lower(mailbox), lower(typed)}) {
			// names from the database's own catalogue
			text := fmt.Sprintf(`SELECT COUNT(*) FROM @%s WHERE LOWER(%s) LIKE ? ESCAPE '!'`,
				strings.TrimPrefix(f.Table, "illumicode_"), f.Column)
			if f.Rows, err = db.One(ctx, s, db.Scalar[int], text, within(spelling)); err != nil {
				return nil, err
			}
			if f.Rows > 0 {
				found = append(found, f)
				break
			}
		}
	}
	return found, nil
}
