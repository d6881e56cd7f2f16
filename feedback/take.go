package feedback

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/near"
	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/strange"
)

// ErrForeignPath means that an address is no return path of this service: what is sent to it is about none of its
// letters.
var ErrForeignPath = errors.New("feedback: that is no return path of a letter of this service")

// deliveryOf returns the delivery whose return path an address is, or [ErrForeignPath].
func deliveryOf(p *flow.Parts, address string) (delivery string, err error) {
	local, domain, _ := strings.Cut(address, "@")
	back := p.Back
	if back.Domain == "" || !strings.EqualFold(domain, back.Domain) || len(local) < len(back.Prefix) ||
		!strings.EqualFold(local[:len(back.Prefix)], back.Prefix) {
		return "", ErrForeignPath
	}
	delivery, ok := p.Keys.ReadReturnPath(local[len(back.Prefix):], p.Now())
	if !ok {
		return "", ErrForeignPath
	}
	return delivery, nil
}

// Take keeps what came back about letters, all of it or, after an error, none, and returns how much was new: a repeat
// is one with the same Source and ID or, without an ID, the same words. Workers apply it at once or, if it has
// overtaken its own attempt, after that.
//
// A hard bounce makes an address bounced and suppresses it, but for one challenge a day. Soft ones do so if they add up
// (Config.Bounces). A complaint suppresses notices. A bounce of a letter from before its address was last proven
// changes nothing, and a proof ends what bounces began.
//
// The error matches [ErrForeignPath] if a path is none of this service's.
func Take(ctx context.Context, svc *illumicode.Service, all ...Feedback) (added int, err error) {
	p := flow.Of(svc)
	found := make([]store.Feedback, len(all))
	for i, f := range all {
		if found[i], err = f.row(p); err != nil {
			return 0, err
		}
	}
	var n int64
	err = p.Store.Write(ctx, func(t store.Tx) (err error) {
		n, err = t.InsertFeedback(ctx, found...)
		return err
	})
	if n > 0 {
		svc.Wake()
	}
	return int(n), err
}

// row returns a feedback as the store keeps it, or what is wrong with it.
func (f Feedback) row(p *flow.Parts) (store.Feedback, error) {
	now := p.Now()
	row := store.Feedback{
		Source: cmp.Or(f.Source, store.FromMail), Delivery: f.Delivery, Remote: f.Letter, Kind: f.Kind,
		Status: strange.Line(f.Status), Words: strange.Line(f.Text), Happened: f.At, Taken: now,
	}
	if f.Path != "" {
		var err error
		if row.Delivery, err = deliveryOf(p, f.Path); err != nil {
			return row, err
		}
	}
	switch {
	case !report.Known(f.Kind):
		return row, fmt.Errorf("feedback: no kind is named %q; %s", f.Kind, near.List(f.Kind, report.Kinds))
	case row.Delivery == "" && (row.Remote == "" || f.Source == ""):
		return row, errors.New(
			"feedback: it must say which letter it is about: a return path, a delivery, or a provider and " +
				"its id of the letter")
	}
	if row.Delivery != "" {
		row.Remote = ""
	}
	if row.Happened.IsZero() || row.Happened.After(now) {
		row.Happened = now
	}
	words := cmp.Or(f.ID, f.Kind+f.Status+f.Text+f.At.String())
	row.ID = identify(row.Source, words, row.Delivery, row.Remote, f.Kind)
	return row, nil
}

// identify returns what tells one feedback from another.
func identify(all ...string) string {
	h := sha256.New()
	for _, one := range all {
		fmt.Fprintf(h, "%d:%s", len(one), one)
	}
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil)[:16])
}
