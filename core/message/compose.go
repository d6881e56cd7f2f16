package message

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"mime/quotedprintable"
	"strings"
	"time"
	"unicode"
)

// A Message is one letter to one recipient, ready to be composed. From, To, ID, Date, Subject
// and Text are required: a letter in HTML alone is not composed.
type Message struct {
	From    Address
	To      Address
	ReplyTo Address // zero means none
	Subject string
	Date    time.Time
	ID      string // the Message-ID without angle brackets; boundaries are made from it
	Text    string
	HTML    string // empty means text only
}

// Compose returns the message with CRLF line ends, no line over 76 bytes but for header words
// that cannot be folded, and Auto-Submitted set (RFC 3834 §5), so that no robot answers it.
//
// The error says which part is missing or cannot be encoded; no bytes come with it.
func (m Message) Compose() ([]byte, error) {
	switch {
	case m.From.local == "" || m.To.local == "":
		return nil, errors.New("message: From and To are required")
	case m.ID == "" || m.Date.IsZero():
		return nil, errors.New("message: ID and Date are required")
	case strings.TrimSpace(m.Subject) == "":
		return nil, errors.New("message: the subject is empty")
	case strings.ContainsFunc(m.Subject+m.From.Name+m.To.Name+m.ReplyTo.Name, unicode.IsControl):
		return nil, errors.New("message: the subject or a display name has a line break or another control character")
	case strings.TrimSpace(m.Text) == "":
		return nil, errors.New("message: the text part is empty")
	}
	b := make([]byte, 0, 1024+len(m.Text)+len(m.HTML)*5/4)
	var err error
	field := func(name, value string) {
		if err == nil {
			b, err = appendField(b, name, value)
		}
	}
	field("Date", m.Date.Format("Mon, 02 Jan 2006 15:04:05 -0700"))
	field("From", encodeMailbox(m.From))
	field("To", encodeMailbox(m.To))
	if m.ReplyTo.local != "" {
		field("Reply-To", encodeMailbox(m.ReplyTo))
	}
	field("Subject", encodeText(m.Subject))
	field("Message-ID", "<"+m.ID+">")
	field("Auto-Submitted", "auto-generated")
	field("MIME-Version", "1.0")
	if err != nil {
		return nil, err
	}
	if m.HTML == "" {
		return appendPart(b, "text/plain", m.Text), nil
	}
	// "=_" cannot occur in quoted-printable (RFC 2045 §6.7), and appendPart quotes a text that
	// holds it, so no body can contain the boundary.
	sum := sha256.Sum256([]byte(m.ID))
	boundary := "=_" + hex.EncodeToString(sum[:12])
	field("Content-Type", `multipart/alternative; boundary="`+boundary+`"`)
	b = append(b, "\r\n--"+boundary+"\r\n"...)
	b = appendPart(b, "text/plain", m.Text)
	b = append(b, "\r\n--"+boundary+"\r\n"...)
	b = appendPart(b, "text/html", m.HTML)
	return append(b, "\r\n--"+boundary+"--\r\n"...), nil
}

// appendPart appends the header and body of a text part. Short ASCII lines stay readable in
// the raw source; everything else is quoted-printable.
func appendPart(b []byte, mediaType, body string) []byte {
	body = strings.ReplaceAll(body, "\r\n", "\n")
	encoding := "7bit"
	if !fits7bit(body) {
		encoding = "quoted-printable"
	}
	b = append(b, "Content-Type: "+mediaType+"; charset=utf-8\r\nContent-Transfer-Encoding: "+encoding+"\r\n\r\n"...)
	if encoding == "7bit" {
		return append(b, strings.ReplaceAll(body, "\n", "\r\n")...)
	}
	buf := bytes.NewBuffer(b)
	w := quotedprintable.NewWriter(buf)
	w.Write([]byte(body)) // writing to a bytes.Buffer does not fail
	w.Close()
	return buf.Bytes()
}

// fits7bit reports whether body can stand unencoded: ASCII, no control characters, lines that
// need no folding and end in no space that a relay might drop, and no look-alike of a boundary.
func fits7bit(body string) bool {
	column := 0
	for i := range len(body) {
		c := body[i]
		switch {
		case c == '\n':
			if column > 0 && (body[i-1] == ' ' || body[i-1] == '\t') {
				return false
			}
			column = 0
			continue
		case c >= 0x7f || c < ' ' && c != '\t':
			return false
		case c == '=' && strings.HasPrefix(body[i:], "=_"):
			return false
		}
		if column++; column > foldAt {
			return false
		}
	}
	return true
}
