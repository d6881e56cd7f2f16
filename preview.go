package illumicode

import (
	"context"
	"errors"

	"golang.org/x/text/language"

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
	if d.Challenge == "" {
		r.Data, err = composer{s}.data(ctx, d)
	} else {
		var c store.Challenge
		if c, err = s.store.Challenge(ctx, d.Challenge); err == nil {
			r.Data = map[string]any{"name": c.Name}
			r.Proof = letter.Proof{Link: s.site.BaseURL + s.site.ConfirmPath + "?t=" + masked, LinkLife: c.LinkLife, Code: masked + " " + masked, CodeLife: c.CodeLife}
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
		text, err := s.letters.RenderSMS(r)
		return Preview{Text: text}, err
	}
	rendered, err := s.letters.Render(r)
	return Preview{Subject: rendered.Subject, Text: rendered.Text, HTML: rendered.HTML}, err
}
