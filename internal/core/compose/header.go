// Header fields: pure functions from values to folded lines.

package compose

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/illumicode/illumicode/internal/ascii"
	"github.com/illumicode/illumicode/message"
)

// foldAt is the line length that RFC 5322 §2.1.1 recommends not to exceed, and that RFC 2047 §2
// requires of lines with encoded words, without the line's end.
const foldAt = 76

// appendField appends one header field, folded (RFC 5322 §2.2.3) at its spaces. value is
// already encoded; a line break in it would start another field, so it is an error.
func appendField(b []byte, name, value string) ([]byte, error) {
	if strings.ContainsAny(value, "\r\n\x00") {
		return b, fmt.Errorf("message: the value of %s has a line break", name)
	}
	b = append(b, name...)
	b = append(b, ':')
	column := len(name) + 1
	for word := range strings.FieldsSeq(value) {
		if column+1+len(word) > foldAt && column > len(name)+1 {
			b = append(b, "\r\n"...)
			column = 0
		}
		b = append(b, ' ')
		b = append(b, word...)
		column += 1 + len(word)
		if column > 998 {
			return b, fmt.Errorf(
				"message: the value of %s has a word of %d bytes, which no line can hold (RFC 5322 §2.1.1)", name,
				len(word))
		}
	}
	return append(b, "\r\n"...), nil
}

// encodeText returns text for an unstructured field such as Subject. Plain ASCII stays as it
// is, unless it could be taken for an encoded word or a word of it does not fit a line.
func encodeText(text string) string {
	plain := ascii.Only(text) && !strings.Contains(text, "=?")
	for word := range strings.FieldsSeq(text) {
		plain = plain && len(word) < foldAt
	}
	if plain {
		return text
	}
	return encodeWords(text)
}

// encodeWords returns text as encoded words (RFC 2047 §2) in base64, each holding whole
// characters, with a space between them that readers drop. 33 bytes make a word of 56, which
// leaves room for the field's name on the first line; RFC 2047 allows 75.
func encodeWords(text string) string {
	const room = 33
	var words []string
	for text != "" {
		n := min(room, len(text))
		for n < len(text) && !utf8.RuneStart(text[n]) {
			n--
		}
		words = append(words, "=?utf-8?B?"+base64.StdEncoding.EncodeToString([]byte(text[:n]))+"?=")
		text = text[n:]
	}
	return strings.Join(words, " ")
}

// encodeMailboxes returns an address list (RFC 5322 §3.4), or "" for none.
func encodeMailboxes(list ...message.Address) string {
	all := make([]string, len(list))
	for i, a := range list {
		all[i] = encodeMailbox(a)
	}
	return strings.Join(all, ", ")
}

// encodeMailbox returns an address with its display name (RFC 5322 §3.4).
func encodeMailbox(a message.Address) string {
	spec := a.Envelope()
	if a.Name == "" {
		return spec
	}
	return encodePhrase(a.Name) + " <" + spec + ">"
}

// encodePhrase returns a display name as atoms, a quoted string, or encoded words in base64:
// the Q encoding may not hold most punctuation inside a phrase (RFC 2047 §5).
func encodePhrase(name string) string {
	if !ascii.Only(name) || strings.Contains(name, "=?") || strings.Contains(name, "  ") {
		return encodeWords(name) // two spaces in a row would not survive folding
	}
	for word := range strings.FieldsSeq(name) {
		if len(word) > foldAt-len("Reply-To: ")-2 { // no line would hold it, with its quotes
			return encodeWords(name)
		}
	}
	atoms := true
	for i := range len(name) {
		atoms = atoms && (ascii.Atext(name[i]) || name[i] == ' ')
	}
	if atoms {
		return name
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(name) + `"`
}

// own lists the fields that only the message itself sets, or only a server may.
const own = " from sender to cc bcc reply-to subject date message-id in-reply-to references auto-submitted " +
	"mime-version " +
	"return-path received delivered-to dkim-signature list-unsubscribe list-unsubscribe-post authentication-results "

// check refuses a field of the application's that could not be, or would contradict the message.
func checkField(f message.Field) error {
	name := strings.ToLower(f.Name)
	for i := range len(name) {
		if c := name[i]; c <= ' ' || c >= 0x7f || c == ':' {
			return fmt.Errorf("message: %q is no name of a header field (RFC 5322 §2.2)", f.Name)
		}
	}
	switch {
	case name == "":
		return errors.New("message: a header field has no name")
	case strings.Contains(own, " "+name+" ") || strings.HasPrefix(name, "content-") ||
		strings.HasPrefix(name, "arc-") || strings.HasPrefix(name, "resent-"):
		return fmt.Errorf("message: the field %s is not the application's to set; use the message's own field for it",
			f.Name)
	case strings.ContainsAny(f.Value, "\r\n\x00"):
		return fmt.Errorf("message: the value of %s has a line break", f.Name)
	}
	return nil
}
