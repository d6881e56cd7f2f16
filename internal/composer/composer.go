// Package composer makes letters of deliveries, at the moment they leave. [Composer] is the type to read first.
package composer

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/core/mask"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
)

// A Composer makes letters for the outbox. It is safe for concurrent use.
type Composer struct{ p *flow.Parts }

// New returns a composer for the letters of a service.
func New(p *flow.Parts) Composer { return Composer{p} }

// Compose implements [outbox.Composer]. Here, and nowhere earlier, code and link come to be.
func (c Composer) Compose(ctx context.Context, a outbox.Addressed) (outbox.Letter, error) {
	d, to := a.Delivery, a.To
	if !c.p.Letters.Has(d.Letter) {
		return outbox.Letter{}, fmt.Errorf("%w: %w", outbox.ErrUnknown, c.p.Letters.Missing(d.Letter))
	}
	zone, err := c.p.Zones.Load(d.Zone)
	if err != nil {
		return outbox.Letter{}, err
	}
	r, withheld, err := c.request(ctx, a, zone)
	if err != nil {
		return outbox.Letter{}, err
	}
	if a.Unread != nil {
		return outbox.Letter{}, a.Unread
	}
	category, unwanted, err := c.unwanted(ctx, d, to)
	switch {
	case err != nil:
		return outbox.Letter{}, fmt.Errorf("%w: %w", outbox.ErrLater, err)
	case unwanted:
		return outbox.Letter{}, &outbox.Drop{State: store.Suppressed, Note: "its reader has unsubscribed from " +
			category}
	case to.IsPhone():
		l, err := c.sms(to, r)
		l.Withheld, l.Secrets = withheld, secretsOf(r.Proof)
		return l, err
	}
	m, err := c.mail(ctx, a, r)
	if err != nil {
		return outbox.Letter{}, err
	}
	composed, err := m.Compose()
	if err != nil {
		return outbox.Letter{}, err
	}
	l := outbox.Letter{
		Envelope: provider.Envelope{From: c.p.Back.Of(c.p.Keys.Active(), d.ID, m.From.Envelope()), To: to.Envelope(),
			UTF8: m.NeedsUTF8() || to.NeedsUTF8()},
		Message: composed, Signature: d.Signature, Withheld: withheld, Secrets: secretsOf(r.Proof),
		Contents: provider.Letter{
			From: m.From.Envelope(), FromName: m.From.Name, To: m.To[0].Envelope(), ToName: m.To[0].Name,
			Subject: m.Subject, Text: m.Text, HTML: m.HTML,
		},
	}
	if len(m.ReplyTo) > 0 {
		l.Contents.ReplyTo = m.ReplyTo[0].Envelope()
	}
	if c.p.Sign != nil && d.Sign { // later attempts carry what the first did
		if l.Signature, err = c.p.Sign.Sign(composed); err != nil {
			return outbox.Letter{}, err
		}
	}
	if l.Signature != "" {
		l.Message = signed{l.Signature, composed}
	}
	return l, nil
}

// secretsOf returns what a peer may repeat of a letter's proof: the code, the links, and the tokens in them.
func secretsOf(p render.Proof) mask.Secrets {
	var texts []string
	for _, link := range []string{p.Link, p.NotMe} {
		if link != "" {
			texts = append(texts, link, link[strings.LastIndexAny(link, "/=")+1:])
		}
	}
	return mask.Of(p.Code, texts...)
}

// request returns what the letter of a delivery is made of, and why nobody gets it, if so.
func (c Composer) request(ctx context.Context, d outbox.Addressed, zone *time.Location) (r render.Request,
	withheld string, err error) {
	r = render.Request{Letter: d.Letter, Locale: language.Make(d.Locale), Zone: zone, Writer: c.p.Writer}
	switch {
	case d.Challenge != "":
		withheld, err = c.proof(ctx, d, &r)
	case d.Letter == flow.ChangeLetter || d.Letter == flow.ChangedLetter:
		r.Data, r.Proof, err = c.undoing(ctx, d.Delivery)
	default:
		r.Data, err = c.data(ctx, d.Delivery, d.Common)
	}
	return r, withheld, err
}

