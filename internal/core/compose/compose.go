package compose

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"

	"github.com/illumicode/illumicode/message"
)

// A Message is one letter, ready to be composed. From, To, ID, Date, Subject and Text are
// required: a letter in HTML alone is not composed. There is no Bcc: who else gets the letter is
// the envelopes' business, and never the header's.
type Message struct {
	From    message.Address
	To      []message.Address
	Cc      []message.Address
	ReplyTo []message.Address
	Subject string
	Date    time.Time
	ID      string // the Message-ID without angle brackets; boundaries are made from it
	Text    string
	HTML    string // empty means text only

	Thread      string          // Message-ID of what this belongs to, without brackets; empty means none
	Unsubscribe *Unsubscribe    // for notices; nil for letters a person asked for
	Headers     []message.Field // further header fields, in order
	Inline      []Part          // parts that the HTML shows, as cid:ID
	Attachments []Part
}

// An Unsubscribe says how a reader ends notices (RFC 2369 §3.2), with one click if it is a URL
// (RFC 8058): the URL must then act on a POST of "List-Unsubscribe=One-Click".
type Unsubscribe struct {
	URL    string // https, absolute; empty means none
	Mailto string // an address; empty means none
}

// MaxRecipients is how many addresses To and Cc may have together. A longer list is a notice to
// many, and those are written to one by one.
const MaxRecipients = 50

// Compose checks the message and lays it out. What is returned writes the same bytes as often as
// it is asked to, with CRLF line ends, no line over 76 bytes but for header words that cannot be
// folded, and Auto-Submitted set (RFC 3834 §5), so that no robot answers it.
//
// The error says which part is missing or cannot be encoded.
func (m Message) Compose() (*Composed, error) {
	header, err := m.header()
	if err != nil {
		return nil, err
	}
	c := new(Composed)
	c.text(header)
	m.body(c)
	return c, nil
}

// NeedsUTF8 reports whether an address in the header can only travel with SMTPUTF8.
func (m Message) NeedsUTF8() bool {
	for _, list := range [][]message.Address{{m.From}, m.To, m.Cc, m.ReplyTo} {
		for _, a := range list {
			if a.NeedsUTF8() {
				return true
			}
		}
	}
	return false
}

// check refuses what cannot become a message.
func (m Message) check() error {
	switch {
	case m.From.Domain() == "" || len(m.To) == 0:
		return errors.New("message: From and To are required")
	case len(m.To)+len(m.Cc) > MaxRecipients:
		return fmt.Errorf(
			"message: %d recipients in To and Cc, more than %d; write to them one by one, as a notice to many",
			len(m.To)+len(m.Cc), MaxRecipients)
	case m.ID == "" || m.Date.IsZero():
		return errors.New("message: ID and Date are required")
	case strings.TrimSpace(m.Subject) == "":
		return errors.New("message: the subject is empty")
	case strings.TrimSpace(m.Text) == "":
		return errors.New("message: the text part is empty")
	case strings.ContainsFunc(m.Subject, unicode.IsControl):
		return errors.New("message: the subject has a line break or another control character")
	}
	for _, list := range [][]message.Address{{m.From}, m.To, m.Cc, m.ReplyTo} {
		for _, a := range list {
			if a.Domain() == "" || strings.ContainsFunc(a.Name, unicode.IsControl) {
				return errors.New(
					"message: an address is empty, or its display name has a line break or another control character")
			}
		}
	}
	return nil
}

// header returns the header, up to but without the fields of the body.
func (m Message) header() ([]byte, error) {
	err := m.check()
	b := make([]byte, 0, 1024)
	field := func(name, value string) {
		if err == nil && value != "" {
			b, err = appendField(b, name, value)
		}
	}
	field("Date", m.Date.Format("Mon, 02 Jan 2006 15:04:05 -0700"))
	field("From", encodeMailboxes(m.From))
	field("To", encodeMailboxes(m.To...))
	field("Cc", encodeMailboxes(m.Cc...))
	field("Reply-To", encodeMailboxes(m.ReplyTo...))
	field("Subject", encodeText(m.Subject))
	field("Message-ID", "<"+m.ID+">")
	if m.Thread != "" {
		field("In-Reply-To", "<"+m.Thread+">")
		field("References", "<"+m.Thread+">")
	}
	field("Auto-Submitted", "auto-generated")
	if u := m.Unsubscribe; u != nil {
		value, e := u.value()
		err = errors.Join(err, e)
		field("List-Unsubscribe", value)
		if u.URL != "" {
			field("List-Unsubscribe-Post", "List-Unsubscribe=One-Click")
		}
	}
	for _, f := range m.Headers {
		if err == nil {
			err = checkField(f)
		}
		field(f.Name, encodeText(f.Value))
	}
	field("MIME-Version", "1.0")
	return b, err
}

