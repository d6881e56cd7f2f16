package illumicode

import (
	"context"
	"errors"

	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/letter"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/store"
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
func (s *Service) maskedProof(c store.Challenge) (map[string]any, letter.Proof, error) {
	data, err := letterData(c)
	if err != nil || c.Decoy {
		return data, letter.Proof{}, err
	}
	p := letter.Proof{NotMe: s.site.BaseURL + s.site.NotMePath + "?t=" + masked}
	if c.Forms.Has(challenge.Link) {
		p.Link, p.LinkLife = s.site.BaseURL+s.site.ConfirmPath+"?t="+masked, c.LinkLife
	}
	if c.Forms.Has(challenge.Code) {
		p.Code, p.CodeLife = masked+" "+masked, c.CodeLife
	}
	return data, p, nil
}

// Preview returns the letter of a delivery that is on its way. The error says why there is none,
// such as that the data were erased when it ended.
func (s *Service) Preview(ctx context.Context, d store.Delivery) (Preview, error) {
	if d.State.Final() && d.Challenge == "" && d.State != store.Failed {
		return Preview{}, errors.New("its data were erased when it ended")
	}
	zone, err := s.zones.load(d.Zone)
	if err != nil {
		return Preview{}, err
	}
	r := letter.Request{Letter: d.Letter, Locale: language.Make(d.Locale), Zone: zone, Writer: s.writer}
	switch {
	case d.Challenge != "":
		var c store.Challenge
		if c, err = s.store.Challenge(ctx, d.Challenge); err == nil {
			r.Data, r.Proof, err = s.maskedProof(c)
		}
	case d.Letter == changeLetter:
		var c store.Change
		if r.Data, c, err = (composer{s}).change(ctx, d); err == nil {
			r.Proof = letter.Proof{Link: s.site.BaseURL + s.site.NotMePath + "?t=" + masked, LinkLife: c.UndoEnds.Sub(d.Created)}
		}
	default:
		r.Data, err = composer{s}.data(ctx, d)
	}
	if err != nil {
		return Preview{}, err
	}
	to, err := message.ParseRecipient(d.Address)
	if err != nil {
		return Preview{}, err
	}
	if to.IsPhone() {
		text, err := s.letters.RenderSMS(r)
		return Preview{Text: text}, err
	}
	rendered, err := s.letters.Render(r)
	return Preview{Subject: rendered.Subject, Text: rendered.Text, HTML: rendered.HTML}, err
}