// mail returns the message of a delivery.
func (c Composer) mail(ctx context.Context, d outbox.Addressed, r render.Request) (compose.Message, error) {
	var v Visible
	if d.Visible != "" {
		if err := json.Unmarshal([]byte(d.Visible), &v); err != nil {
			return compose.Message{}, fmt.Errorf("illumicode: what the delivery's header shows cannot be read: %w", err)
		}
	}
	m, err := c.Envelope(d.Delivery, d.To, v)
	if err != nil {
		return compose.Message{}, err
	}
	rendered, err := c.p.Letters.Render(r)
	if err != nil {
		return compose.Message{}, err
	}
	m.Subject, m.Text, m.HTML, m.Date, m.ID = rendered.Subject, rendered.Text, rendered.HTML, d.Fixed,
		d.ID+"@"+c.p.From.Domain()
	err = c.attach(ctx, d.Bundle, &m)
	return m, err
}

// maxItems bounds how many notices one letter tells of.
const maxItems = 1000

// data returns the values of a notice, over those that it shares with others, and of those that have joined it.
func (c Composer) data(ctx context.Context, d store.Delivery, shared map[string]any) (map[string]any, error) {
	if d.Shared != "" && shared == nil {
		return nil, errors.New("illumicode: what the letters of its list share is gone")
	}
	own, err := store.ReadData(d.Data)
	first := Over(shared, own)
	if d.Lead > 0 && err == nil {
		first = Reminding(first, d.DeliverBefore)
	}
	if err != nil || d.Collapse == "" {
		return first, err
	}
	rows, err := c.p.Store.Items(ctx, d.ID, maxItems)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", outbox.ErrLater, err)
	}
	items := make([]any, len(rows))
	for i, raw := range rows {
		if items[i], err = store.ReadData(raw); err != nil {
			return nil, err
		}
	}
	return Gathered(first, items), nil
}

// sms returns a letter as a text message. Its last line binds a code to its
// origin: a browser then offers it on that site, and on no other.
func (c Composer) sms(to message.Address, r render.Request) (outbox.Letter, error) {
	code := strings.ReplaceAll(r.Proof.Code, " ", "")
	r.Proof.Code = code // short, and one word that phones recognise
	text, err := c.p.Letters.RenderSMS(r)
	if err != nil {
		return outbox.Letter{}, err
	}
	if text, err = compose.BindCode(text, c.p.Site.BaseURL, code); err != nil {
		return outbox.Letter{}, err
	}
	return outbox.Letter{Envelope: provider.Envelope{To: to.Envelope()}, SMS: text}, nil
}

// fromOf returns who a letter is from.
func (c Composer) fromOf(letter string) message.Address {
	if from, ok := c.p.Froms[letter]; ok {
		return from
	}
	return c.p.From
}

// Envelope returns the message of a delivery without its words: its sender, the recipient that it
// shows, and the fields that its letter and its notice ask for. It shows the recipient itself if v
// names no other.
func (c Composer) Envelope(d store.Delivery, recipient message.Address, v Visible) (compose.Message, error) {
	m := compose.Message{From: c.fromOf(d.Letter), Headers: v.Headers}
	if v.To == nil {
		to, err := recipient.WithName(d.Name)
		if err != nil {
			return m, err
		}
		m.To = []message.Address{to}
	}
	for _, one := range v.To {
		a, err := message.ParseAddress(one[0])
		if err == nil {
			a, err = a.WithName(one[1])
		}
		if err != nil {
			return m, err
		}
		m.To = append(m.To, a)
	}
	for _, one := range v.Cc {
		a, err := message.ParseAddress(one)
		if err != nil {
			return m, err
		}
		m.Cc = append(m.Cc, a)
	}
	kind := c.p.Letters.Kind(d.Letter)
	if reply := cmp.Or(v.ReplyTo, kind.ReplyTo); reply != "" {
		a, err := message.ParseAddress(reply)
		if err != nil {
			return m, fmt.Errorf("illumicode: where answers go: %w", err)
		}
		m.ReplyTo = []message.Address{a}
	}
	if v.Thread != "" {
		sum := sha256.Sum256([]byte(v.Thread))
		m.Thread = "thread." + hex.EncodeToString(sum[:12]) + "@" + c.p.From.Domain()
	}
	if !kind.Security() {
		m.Unsubscribe = &compose.Unsubscribe{URL: c.p.UnsubscribeURL(d.Address, kind.Category)}
	}
	if c.p.Mark != nil {
		m.Inline = append(m.Inline, *c.p.Mark)
	}
	return m, nil
}

