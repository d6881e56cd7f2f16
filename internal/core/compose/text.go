// Text parts and their transfer encodings.

package compose

import (
	"encoding/base64"
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
		if sample := body[:min(len(body), 2<<10)]; countForeign(sample) > len(sample)/3 {
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
	return appendQuoted(b, body)
}

// plainQuoted marks the bytes that quoted-printable leaves as they are (RFC 2045 §6.7, rules 2 and
// 3), but for white space at the end of a line.
var plainQuoted = func() (t [256]bool) {
	for c := '!'; c <= '~'; c++ {
		t[c] = c != '='
	}
	t[' '], t['\t'] = true, true
	return t
}()

// appendQuoted appends body, with bare line feeds, in quoted-printable. It copies runs of plain
// bytes, of which letters mostly consist.
func appendQuoted(b []byte, body string) []byte {
	for {
		line, rest, more := strings.Cut(body, "\n")
		b = appendQuotedLine(b, line)
		if !more {
			return b
		}
		b = append(b, '\r', '\n')
		body = rest
	}
}

func appendQuotedLine(b []byte, line string) []byte {
	const hex = "0123456789ABCDEF"
	const room = foldAt - 1 // the last column is for the sign of a soft break
	end := len(line)
	if end > 0 && (line[end-1] == ' ' || line[end-1] == '\t') {
		end-- // a relay might drop it
	}
	column := 0
	for i := 0; i < len(line); {
		run := i
		for run < end && plainQuoted[line[run]] {
			run++
		}
		for i < run {
			if column == room {
				b = append(b, '=', '\r', '\n')
				column = 0
			}
			n := min(run-i, room-column)
			b = append(b, line[i:i+n]...)
			i, column = i+n, column+n
		}
		if i == len(line) {
			break
		}
		if column+3 > room {
			b = append(b, '=', '\r', '\n')
			column = 0
		}
		b = append(b, '=', hex[line[i]>>4], hex[line[i]&15])
		i, column = i+1, column+3
	}
	return b
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
