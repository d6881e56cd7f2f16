package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// ErrUnderWay means that a letter to an address is in a worker's hands just now.
var ErrUnderWay = errors.New("store: a letter to this address is under way; try again in a minute")

var (
	spellings = q(
		`SELECT address FROM illumicode_address WHERE mailbox = ? UNION SELECT address FROM illumicode_challenge WHERE
			mailbox = ?
		UNION SELECT old_address FROM illumicode_change WHERE old_mailbox = ? UNION SELECT new_address FROM
		illumicode_change WHERE new_mailbox = ?`)
	underWay = q(
		`SELECT EXISTS (SELECT 1 FROM illumicode_delivery WHERE LOWER(address) IN (SELECT value FROM json_each(?)) ` +
			`AND state = 'claimed')`)

	// What is about a mailbox alone goes.
	forgetRows = []string{
		q(`DELETE FROM illumicode_feedback WHERE delivery IN (SELECT id FROM illumicode_outbox WHERE ` +
			`LOWER(address) IN (SELECT value FROM json_each(?)))`),
		q(`DELETE FROM illumicode_feedback WHERE mailbox IN (SELECT value FROM json_each(?))`),
		q(`DELETE FROM illumicode_attempt WHERE delivery IN (SELECT id FROM illumicode_outbox WHERE LOWER(address) ` +
			`IN (SELECT value FROM json_each(?)))`),
		q(`DELETE FROM illumicode_item WHERE delivery IN (SELECT id FROM illumicode_outbox WHERE LOWER(address) IN ` +
			`(SELECT value FROM json_each(?)))`),
		q(`DELETE FROM illumicode_delivery WHERE LOWER(address) IN (SELECT value FROM json_each(?))`),
		q(`DELETE FROM illumicode_ended WHERE LOWER(address) IN (SELECT value FROM json_each(?))`),
		q(`DELETE FROM illumicode_trail WHERE mailbox IN (SELECT value FROM json_each(?))`),
		q(`DELETE FROM illumicode_challenge WHERE mailbox IN (SELECT value FROM json_each(?))`),
		q(`DELETE FROM illumicode_holder WHERE mailbox IN (SELECT value FROM json_each(?))`),
		q(`DELETE FROM illumicode_address WHERE mailbox IN (SELECT value FROM json_each(?))`),
		q(`DELETE FROM illumicode_preference WHERE mailbox IN (SELECT value FROM json_each(?))`),
		q(`UPDATE illumicode_suppression SET mailbox = '' WHERE mailbox IN (SELECT value FROM json_each(?))`),
	}
	akin = q(`WITH own AS (SELECT subject FROM illumicode_address WHERE mailbox = ? AND standing <> 'unconfirmed' AND
		subject <> '')
		SELECT DISTINCT address FROM (
			SELECT address, mailbox FROM illumicode_address WHERE subject IN (SELECT subject FROM own)
			UNION SELECT address, mailbox FROM illumicode_challenge WHERE subject IN (SELECT subject FROM own)
			UNION SELECT old_address, old_mailbox FROM illumicode_change WHERE subject IN (SELECT subject FROM own)
			UNION SELECT new_address, new_mailbox FROM illumicode_change WHERE subject IN (SELECT subject FROM own)) AS
			known
		WHERE mailbox <> ? ORDER BY address`)
	forgetFailures = q(`DELETE FROM illumicode_failure WHERE name = ?`)
	forgetChanges  = q(`DELETE FROM illumicode_change WHERE old_mailbox = ? OR new_mailbox = ?`)

	// Where it stands beside others, it is taken out of what they have: up to four texts of a row, whose
	// key is one text.
	forgetFallback = []string{
		q(`UPDATE illumicode_delivery SET fallback = '' WHERE LOWER(fallback) = ?`),
		q(`UPDATE illumicode_ended SET fallback = '' WHERE LOWER(fallback) = ?`),
	}
	mentions = []struct{ find, change string }{
		{q(`SELECT id, visible, data, asked_by, note FROM illumicode_delivery WHERE LOWER(visible || data || ` +
			`asked_by || note) LIKE ? ESCAPE '!'`),
			q(`UPDATE illumicode_delivery SET visible = ?, data = ?, asked_by = ?, note = ? WHERE id = ?`)},
		{q(`SELECT id, visible, data, asked_by, note FROM illumicode_ended WHERE LOWER(visible || data || asked_by ` +
			`|| note) LIKE ? ESCAPE '!'`),
			q(`UPDATE illumicode_ended SET visible = ?, data = ?, asked_by = ?, note = ? WHERE id = ?`)},
		{q(`SELECT id, data, name, '', '' FROM illumicode_challenge WHERE LOWER(data || name) LIKE ? ESCAPE '!'`),
			q(`UPDATE illumicode_challenge SET data = ?, name = ? || ? || ? WHERE id = ?`)},
		{q(`SELECT delivery || ' ' || id, data, '', '', '' FROM illumicode_item WHERE LOWER(data) LIKE ? ESCAPE '!'`),
			q(`UPDATE illumicode_item SET data = ? || ? || ? || ?
				WHERE delivery || ' ' || id = ?`)},
		{q(`SELECT CAST(seq AS TEXT), outcome, '', '', '' FROM illumicode_trail
			WHERE LOWER(outcome) LIKE ? ESCAPE '!'`),
			q(`UPDATE illumicode_trail SET outcome = ? || ? || ? || ? WHERE CAST(seq AS TEXT) = ?`)},
		{q(`SELECT subject || ' ' || address, reason, '', '', '' FROM illumicode_address WHERE LOWER(reason) LIKE ` +
			`? ESCAPE '!'`),
			q(`UPDATE illumicode_address SET reason = ? || ? || ? || ? WHERE subject || ' ' || address = ?`)},
		{q(`SELECT thumb || ' ' || scope, reason, '', '', '' FROM illumicode_suppression WHERE LOWER(reason) LIKE ` +
			`? ESCAPE '!'`),
			q(`UPDATE illumicode_suppression SET reason = ? || ? || ? || ? WHERE thumb || ' ' || scope = ?`)},
		{q(`SELECT id, words, note, remote, '' FROM illumicode_feedback WHERE LOWER(words || note || remote) LIKE ` +
			`? ESCAPE '!'`),
			q(`UPDATE illumicode_feedback SET words = ?, note = ?, remote = ? || ? WHERE id = ?`)},
		{q(`SELECT id, draft, '', '', '' FROM illumicode_fanout WHERE LOWER(draft) LIKE ? ESCAPE '!'`),
			q(`UPDATE illumicode_fanout SET draft = ? || ? || ? || ? WHERE id = ?`)},
		{q(`SELECT delivery || ' ' || CAST(number AS TEXT), reply, '', '', '' FROM illumicode_attempt WHERE ` +
			`LOWER(reply) LIKE ? ESCAPE '!'`),
			q(`UPDATE illumicode_attempt SET reply = ? || ? || ? || ?
				WHERE delivery || ' ' || CAST(number AS TEXT) = ?`)},
		{q(`SELECT CAST(seq AS TEXT), data, subject, reason, '' FROM illumicode_event_aside WHERE LOWER(data || ` +
			`subject || reason) LIKE ? ESCAPE '!'`),
			q(`UPDATE illumicode_event_aside SET data = ?, subject = ?, reason = ? || ? WHERE CAST(seq AS TEXT) = ?`)},
		{q(`SELECT CAST(seq AS TEXT), data, subject, '', '' FROM illumicode_event WHERE LOWER(data || subject) ` +
			`LIKE ? ESCAPE '!'`),
			q(`UPDATE illumicode_event SET data = ?, subject = ? || ? || ? WHERE CAST(seq AS TEXT) = ?`)},
	}
	peopleWith   = q(`SELECT fanout, piece, people FROM illumicode_fanout_piece WHERE LOWER(people) LIKE ? ESCAPE '!'`)
	updatePeople = q(`UPDATE illumicode_fanout_piece SET people = ? WHERE fanout = ? AND piece = ?`)
)

