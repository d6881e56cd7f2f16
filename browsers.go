package illumicode

import (
	"context"
	"errors"
	"time"

	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/strange"
)

// A Browser is one that has signed in to an account. It asks for codes and types them beside strangers: three tries and
// a letter a day are its own, and some more are for all browsers of the account together. It signs nobody in.
type Browser struct {
	ID    string
	Name  string // what it called itself: Request.Device
	Since time.Time
	Used  time.Time // when it has last signed in
}

// Browsers returns the known browsers of a subject, the one that has signed in last first: ten at most. One that has
// not signed in for 180 days is not known any more.
func (s *Service) Browsers(ctx context.Context, subject string) ([]Browser, error) {
	all, err := s.p.Store.Browsers(ctx, subject)
	out := make([]Browser, len(all))
	for i, b := range all {
		out[i] = Browser{b.ID, b.Name, b.Since, b.Used}
	}
	return out, err
}

// RevokeBrowser makes a browser of a subject unknown, and reports whether it was known. It ends no session.
func (t Tx) RevokeBrowser(ctx context.Context, subject string, b Browser) (bool, error) {
	if err := t.ok(); err != nil {
		return false, err
	}
	return t.rows().RevokeBrowser(ctx, subject, b.ID)
}

// RevokeBrowsers makes all browsers of a subject unknown, and returns how many these were.
func (t Tx) RevokeBrowsers(ctx context.Context, subject string) (int, error) {
	if err := t.ok(); err != nil {
		return 0, err
	}
	n, err := t.rows().RevokeBrowsers(ctx, subject)
	return int(n), err
}

// RevokeByLink makes all browsers of an account unknown, for the reader of a letter of its challenge, who has the link
// that says "this was not me". The error matches [ErrInvalid] or [ErrExpired].
func (s *Service) RevokeByLink(ctx context.Context, link Link) error {
	c, err := s.byNotMeLink(ctx, link)
	if err != nil {
		return err
	}
	return s.p.Store.Write(ctx, func(t rows.Tx) error {
		n, err := t.RevokeBrowsers(ctx, c.Subject)
		if err != nil || n == 0 {
			return err
		}
		return t.Record(ctx, c.StepOf("browsers", "all revoked by the reader", flow.Network(ctx), s.p.Now()))
	})
}

// keep makes the browser that has signed in known, or says that it did once more.
func (t Tx) keep(ctx context.Context, c rows.Challenge) (rows.Browser, error) {
	now := t.s.p.Now()
	b := rows.Browser{ID: c.Browser, Subject: c.Subject, Mailbox: c.Mailbox, Name: c.Device, Challenge: c.ID,
		Since: now, Used: now}
	if c.Browser != "" {
		if known, err := t.rows().UseBrowser(ctx, b); err != nil || known {
			return b, err
		}
	}
	b.ID = flow.NewID() // never one that was revoked: somebody else may have its cookie
	return b, t.rows().KeepBrowser(ctx, b)
}

// maxDevice bounds the name of a browser in characters.
const maxDevice = 60

// deviceName returns what a browser calls itself, fit for a list.
func deviceName(said string) string {
	return strange.Cut(said, maxDevice)
}

// budget is how many tries of codes known browsers have in a day. What goes beyond it counts as a stranger's.
var budget = rows.TryBudget{Own: 3, Shared: 20}

// counted returns what a letter of a known browser counts under: it spends the browser's own letter of the day, if that
// is there.
func (s *Service) counted(ctx context.Context, b rows.Browser) (flow.Known, error) {
	if b.ID == "" {
		return flow.Known{}, nil
	}
	own := false
	err := flow.Own(ctx, func(ctx context.Context) (err error) {
		own, err = s.p.Store.OwnLetter(ctx, b.ID, s.p.Now())
		return err
	})
	if err != nil || !own {
		return flow.Known{Subject: b.Subject}, err
	}
	return flow.Known{Browser: b.ID}, nil
}

// began returns the known browser that began a challenge; the zero Browser if none did, or if it was revoked since.
func (s *Service) began(ctx context.Context, c rows.Challenge) (rows.Browser, error) {
	if c.Browser == "" {
		return rows.Browser{}, nil
	}
	b, err := s.p.Store.Browser(ctx, c.Browser)
	if errors.Is(err, rows.ErrNotFound) {
		return rows.Browser{}, nil
	}
	return b, err
}
