package world

import (
	"context"
	"errors"
	"fmt"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/explore/model"
)

func (w *World) correct(ctx context.Context, c *model.Call) (string, error) {
	p, err := w.svc.Correct(ctx, w.browsers[c.Browser].ticket, illumicode.Request{Address: address(c.Address)}, nil)
	return w.waits(ctx, c.Browser, p, err)
}

func (w *World) elsewhere(ctx context.Context, c *model.Call) (string, error) {
	p, err := w.svc.SignInElsewhere(ctx, w.letter(c.Letter).link,
		illumicode.Request{Ticket: w.browsers[c.Browser].ticket})
	return w.waits(ctx, c.Browser, p, err)
}

func (w *World) resendByLink(ctx context.Context, c *model.Call) (string, error) {
	d, err := w.parts.Store.Delivery(ctx, w.letters[c.Letter])
	if err != nil {
		return "", err
	}
	p, err := w.svc.ResendForReader(ctx, w.letter(c.Letter).link)
	if err != nil {
		return "", err
	}
	row, err := w.parts.Store.Challenge(ctx, d.Challenge)
	if err != nil {
		return "", err
	}
	return w.told(ctx, row.Ticket, p)
}

func (w *World) revokeByLink(ctx context.Context, c *model.Call) (string, error) {
	return "ok", w.svc.RevokeByLink(ctx, w.letter(c.Letter).takeBack)
}

func (w *World) suppress(ctx context.Context, c *model.Call) (string, error) {
	return "ok", desk.New(w.svc).Suppress(ctx, address(c.Address), desk.AllLetters, "they wish so")
}

func (w *World) restore(ctx context.Context, c *model.Call) (string, error) {
	was, err := desk.New(w.svc).Restore(ctx, address(c.Address), "they wish so")
	return fmt.Sprintf("restored %t", was), err
}

func (w *World) vouch(ctx context.Context, c *model.Call) (string, error) {
	return "ok", desk.New(w.svc).Confirm(ctx, illumicode.Holding{Subject: account(c.Account),
		Address: address(c.Address)}, "seen at the pier")
}

func (w *World) move(ctx context.Context, c *model.Call) (answer string, err error) {
	err = w.transact(ctx, model.Commit, func(ctx context.Context, tx illumicode.Tx) error {
		n, err := tx.Move(ctx, fmt.Sprint("key ", c.Key), w.svc.Now().Add(c.For))
		answer = fmt.Sprintf("%d moved", n)
		return err
	})
	return answer, err
}

func (w *World) custom(ctx context.Context, c *model.Call) (string, error) {
	a, err := w.svc.Admit(ctx, illumicode.Request{Address: address(c.Address), Purpose: "own"})
	if err != nil {
		return "", err
	}
	w.admissions = append(w.admissions, a)
	var p illumicode.Pending
	err = w.transact(ctx, c.End, func(ctx context.Context, tx illumicode.Tx) (err error) {
		p, err = tx.Begin(ctx, a, illumicode.Custom{Purpose: "own", Subject: account(c.Account)})
		return err
	})
	return w.waits(ctx, c.Browser, p, err)
}

func (w *World) recall(ctx context.Context, c *model.Call) (string, error) {
	r, err := desk.New(w.svc).Recall(ctx, desk.Choice{Address: address(c.Address)}, "the wrong pier")
	w.recalls[c.Address] = r.ID
	return "ok", err
}

func (w *World) endRecall(ctx context.Context, c *model.Call) (string, error) {
	n, err := desk.New(w.svc).EndRecall(ctx, w.recalls[c.Address])
	return fmt.Sprintf("%d released", n), err
}

// tamper writes to a column that a challenge is bound to.
func (w *World) tamper(ctx context.Context, c *model.Call) (string, error) {
	w.tampered = true
	set := "action = action || 'x'"
	if c.Undoable {
		set = "decoy = 1 - decoy"
	}
	for digest, n := range w.challenges {
		if n == c.Challenge {
			_, err := w.store.DB().ExecContext(ctx,
				"UPDATE illumicode_challenge SET "+set+" WHERE ticket = '"+digest+"'")
			return "ok", err
		}
	}
	return "", errors.New("there is no such challenge")
}
