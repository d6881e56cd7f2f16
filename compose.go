package illumicode

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/letter"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/core/otp"
	"github.com/illumicode/illumicode/core/token"
	"github.com/illumicode/illumicode/outbox"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/store"
)

// A composer makes letters for the outbox.
type composer struct{ s *Service }

// Compose implements [outbox.Composer]. Here, and nowhere earlier, code and link come to be.
func (c composer) Compose(ctx context.Context, d store.Delivery) (outbox.Letter, error) {
	if !c.s.letters.Has(d.Letter) {
		return outbox.Letter{}, fmt.Errorf("%w: there is no letter %q here", outbox.ErrUnknown, d.Letter)
	}
	zone, err := c.s.zones.load(d.Zone)
	if err != nil {
		return outbox.Letter{}, err
	}
	r := letter.Request{Letter: d.Letter, Locale: language.Make(d.Locale), Zone: zone, Writer: c.s.writer}
	switch {
	case d.Challenge != "":
		r.Data, r.Proof, err = c.proof(ctx, d)
	case d.Letter == changeLetter:
		r.Data, r.Proof, err = c.undoing(ctx, d)
	default:
		r.Data, err = c.data(ctx, d)
	}
	if err != nil {
		return outbox.Letter{}, err
	}
	to, err := message.ParseRecipient(d.Address)
	if err != nil {
		return outbox.Letter{}, err
	}
	category, unwanted, err := c.s.unwanted(ctx, d, to)
	switch {
	case err != nil:
		return outbox.Letter{}, fmt.Errorf("%w: %w", outbox.ErrLater, err)
	case unwanted:
		return outbox.Letter{}, &outbox.Drop{State: store.Suppressed, Note: "its reader has unsubscribed from " + category}
	case to.IsPhone():
		return c.sms(to, r)
	}
	var v visible
	if d.Visible != "" {
		if err := json.Unmarshal([]byte(d.Visible), &v); err != nil {
			return outbox.Letter{}, fmt.Errorf("illumicode: what the delivery's header shows cannot be read: %w", err)
		}
	}
	m, err := c.s.envelope(d, v)
	if err != nil {
		return outbox.Letter{}, err
	}
	rendered, err := c.s.letters.Render(r)
	if err != nil {
		return outbox.Letter{}, err
	}
	m.Subject, m.Text, m.HTML, m.Date, m.ID = rendered.Subject, rendered.Text, rendered.HTML, d.Fixed, d.ID+"@"+c.s.from.Domain()
	if err := c.attach(ctx, d.Bundle, &m); err != nil {
		return outbox.Letter{}, err
	}
	composed, err := m.Compose()
	if err != nil {
		return outbox.Letter{}, err
	}
	l := outbox.Letter{
		Envelope: provider.Envelope{From: c.s.back.of(c.s.keys.Active(), d.ID, m.From.Envelope()), To: to.Envelope(), UTF8: m.NeedsUTF8() || to.NeedsUTF8()},
		Message:  composed, Signature: d.Signature,
		Contents: provider.Letter{
			From: m.From.Envelope(), FromName: m.From.Name, To: m.To[0].Envelope(), ToName: m.To[0].Name,
			Subject: m.Subject, Text: m.Text, HTML: m.HTML,
		},
	}
	if len(m.ReplyTo) > 0 {
		l.Contents.ReplyTo = m.ReplyTo[0].Envelope()
	}
	if c.s.sign != nil && d.Attempts == 0 { // later attempts carry what the first did
		if l.Signature, err = c.s.sign.Sign(composed); err != nil {
			return outbox.Letter{}, err
		}
	}
	if l.Signature != "" {
		l.Message = signed{l.Signature, composed}
	}
	return l, nil
}

// maxItems bounds how many notices one letter tells of.
const maxItems = 1000

// data returns the values of a notice, and of those that have joined it.
func (c composer) data(ctx context.Context, d store.Delivery) (map[string]any, error) {
	first, err := readData(d.Data)
	if d.Lead > 0 && err == nil {
		first = reminding(first, d.DeliverBefore)
	}
	if err != nil || d.Collapse == "" {
		return first, err
	}
	rows, err := c.s.store.Items(ctx, d.ID, maxItems)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", outbox.ErrLater, err)
	}
	items := make([]any, len(rows))
	for i, raw := range rows {
		if items[i], err = readData(raw); err != nil {
			return nil, err
		}
	}
	return collapsed(first, items), nil
}

