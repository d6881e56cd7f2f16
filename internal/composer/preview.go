package composer

import (
	"context"
	"errors"

	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// A Preview is a letter as it will look, with its token and its code masked.
type Preview struct {
	Subject string // empty for SMS
	Text    string
	HTML    string // empty for SMS
}

// masked stands where a letter has a secret.
const masked = "•••"

// maskedProof returns what the letter of a challenge is given, without its secrets.
func (c Composer) maskedProof(row store.Challenge) (map[string]any, render.Proof, error) {
	data, err := letterData(row)
	if err != nil || row.Decoy {
		return data, render.Proof{}, err
	}
	p := render.Proof{NotMe: c.p.Site.BaseURL + c.p.Site.NotMePath + "?t=" + masked}
	if row.Forms.Has(challenge.Link) {
		p.Link, p.LinkLife = c.p.Site.BaseURL+c.p.Site.ConfirmPath+"?t="+masked, row.LinkLife
	}
	if row.Forms.Has(challenge.Code) {
		p.Code, p.CodeLife = masked+" "+masked, row.CodeLife
	}
	return data, p, nil
}

// Preview returns the letter of a delivery that is on its way. The error says why there is none,
// such as that the data were erased when it ended.
func (c Composer) Preview(ctx context.Context, d store.Delivery) (Preview, error) {
	if d.State.Final() && d.Challenge == "" && !d.State.Again() {
		return Preview{}, errors.New("its data were erased when it ended")
	}
	zone, err := c.p.Zones.Load(d.Zone)
	if err != nil {
		return Preview{}, err
	}
	r := render.Request{Letter: d.Letter, Locale: language.Make(d.Locale), Zone: zone, Writer: c.p.Writer}
	switch {
	case d.Challenge != "":
		var row store.Challenge
		if row, err = c.p.Store.Challenge(ctx, d.Challenge); err == nil {
			r.Data, r.Proof, err = c.maskedProof(row)
		}
	case d.Letter == flow.ChangeLetter || d.Letter == flow.ChangedLetter:
		var row store.Change
		if r.Data, row, err = c.change(ctx, d); err == nil {
			r.Proof = render.Proof{Link: c.p.Site.BaseURL + c.p.Site.NotMePath + "?t=" + masked,
				LinkLife: row.UndoEnds.Sub(d.Created)}
		}
	default:
		var common map[string]map[string]any
		if common, err = outbox.Common(ctx, c.p.Store, d); err == nil {
			r.Data, err = c.data(ctx, d, common[d.Shared])
		}
	}
	if err != nil {
		return Preview{}, err
	}
	to, err := message.ParseRecipient(d.Address)
	if err != nil {
		return Preview{}, err
	}
	if to.IsPhone() {
		text, err := c.p.Letters.RenderSMS(r)
		return Preview{Text: text}, err
	}
	rendered, err := c.p.Letters.Render(r)
	return Preview{Subject: rendered.Subject, Text: rendered.Text, HTML: rendered.HTML}, err
}