func (u Unsubscribe) value() (string, error) {
	var ways []string
	if u.URL != "" {
		if !strings.HasPrefix(u.URL, "https://") && !strings.HasPrefix(u.URL, "http://127.0.0.1") ||
			strings.ContainsAny(u.URL, " <>\",\r\n") {
			return "", errors.New(
				"message: the URL to unsubscribe is not https, or has a character that must be escaped")
		}
		ways = append(ways, "<"+u.URL+">")
	}
	if u.Mailto != "" {
		a, err := message.ParseAddress(u.Mailto)
		if err != nil {
			return "", fmt.Errorf("message: the address to unsubscribe: %w", err)
		}
		ways = append(ways, "<mailto:"+a.Envelope()+">")
	}
	if len(ways) == 0 {
		return "", errors.New("message: Unsubscribe has neither URL nor address")
	}
	return strings.Join(ways, ", "), nil
}

// body lays out what follows the header: from the inside, text and HTML as alternatives, what the
// HTML shows related to them, and attachments mixed with all of that (RFC 2046 §5.1, RFC 2387).
func (m Message) body(c *Composed) {
	b := bodyWriter{c: c, seed: m.ID}
	content := func() {
		if m.HTML == "" {
			b.textPart("text/plain", m.Text)
			return
		}
		b.multi("alternative", "", func() { b.textPart("text/plain", m.Text) }, func() {
			if len(m.Inline) == 0 {
				b.textPart("text/html", m.HTML)
				return
			}
			parts := []func(){func() { b.textPart("text/html", m.HTML) }}
			for _, p := range m.Inline {
				parts = append(parts, func() { b.filePart(p, "inline") })
			}
			b.multi("related", "text/html", parts...)
		})
	}
	if len(m.Attachments) == 0 {
		content()
		return
	}
	parts := []func(){content}
	for _, p := range m.Attachments {
		parts = append(parts, func() { b.filePart(p, "attachment") })
	}
	b.multi("mixed", "", parts...)
}

// A bodyWriter lays out MIME parts.
type bodyWriter struct {
	c    *Composed
	seed string
	n    int // multiparts so far, so that their boundaries differ
}

// multi lays out a multipart whose parts write their own headers.
func (b *bodyWriter) multi(subtype, kind string, parts ...func()) {
	b.n++
	// "=_" cannot occur in quoted-printable or base64 (RFC 2045 §6.7, §6.8), and a text that
	// holds it is encoded, so no body can contain a boundary.
	sum := sha256.Sum256(fmt.Appendf(nil, "%d %s", b.n, b.seed))
	boundary := "=_" + hex.EncodeToString(sum[:12])
	if kind != "" {
		kind = `; type="` + kind + `"`
	}
	b.c.text(fmt.Appendf(nil, "Content-Type: multipart/%s%s;\r\n boundary=%q\r\n", subtype, kind, boundary))
	for _, part := range parts {
		b.c.text([]byte("\r\n--" + boundary + "\r\n"))
		part()
	}
	b.c.text([]byte("\r\n--" + boundary + "--\r\n"))
}

func (b *bodyWriter) textPart(mediaType, body string) {
	b.c.text(appendText(make([]byte, 0, 256+len(body)*5/4), mediaType, body))
}

func (b *bodyWriter) filePart(p Part, disposition string) {
	header, err := p.header(disposition)
	if err != nil && b.c.err == nil {
		b.c.err = err
	}
	b.c.text(header)
	b.c.file(p)
}

// A Composed is a message laid out: pieces of bytes, and files that are read as it is written. It
// is immutable and safe for concurrent use if its parts' Open functions are.
type Composed struct {
	pieces []piece
	size   int64
	err    error // of laying out a part
}

// A piece is bytes, or a file in base64.
type piece struct {
	bytes []byte
	part  *Part
}

func (c *Composed) text(b []byte) {
	c.pieces = append(c.pieces, piece{bytes: b})
	c.size += int64(len(b))
}

func (c *Composed) file(p Part) {
	c.pieces = append(c.pieces, piece{part: &p})
	c.size += encodedSize(p.Size)
}

// Size returns how many bytes WriteTo writes.
func (c *Composed) Size() int64 { return c.size }

// WriteTo writes the message. Memory does not grow with the attachments. An attachment that
// cannot be read, or has another size than it said, is an error; what was written then is part
// of a letter, and must not be taken for one.
func (c *Composed) WriteTo(w io.Writer) (int64, error) {
	if c.err != nil {
		return 0, c.err
	}
	var n int64
	for _, p := range c.pieces {
		if p.part == nil {
			k, err := w.Write(p.bytes)
			n += int64(k)
			if err != nil {
				return n, err
			}
			continue
		}
		k, err := p.part.writeTo(w)
		n += k
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// Bytes returns the message whole. It is for messages known to be small.
func (c *Composed) Bytes() ([]byte, error) {
	var b bytes.Buffer
	b.Grow(int(c.size))
	_, err := c.WriteTo(&b)
	return b.Bytes(), err
}
