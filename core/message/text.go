// Text parts and their transfer encodings.

package message

import (
	"bytes"
	"encoding/base64"
	"mime/quotedprintable"
	"strings"
)

// appendText appends the header and body of a text part. Short ASCII lines stay readable in the
// raw source; other text is quoted-printable, or base64 where most of it is not ASCII and
// quoted-printable would triple it.
func appendText(b []byte, mediaType, body string) []byte {
	body = strings.ReplaceAll(body, "\r\n", "\n")
	encoding := "7bit"
	if !fits7bit(body) {
		encoding = "quoted-printable"
		if foreign := countForeign(body); foreign > len(body)/3 {
			encoding = "base64"
		}
	}
	b = append(b, "Content-Type: "+mediaType+"; charset=utf-8\r\nContent-Transfer-Encoding: "+encoding+"\r\n\r\n"...)
	switch encoding {
	case "7bit":
		return append(b, strings.ReplaceAll(body, "\n", "\r\n")...)
	case "base64":
		raw := []byte(strings.ReplaceAll(body, "\n", "\r\n"))
		for len(raw) > 0 {
			n := min(lineBytes, len(raw))
			b = base64.StdEncoding.AppendEncode(b, raw[:n])
			b = append(b, '\r', '\n')
			raw = raw[n:]
		}
		return b
	}
	buf := bytes.NewBuffer(b)
	w := quotedprintable.NewWriter(buf)
	w.Write([]byte(body)) // writing to a bytes.Buffer does not fail
	w.Close()
	return buf.Bytes()
}

// countForeign counts the bytes that quoted-printable would triple.
func countForeign(s string) (n int) {
	for i := range len(s) {
		if s[i] >= 0x80 {
			n++
		}
	}
	return n
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