// sms returns a letter as a text message. A code ends with the origin-bound line by which browsers
// offer it on the site it belongs to, and on no other.
func (c composer) sms(to message.Address, r letter.Request) (outbox.Letter, error) {
	code := strings.ReplaceAll(r.Proof.Code, " ", "")
	r.Proof.Code = code // short, and one word that phones recognise
	text, err := c.s.letters.RenderSMS(r)
	if err != nil {
		return outbox.Letter{}, err
	}
	if code != "" {
		base, err := url.Parse(c.s.site.BaseURL)
		if err != nil {
			return outbox.Letter{}, err
		}
		text += "\n\n@" + base.Hostname() + " #" + code
	}
	return outbox.Letter{Envelope: provider.Envelope{To: to.Envelope()}, SMS: text}, nil
}

// fromOf returns who a letter is from.
func (s *Service) fromOf(letter string) message.Address {
	if from, ok := s.froms[letter]; ok {
		return from
	}
	return s.from
}

// envelope returns the message of a delivery without its words: who it is from, who it shows that
// it goes to, and the fields that its letter and its notice ask for.
func (s *Service) envelope(d store.Delivery, v visible) (message.Message, error) {
	m := message.Message{From: s.fromOf(d.Letter), Headers: v.Headers}
	if v.To == nil {
		v.To = [][2]string{{d.Address, d.Name}}
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
	kind := s.letters.Kind(d.Letter)
	if reply := cmp.Or(v.ReplyTo, kind.ReplyTo); reply != "" {
		a, err := message.ParseAddress(reply)
		if err != nil {
			return m, fmt.Errorf("illumicode: where answers go: %w", err)
		}
		m.ReplyTo = []message.Address{a}
	}
	if v.Thread != "" {
		sum := sha256.Sum256([]byte(v.Thread))
		m.Thread = "thread." + hex.EncodeToString(sum[:12]) + "@" + s.from.Domain()
	}
	if !kind.Security() {
		m.Unsubscribe = s.unsubscribe(d.Address, kind.Category)
	}
	if s.mark != nil {
		m.Inline = append(m.Inline, *s.mark)
	}
	return m, nil
}

// attach adds the attachments of a bundle, to be read from the store while the letter is sent.
func (c composer) attach(ctx context.Context, bundle string, m *message.Message) error {
	if bundle == "" {
		return nil
	}
	files, err := c.s.store.Attachments(ctx, bundle)
	if err != nil {
		return fmt.Errorf("%w: %w", outbox.ErrLater, err)
	}
	for _, f := range files {
		p := message.Part{Name: f.Name, Type: f.Type, ID: f.ContentID, Size: f.Size,
			Open: func() (io.ReadCloser, error) { return c.s.store.OpenAttachment(ctx, f), nil }}
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
	message *message.Composed
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

// proof makes code and link for a challenge's letter, or says why it is not needed any more.
func (c composer) proof(ctx context.Context, d store.Delivery) (map[string]any, letter.Proof, error) {
	row, err := c.s.store.Challenge(ctx, d.Challenge)
	if errors.Is(err, store.ErrNotFound) {
		return nil, letter.Proof{}, &outbox.Drop{State: store.Cancelled, Note: "its challenge is gone"}
	}
	if err != nil {
		return nil, letter.Proof{}, fmt.Errorf("%w: %w", outbox.ErrLater, err)
	}
	now := c.s.now()
	if row.Decoy && (!c.s.tellOwner || d.Letter != existsLetter && d.Letter != unknownLetter) {
		return nil, letter.Proof{}, &outbox.Drop{State: store.Cancelled, Note: "a decoy: nobody is written to", Decoy: true}
	}
	if d.Letter == unknownLetter {
		if brake, err := c.s.braked(ctx, d); err != nil {
			return nil, letter.Proof{}, fmt.Errorf("%w: %w", outbox.ErrLater, err)
		} else if brake {
			return nil, letter.Proof{}, &outbox.Drop{State: store.Cancelled, Note: "a limit on letters to addresses not yet confirmed", Decoy: true}
		}
	}
	switch row.State {
	case challenge.Accepted:
		return nil, letter.Proof{}, &outbox.Drop{State: store.Cancelled, Note: "the address is confirmed already"}
	case challenge.Ended:
		return nil, letter.Proof{}, &outbox.Drop{State: store.Cancelled, Note: "its challenge was called off: " + row.Why}
	}
	if !row.Alive(now) {
		return nil, letter.Proof{}, &outbox.Drop{State: store.Expired, Note: "its proof has expired"}
	}
	key, err := c.s.keys.Key(row.Kid, now)
	if err != nil {
		return nil, letter.Proof{}, err
	}
	data, err := letterData(row)
	if err != nil {
		return nil, letter.Proof{}, err
	}
	if row.Decoy {
		return data, letter.Proof{}, nil
	}
	p := letter.Proof{NotMe: c.s.notMeURL(row, key, d)}
	if row.Forms.Has(challenge.Link) {
		// Everything in the claims comes from the rows, so every attempt signs the same bytes.
		p.Link = c.s.LinkURL(c.s.links.Sign(key, token.Claims{
			Purpose: row.Purpose, Challenge: row.ID, IssuedAt: d.Fixed.Unix(), Expires: row.Ends.Unix(), ID: d.ID,
			Address: key.Thumbprint(row.Address), Action: row.Action,
		}))
		p.LinkLife = min(row.LinkLife, row.Ends.Sub(d.Fixed))
	}
	if row.Forms.Has(challenge.Code) {
		p.Code = otp.Format(otp.Derive(key.CodeKey(), row.ID, d.Generation, row.Digits))
		p.CodeLife = min(row.CodeLife, row.Ends.Sub(d.Fixed))
	}
	return data, p, nil
}

// letterData returns the values of a challenge's letter.
func letterData(row store.Challenge) (map[string]any, error) {
	data, err := readData(row.Data)
	if err == nil {
		data["name"] = row.Name
		if row.Decoy { // a stranger has typed it, and its reader has not asked for the letter
			data["name"] = ""
		}
	}
	return data, err
}

// change returns the change that a letter to an old address tells of, with the letter's values.
func (c composer) change(ctx context.Context, d store.Delivery) (map[string]any, store.Change, error) {
	data, err := readData(d.Data)
	if err != nil {
		return nil, store.Change{}, err
	}
	id, _ := data[changeID].(string)
	row, err := c.s.store.Change(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, row, &outbox.Drop{State: store.Cancelled, Note: "its change of address is gone"}
	}
	if err != nil {
		return nil, row, fmt.Errorf("%w: %w", outbox.ErrLater, err)
	}
	delete(data, changeID)
	data["new_address"], data["undo_days"] = row.New, max(1, int(c.s.undo/(24*time.Hour)))
	return data, row, nil
}

// undoing returns the values of the letter that tells an old address of a change, and the link that
// takes it back, or says why it is not needed any more.
func (c composer) undoing(ctx context.Context, d store.Delivery) (map[string]any, letter.Proof, error) {
	data, row, err := c.change(ctx, d)
	if err != nil {
		return nil, letter.Proof{}, err
	}
	if row.State != store.Pending && row.State != store.Made {
		return nil, letter.Proof{}, &outbox.Drop{State: store.Cancelled, Note: "its change of address is " + string(row.State)}
	}
	key, err := c.s.keys.Key(row.Kid, c.s.now())
	if err != nil {
		return nil, letter.Proof{}, err
	}
	return data, letter.Proof{Link: c.s.refuseURL(c.s.links.Sign(key, token.Claims{
		Purpose: LinkUndo, Challenge: row.ID, IssuedAt: d.Fixed.Unix(), Expires: row.UndoEnds.Unix(), ID: d.ID, Address: key.Thumbprint(row.Old),
	})), LinkLife: row.UndoEnds.Sub(d.Fixed)}, nil
}

// LinkURL returns the URL that carries a token to the page behind a link.
func (s *Service) LinkURL(tok string) string {
	return s.site.BaseURL + s.site.ConfirmPath + "?" + url.Values{"t": {tok}}.Encode()
}

// readData reads a delivery's data. Numbers keep their spelling.
func readData(raw string) (map[string]any, error) {
	dec := json.NewDecoder(strings.NewReader(raw))
	dec.UseNumber()
	data := make(map[string]any)
	if err := dec.Decode(&data); err != nil {
		return nil, fmt.Errorf("illumicode: the delivery's data is no JSON object: %w", err)
	}
	return data, nil
}