// attach adds the attachments of a bundle, to be read from the store while the letter is sent.
func (c Composer) attach(ctx context.Context, bundle string, m *compose.Message) error {
	if bundle == "" {
		return nil
	}
	files, err := c.p.Store.Attachments(ctx, bundle)
	if err != nil {
		return fmt.Errorf("%w: %w", outbox.ErrLater, err)
	}
	for _, f := range files {
		p := compose.Part{Name: f.Name, Type: f.Type, ID: f.ContentID, Size: f.Size,
			Open: func() (io.ReadCloser, error) { return c.p.Store.OpenAttachment(ctx, f), nil }}
		if p.ID != "" {
			m.Inline = append(m.Inline, p)
		} else {
			m.Attachments = append(m.Attachments, p)
		}
	}
	return nil
}

// signed is a message with its signatures in front.
type signed struct {
	fields  string
	message *compose.Composed
}

func (s signed) Size() int64 { return int64(len(s.fields)) + s.message.Size() }

func (s signed) WriteTo(w io.Writer) (int64, error) {
	n, err := io.WriteString(w, s.fields)
	if err != nil {
		return int64(n), err
	}
	m, err := s.message.WriteTo(w)
	return int64(n) + m, err
}

// change returns the change that a letter to an old address tells of, with the letter's values.
func (c Composer) change(ctx context.Context, d store.Delivery) (map[string]any, store.Change, error) {
	data, err := store.ReadData(d.Data)
	if err != nil {
		return nil, store.Change{}, err
	}
	id, _ := data[ChangeID].(string)
	row, err := c.p.Store.Change(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, row, &outbox.Drop{State: store.Cancelled, Note: "its change of address is gone"}
	}
	if err != nil {
		return nil, row, fmt.Errorf("%w: %w", outbox.ErrLater, err)
	}
	delete(data, ChangeID)
	const day = 24 * time.Hour
	left := d.Fixed
	if left.IsZero() { // in a preview
		left = d.Created
	}
	data["new_address"], data["undo_days"] = row.New, max(1, int((row.UndoEnds.Sub(left)+day/2)/day))
	return data, row, nil
}

// undoing returns the values of the letter that tells an old address of a change, and the link that
// takes it back. A letter that nobody needs any more is an error that says why.
func (c Composer) undoing(ctx context.Context, d store.Delivery) (map[string]any, render.Proof, error) {
	data, row, err := c.change(ctx, d)
	if err != nil {
		return nil, render.Proof{}, err
	}
	said := store.Pending // that it is asked for is not said any more once it is made: another letter says that
	if d.Letter == flow.ChangedLetter {
		said = store.Made
	}
	if row.State != said {
		return nil, render.Proof{}, &outbox.Drop{State: store.Cancelled, Note: "its change of address is " +
			string(row.State)}
	}
	key, err := c.p.ChangeKey(row)
	if err == nil && d.Address != row.Old {
		err = errElsewhere
	}
	if err != nil {
		return nil, render.Proof{}, c.keyless(ctx, row.Kid, err)
	}
	return data, render.Proof{Link: c.p.TakeBackURL(c.p.Links.Sign(key, keyring.Claims{
		Purpose: challenge.Undo, Challenge: row.ID, IssuedAt: d.Fixed.Unix(), Expires: row.UndoEnds.Unix(), ID: d.ID,
		Bound: flow.OldBound(key, row),
	})), LinkLife: row.UndoEnds.Sub(d.Fixed)}, nil
}

// unwanted reports whether a reader has said no to letters like this one.
func (c Composer) unwanted(ctx context.Context, d store.Delivery,
	to message.Address) (category string, yes bool, err error) {
	kind := c.p.Letters.Kind(d.Letter)
	if kind.Security() {
		return "", false, nil
	}
	yes, err = c.p.Store.Unwanted(ctx, to.Mailbox(), kind.Category)
	return kind.Category, yes, err
}
