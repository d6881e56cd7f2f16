package inbox

import (
	"bufio"
	"cmp"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"net/textproto"
	"regexp"
	"strings"
	"time"

	"golang.org/x/net/html/charset"
)

// A Letter is a captured message and what a reader sees of it. It is immutable.
type Letter struct {
	ID           int
	Received     time.Time
	EnvelopeFrom string
	EnvelopeTo   string
	Size         int64  // of the source, in bytes
	Raw          []byte // the source; nil for a letter over 4 MiB, see [Letter.Open]

	From, To, ReplyTo, Subject, Date, MessageID string
	Text, HTML                                  string // in UTF-8; at most a megabyte each
	Attachments                                 []Attachment
	Problem                                     string // why the source could not be read in full; usually empty

	file string // that has the source; "" for none
}

// An Attachment is a part of a letter beside its text and its HTML.
type Attachment struct {
	Name string // empty if it has none
	Type string // media type
	Size int64  // decoded, in bytes
}

// parse reads what can be read of a message; what cannot is told in Problem, never hidden.
func parse(source io.Reader) *Letter {
	l := new(Letter)
	m, err := mail.ReadMessage(bufio.NewReader(source))
	if err != nil {
		l.Problem = "the header cannot be read: " + err.Error()
		return l
	}
	words := &mime.WordDecoder{CharsetReader: charset.NewReaderLabel}
	get := func(field string) string {
		v, err := words.DecodeHeader(m.Header.Get(field))
		if err != nil {
			return m.Header.Get(field)
		}
		return v
	}
	l.From, l.To, l.ReplyTo, l.Subject = get("From"), get("To"), get("Reply-To"), get("Subject")
	l.Date, l.MessageID = get("Date"), get("Message-ID")
	if to, err := mail.ParseAddress(m.Header.Get("To")); err == nil {
		l.EnvelopeTo = to.Address // overwritten by the real envelope, where there is one
	}
	if err := l.walk(textproto.MIMEHeader(m.Header), m.Body, 0); err != nil {
		l.Problem = "the body cannot be read: " + err.Error()
	}
	return l
}

// mostText is how much of a text is read, in bytes.
const mostText = 1 << 20

// walk collects the first text and the first HTML part, and lists the others.
func (l *Letter) walk(header textproto.MIMEHeader, body io.Reader, depth int) error {
	contentType := cmp.Or(header.Get("Content-Type"), "text/plain")
	kind, params, err := mime.ParseMediaType(contentType)
	if err != nil || depth > 8 {
		return fmt.Errorf("content type %q: %v", contentType, err)
	}
	if strings.HasPrefix(kind, "multipart/") {
		r := multipart.NewReader(body, params["boundary"])
		for {
			p, err := r.NextRawPart()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return err
			}
			if err := l.walk(p.Header, p, depth+1); err != nil {
				return err
			}
		}
	}
	switch strings.ToLower(header.Get("Content-Transfer-Encoding")) {
	case "quoted-printable":
		body = quotedprintable.NewReader(body)
	case "base64":
		body = base64.NewDecoder(base64.StdEncoding, body)
	}
	disposition, named, _ := mime.ParseMediaType(header.Get("Content-Disposition"))
	switch {
	case kind == "text/plain" && l.Text == "" && disposition != "attachment":
		l.Text, err = readText(body, params["charset"])
	case kind == "text/html" && l.HTML == "" && disposition != "attachment":
		l.HTML, err = readText(body, params["charset"])
	default:
		one := Attachment{Name: cmp.Or(named["filename"], params["name"]), Type: kind}
		one.Size, err = io.Copy(io.Discard, body)
		l.Attachments = append(l.Attachments, one)
	}
	return err
}

// readText reads a text of some charset, and the rest of a longer one in vain.
func readText(body io.Reader, label string) (string, error) {
	text := body
	if label != "" {
		decoded, err := charset.NewReaderLabel(label, body)
		if err != nil {
			return "", err
		}
		text = decoded
	}
	b, err := io.ReadAll(io.LimitReader(text, mostText))
	if err == nil {
		_, err = io.Copy(io.Discard, body)
	}
	return strings.ReplaceAll(strings.ToValidUTF8(string(b), "\uFFFD"), "\r\n", "\n"), err
}

var (
	linkPattern = regexp.MustCompile(`https?://\S+`)
	codePattern = regexp.MustCompile(`(?m)^ {4}(\d[\d ]{5,11})$`)
)

// Link returns the first link in the text part, or "".
func (l *Letter) Link() string { return linkPattern.FindString(l.Text) }

// Code returns the code in the text part, as it is printed, or "".
func (l *Letter) Code() string {
	if m := codePattern.FindStringSubmatch(l.Text); m != nil {
		return m[1]
	}
	return ""
}
