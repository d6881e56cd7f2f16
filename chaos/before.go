package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/smtp"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

// A before is a worker of the version before recalls, shared data and lists of any length: with that version's
// statements on the tables of this one.
type before struct {
	st     *store.Store
	id     string
	listen string // of the mail server
	now    func() time.Time
}

// The columns that the version before knew of a delivery.
const columnsBefore = `id, challenge, generation, letter, locale, address, name, data, lane, state, created, due,
	deliver_before, claim, worker, claimed, free, attempts, spent, ended, note, zone, visible, bundle, version, once,
		held_by,
	app_key, lead, collapse, fallback, anyway, asked_by, trace, subject, medium`

const beforeName = "before-"

var errReadsLists = errors.New("a worker of the version before can read a list, whose shared data it would lose")

func workAsBefore(ctx context.Context, svc *illumicode.Service, listen string) error {
	b := before{st: flow.Of(svc).Store, id: beforeName + uuid.NewString(), listen: listen, now: svc.Now}
	for ctx.Err() == nil {
		if err := b.round(ctx); errors.Is(err, errReadsLists) {
			return err
		}
		// Every other error is the database's, such as of a lock that a recovery has: the letters are recovered.
		select {
		case <-ctx.Done():
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// round claims some letters and sends them.
func (b before) round(ctx context.Context) error {
	now := b.now()
	if _, err := b.exec(ctx, `INSERT INTO @worker (id, host, pid, started, seen, lease) VALUES (?, 'attic', ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET seen = excluded.seen,
			lease = excluded.lease`, b.id, os.Getpid(), now.UnixMilli(),
		now.UnixMilli(), now.Add(leaseOfWorkers).UnixMilli()); err != nil {
		return err
	}
	if err := b.lookAtLists(ctx); err != nil {
		return err
	}
	rows, err := b.st.DB().QueryContext(ctx, b.st.Words(`WITH next AS MATERIALIZED (SELECT id FROM @delivery
		WHERE state = 'waiting' AND due <= ? AND version <= 1 ORDER BY due, id LIMIT ? @free())
		UPDATE @delivery SET state = 'claimed', worker = ?, claim = claim + 1, claimed = ?
		WHERE id @in(SELECT id FROM next) RETURNING id, claim, attempts, address`), now.UnixMilli(), senders, b.id,
		now.UnixMilli())
	if err != nil {
		return err
	}
	defer rows.Close()
	type letter struct {
		id, address     string
		claim, attempts int
	}
	var all []letter
	for rows.Next() {
		var l letter
		if err := rows.Scan(&l.id, &l.claim, &l.attempts, &l.address); err != nil {
			return err
		}
		all = append(all, l)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	rows.Close()
	for _, l := range all {
		if err := b.send(ctx, l.id, l.address, l.claim, l.attempts+1); err != nil {
			return err
		}
	}
	return nil
}

// lookAtLists reads the first piece as that version did. It knows nothing of how pieces are written now, and leaves it.
func (b before) lookAtLists(ctx context.Context) error {
	var raw string
	err := b.st.DB().QueryRowContext(ctx,
		b.st.Words(`SELECT people FROM @fanout_piece ORDER BY fanout, piece LIMIT 1`)).
		Scan(&raw)
	if err != nil {
		if err == sql.ErrNoRows {
			err = nil
		}
		return err
	}
	var people []store.Person
	if json.Unmarshal([]byte(raw), &people) == nil {
		return fmt.Errorf("%w: %.80s", errReadsLists, raw)
	}
	return nil
}

// send makes one attempt.
func (b before) send(ctx context.Context, id, address string, claim, number int) error {
	n, err := b.exec(ctx, `INSERT INTO @attempt (delivery, number, claim, worker, provider, begun, ended, class, code,
		enhanced, reply) SELECT d.id, CAST(? AS INTEGER), d.claim, d.worker, 'harbour', CAST(? AS BIGINT), 0, '', 0,
			'', ''
		FROM @delivery d WHERE d.id = ? AND d.claim = ? AND d.state NOT IN ('waiting', 'held') @lock(d)`, number,
		b.now().UnixMilli(), id, claim)
	if err != nil || n == 0 { // somebody has taken it away
		return err
	}
	message := "From: crew@ternisle.example\r\nTo: " + address + "\r\nSubject: as before\r\n\r\nAs before.\r\n"
	if err := smtp.SendMail(b.listen, nil, "crew@ternisle.example", []string{address}, []byte(message)); err != nil {
		return err
	}
	tx, err := b.st.DB().BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	at := b.now().UnixMilli()
	move := strings.NewReplacer("state,", "'sent',", "ended,", fmt.Sprint(at)+",", "attempts,", "attempts + 1,",
		"spent,",
		"spent + 1,").Replace(columnsBefore)
	for _, one := range []struct {
		text string
		args []any
	}{
		{`UPDATE @attempt SET ended = ?, class = 'accepted', code = 250, reply = 'taken'
			WHERE delivery = ? AND number = ?`,
			[]any{at, id, number}},
		{`INSERT INTO @ended (` + columnsBefore + `) SELECT ` + move + ` FROM @delivery WHERE id = ? AND claim = ?
			AND state = 'claimed'`, []any{id, claim}},
		{`DELETE FROM @delivery WHERE id = ? AND claim = ? AND state = 'claimed'`, []any{id, claim}},
	} {
		if _, err := tx.ExecContext(ctx, b.st.Words(one.text), one.args...); err != nil {
			return err
		}
	}
	return tx.Commit()
}

func (b before) exec(ctx context.Context, text string, args ...any) (int64, error) {
	r, err := b.st.DB().ExecContext(ctx, b.st.Words(text), args...)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// besideBefore has a worker of the version before beside those of this one. Half of the letters share something, which
// it must leave alone.
func besideBefore(s *stage, letters, faults int) error {
	old := s.setup
	old.before = true
	half := letters / 2
	if _, err := s.svc.NotifyAll(s.ctx, illumicode.Notice{Letter: "trial", Data: map[string]string{"pier": "9"}},
		people(0, half)); err != nil {
		return err
	}
	if _, err := s.svc.NotifyAll(s.ctx, illumicode.Notice{Letter: "trial"}, people(half, letters-half)); err != nil {
		return err
	}
	for _, own := range []setup{s.setup, s.setup, old} {
		if err := s.startAs(own); err != nil {
			return err
		}
	}
	if err := s.faulty(letters, max(1, faults/4), s.kill); err != nil {
		return err
	}
	var sent, shared int
	if err := s.svc.Store().DB().QueryRowContext(s.ctx, `SELECT COUNT(*), COALESCE(SUM(CASE WHEN e.shared <> '' THEN 1
		ELSE 0 END), 0) FROM illumicode_attempt a JOIN illumicode_ended e ON e.id = a.delivery
		WHERE a.worker LIKE '`+beforeName+`%'`).Scan(&sent, &shared); err != nil {
		return err
	}
	if sent == 0 || shared > 0 {
		return fmt.Errorf("a worker of the version before sent %d letters, %d of them of a list that shares "+
			"something", sent, shared)
	}
	return nil
}