// forgotten stands where an address was.
const forgotten = "forgotten@invalid"

// Erase erases what is kept of a mailbox: addresses, challenges, their trail, letters that wait and
// letters that were sent, attempts, lists, preferences; and where others' rows mention it, the
// mention. What suppresses it stays under its thumbprint alone. typed is how it was given. It is one
// transaction, and returns how many rows it erased or changed. The error may be [ErrUnderWay].
func (s *Store) Erase(ctx context.Context, mailbox, typed string) (total int64, err error) {
	err = s.Write(ctx, func(t Tx) error {
		n, err := t.exec(ctx, forgetFailures, "address:"+mailbox) // writes first
		total = n
		if err != nil {
			return err
		}
		all, err := t.spellings(ctx, mailbox, typed)
		if err != nil {
			return err
		}
		rows, err := t.query(ctx, underWay, list(all))
		if busy, err := one(s, rows, err, func(r scanner) (yes bool, err error) {
			return yes, r.Scan(&yes)
		}); err != nil || busy {
			return errors.Join(err, map[bool]error{true: ErrUnderWay}[busy])
		}
		count := func(text string, args ...any) error {
			n, err := t.exec(ctx, text, args...)
			total += n
			return err
		}
		for _, text := range forgetRows {
			if err := count(text, list(all)); err != nil {
				return err
			}
		}
		if err := count(forgetChanges, mailbox, mailbox); err != nil {
			return err
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
	rows, err := t.query(ctx, spellings, mailbox, mailbox, mailbox, mailbox)
	all, err := collect(t.s, rows, err, scanText)
	for i, one := range all {
		all[i] = lower(one)
	}
	all = append(all, lower(mailbox), lower(typed))
	slices.Sort(all)
	return slices.Compact(all), err
}

// takeOut removes the mentions of a spelling from rows of others.
func (t Tx) takeOut(ctx context.Context, spelling string) (total int64, err error) {
	type mention struct {
		key  string
		text [4]string
	}
	for _, m := range mentions {
		rows, err := t.query(ctx, m.find, within(spelling))
		found, err := collect(t.s, rows, err, func(r scanner) (x mention, err error) {
			return x, r.Scan(&x.key, &x.text[0], &x.text[1], &x.text[2], &x.text[3])
		})
		if err != nil {
			return total, err
		}
		for _, x := range found {
			var args []any
			for _, text := range x.text {
				args = append(args, replaceFold(text, spelling, forgotten))
			}
			n, err := t.exec(ctx, m.change, append(args, x.key)...)
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
	rows, err := t.query(ctx, peopleWith, within(spelling))
	found, err := collect(t.s, rows, err, func(r scanner) (p piece, err error) {
		return p, r.Scan(&p.fanout, &p.number, &p.people)
	})
	if err != nil {
		return total, err
	}
	for _, p := range found {
		var people []Person
		if err := json.Unmarshal([]byte(p.people), &people); err != nil {
			return total, fmt.Errorf("store: the people of list %s cannot be read: %w", p.fanout, err)
		}
		people = slices.DeleteFunc(people, func(one Person) bool { return strings.EqualFold(one.Address, spelling) })
		raw, err := json.Marshal(people)
		if err != nil {
			return total, err
		}
		n, err := t.exec(ctx, updatePeople, replaceFold(string(raw), spelling, forgotten), p.fanout, p.number)
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
	rows, err := s.query(ctx, akin, mailbox, mailbox)
	return collect(s, rows, err, scanText)
}

// A Find is a column in which something stands.
type Find struct {
	Table, Column string
	Rows          int
}

// Search looks for a mailbox, as it is spelled anywhere or was typed, in every text column of every
// table, and returns where it stands: nowhere, after [Store.Erase]. It reads whole tables.
func (s *Store) Search(ctx context.Context, mailbox, typed string) ([]Find, error) {
	rows, err := s.db.QueryContext(ctx, s.dialect.Columns)
	columns, err := collect(s, Rows(rows), err, func(r scanner) (f Find, err error) {
		return f, r.Scan(&f.Table, &f.Column)
	})
	if err != nil {
		return nil, err
	}
	var found []Find
	for _, f := range columns {
		for _, spelling := range slices.Compact([]string{lower(mailbox), lower(typed)}) {
			// names from the database's own catalogue
			text := s.Words(fmt.Sprintf(`SELECT COUNT(*) FROM %s WHERE LOWER(%s) LIKE ? ESCAPE '!'`, f.Table, f.Column))
			if err := s.db.QueryRowContext(ctx, text, within(spelling)).Scan(&f.Rows); err != nil {
				return nil, s.explain(err)
			}
			if f.Rows > 0 {
				found = append(found, f)
				break
			}
		}
	}
	return found, nil
}
