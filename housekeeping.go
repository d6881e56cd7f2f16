package illumicode

import (
	"context"
	"errors"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
)

func recheckWithDefaults(r delivery.Recheck) delivery.Recheck {
	const day = 24 * time.Hour
	if r.Every <= 0 {
		r.Every = 7 * day
	}
	if r.Batch <= 0 {
		r.Batch = 100
	}
	if r.Grace <= 0 {
		r.Grace = 14 * day
	}
	return r
}

// A Lapse is an account without an address that works: one that was never confirmed in time, or, with
// Grace, one whose address was asked again in vain.
type Lapse struct {
	Subject string
	Address string
	Grace   bool // the address was stale or bounced, and its time of grace is over
}

// careBatch is how many rows one round of care takes from each list.
const careBatch = 50

// housekeep does what time asks for, and returns how much it did. It closes challenges that nobody
// proved, and tells the application; what another process of the application wants to hear of it leaves to that. It
// asks stale addresses again, and settles changes whose time to be taken back is over. It refunds unused admissions,
// forgets counts that say nothing any more, gives up lists whose end does not come, and erases what lists share once
// their last delivery has ended.
func (s *Service) housekeep(ctx context.Context) (n int, err error) {
	if !s.caring.TryLock() { // another Run of this process is at it
		return 0, nil
	}
	defer s.caring.Unlock()
	for _, step := range []func(context.Context) (int, error){s.closeLapsed, s.closeGrace, s.endUndo, s.recheckSome} {
		did, stepErr := step(ctx)
		n += did
		err = errors.Join(err, stepErr)
	}
	_, sharedErr := s.p.Store.EraseShared(ctx)
	err = errors.Join(err, s.p.Limits.RefundUnused(ctx), sharedErr)
	if now := s.p.Now(); now.Sub(s.swept) >= time.Hour || now.Before(s.swept) {
		s.swept = now
		_, sweepErr := s.p.Store.SweepTallies(ctx, now)
		_, browsersErr := s.p.Store.SweepBrowsers(ctx, now.Add(-flow.KnownFor))
		err = errors.Join(err, sweepErr, browsersErr)
	}
	if now := s.p.Now(); now.Sub(s.spools) >= spoolFor/12 || now.Before(s.spools) {
		s.spools = now
		given, spoolErr := s.p.Store.SweepSpools(ctx, now.Add(-spoolFor))
		if given > 0 {
			s.p.Log.Warn("lists were given up whose end has not come for an hour", "lists", given)
		}
		err = errors.Join(err, spoolErr)
	}
	return n, err
}

// closeLapsed ends the challenges whose cap is over.
func (s *Service) closeLapsed(ctx context.Context) (n int, err error) {
	all, err := s.p.Store.Lapsed(ctx, s.p.Now(), s.lapsed != nil, careBatch)
	for _, c := range all {
		err = errors.Join(err, s.tellLapse(ctx, Lapse{Subject: c.Subject, Address: c.Address},
			func(t Tx) (tell bool, err error) {
				ended, err := s.p.CallOff(ctx, t.rows(), c, proof.Lapsed)
				if err != nil || !ended {
					return false, err
				}
				waits, err := t.rows().AnyOpen(ctx, c.Subject, c.Address)
				if err != nil || waits { // a later letter to the same address can still be answered
					return false, err
				}
				if err := t.rows().RemoveUnconfirmed(ctx, c.Subject, c.Address); err != nil {
					return false, err
				}
				any, err := t.rows().AnyAddress(ctx, c.Subject)
				return c.Purpose == challenge.Signup && c.Subject != "" && !any, err
			}))
	}
	return len(all), err
}

// closeGrace tells of addresses whose time of grace is over.
func (s *Service) closeGrace(ctx context.Context) (int, error) {
	all, err := s.p.Store.GraceOver(ctx, s.p.Now(), s.lapsed != nil, careBatch)
	for _, a := range all {
		err = errors.Join(err, s.tellLapse(ctx, Lapse{Subject: a.Subject, Address: a.Address, Grace: true},
			func(t Tx) (tell bool, err error) {
				return t.rows().EndGrace(ctx, a)
			}))
	}
	return len(all), err
}

// tellLapse closes something and tells the application in the same commit, if closing says so.
func (s *Service) tellLapse(ctx context.Context, l Lapse, closing func(Tx) (tell bool, err error)) error {
	return s.Transact(ctx, func(ctx context.Context, tx Tx) error {
		tell, err := closing(tx)
		if err != nil || !tell || s.lapsed == nil {
			return err
		}
		return s.lapsed(ctx, tx, l)
	})
}

// endUndo ends the time in which changes can be taken back: the old mailbox is free again.
func (s *Service) endUndo(ctx context.Context) (int, error) {
	all, err := s.p.Store.UndoOver(ctx, s.p.Now(), careBatch)
	for _, c := range all {
		err = errors.Join(err, s.p.Store.Write(ctx, func(t rows.Tx) error {
			moved, err := t.MoveChange(ctx, c, rows.Settled, time.Time{})
			if err != nil || !moved {
				return err
			}
			return t.ReleaseMailbox(ctx, c.Subject, c.OldMailbox)
		}))
	}
	return len(all), err
}

// recheckSome asks a few stale addresses again, as many as the hour allows.
func (s *Service) recheckSome(ctx context.Context) (int, error) {
	now := s.p.Now()
	room := s.asked.room(now, s.recheck.Batch)
	if room == 0 {
		return 0, nil
	}
	all, err := s.p.Store.ToAsk(ctx, now.Add(-s.recheck.Every), now, min(room, careBatch))
	for _, a := range all {
		err = errors.Join(err, s.p.Store.Write(ctx, func(side rows.Tx) error {
			mine, err := side.MarkAsked(ctx, a, now)
			if err != nil || !mine {
				return err
			}
			return s.tx(side, side).recheck(ctx, a.Subject, a.Address, a.Locale)
		}))
	}
	s.asked.took(len(all))
	return len(all), err
}

// An hourly counts what was done since an hour began. care uses it, one goroutine at a time.
type hourly struct {
	began time.Time
	done  int
}

func (h *hourly) room(now time.Time, most int) int {
	if d := now.Sub(h.began); d >= time.Hour || d < 0 {
		h.began, h.done = now, 0
	}
	return max(0, most-h.done)
}

func (h *hourly) took(n int) { h.done += n }
