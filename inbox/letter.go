package inbox

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"
)

// A Letter is a captured message and what a reader sees of it. It is immutable.
type Letter struct {
	ID           int
	Received     time.Time
	EnvelopeFrom string
	EnvelopeTo   string
	Raw          []byte

	From, To, ReplyTo, Subject, Date, MessageID string
	Text, HTML                                  string
	Problem                                     string // why the source could not be read in full; usually empty
}

// parse reads what can be read of a message; what cannot is told in Problem, never hidden.
func parse(raw []byte) *Letter {
	l := &Letter{Raw: raw}
	m, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		l.Problem = "the header cannot be read: " + err.Error()
		return l
	}
	words := new(mime.WordDecoder)
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
	if err := l.walk(m.Header.Get("Content-Type"), m.Header.Get("Content-Transfer-Encoding"), m.Body, 0); err != nil {
		l.Problem = "the body cannot be read: " + err.Error()
	}
	return l
}

// walk collects the first text and the first HTML part.
func (l *Letter) walk(contentType, encoding string, body io.Reader, depth int) error {
	if contentType == "" {
		contentType = "text/plain"
	}
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
			if err := l.walk(p.Header.Get("Content-Type"), p.Header.Get("Content-Transfer-Encoding"),
				p, depth+1); err != nil {
				return err
			}
		}
	}
	switch strings.ToLower(encoding) {
	case "quoted-printable":
		body = quotedprintable.NewReader(body)
	case "base64":
		body = base64.NewDecoder(base64.StdEncoding, body)
	}
	b, err := io.ReadAll(body)
	if err != nil {
		return err
	}
	switch text := strings.ReplaceAll(string(b), "\r\n", "\n"); {
	case kind == "text/plain" && l.Text == "":
		l.Text = text
	case kind == "text/html" && l.HTML == "":
		l.HTML = text
	}
	return nil
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

func (l *Letter) save(dir string) error {
	return os.WriteFile(filepath.Join(dir, fmt.Sprintf("%06d.eml", l.ID)), l.Raw, 0o600)
}
