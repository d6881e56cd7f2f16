// Package mask takes secrets out of what a peer has said: some repeat what they were sent. [Secrets] is the type to
// read first. It is pure.
package mask

import (
	"encoding/base64"
	"slices"
	"strings"
	"unicode"
)

// Secrets are what must not be kept of one attempt. The zero Secrets are none. They are safe for concurrent use.
type Secrets struct {
	codes []string // letters and digits alone
	texts []string // without white space; the longest first
}

// shortest is how long a text must be to be looked for: what is shorter would be found everywhere.
const shortest = 4

// Of returns the secrets of an attempt: a code for a person to type, empty for none, and texts such as tokens, links,
// keys and passwords.
func Of(code string, texts ...string) Secrets {
	var s Secrets
	if code = strings.Map(typed, code); code != "" {
		s.codes = []string{code}
	}
	return s.And(texts...)
}

// And returns the secrets with more texts.
func (s Secrets) And(texts ...string) Secrets {
	s.texts = slices.Clone(s.texts)
	for _, text := range texts {
		if text = strings.Join(strings.Fields(text), ""); len(text) >= shortest {
			s.texts = append(s.texts, text)
		}
	}
	slices.SortStableFunc(s.texts, func(a, b string) int { return len(b) - len(a) })
	return s
}

// typed drops what is neither a letter nor a digit of ASCII, of which codes are.
func typed(r rune) rune {
	if r < unicode.MaxASCII && (unicode.IsLetter(r) || unicode.IsDigit(r)) {
		return r
	}
	return -1
}

// hidden stands in the place of a secret.
const hidden = "•••"

// Hide returns text with the secrets replaced. A code is found where no digit adjoins, plain or split by spaces or
// dashes. A text is found plain and as URLs, HTML, JSON and quoted-printable write it, across lines. A run of base64
// that holds a secret is replaced as a whole, and so is the beginning of a secret at the end of text, which may have
// been cut there.
func (s Secrets) Hide(text string) string {
	if len(s.codes)+len(s.texts) == 0 || text == "" {
		return text
	}
	plain := read(text)
	dense := plain.dense()
	found := append(s.find(plain, dense), s.inBase64(dense)...)
	found = append(found, s.cutOff(dense)...)
	for _, decoded := range plain.decodings() {
		dense := decoded.dense()
		found = append(append(found, s.find(decoded, dense)...), s.cutOff(dense)...)
	}
	if len(found) == 0 {
		return text
	}
	return replace(text, found)
}

// A span is a part of the original text.
type span struct{ from, to int }

func replace(text string, found []span) string {
	slices.SortFunc(found, func(a, b span) int { return a.from - b.from })
	var out strings.Builder
	at := 0
	for i := 0; i < len(found); {
		from, to := found[i].from, found[i].to
		for i++; i < len(found) && found[i].from <= to; i++ {
			to = max(to, found[i].to)
		}
		out.WriteString(text[at:from])
		out.WriteString(hidden)
		at = to
	}
	out.WriteString(text[at:])
	return out.String()
}

// find returns where the secrets stand in a decoded text, which is given without white space too.
func (s Secrets) find(t, dense text) (found []span) {
	for _, code := range s.codes {
		for _, at := range places(t.s, code) {
			found = append(found, t.span(at.from, at.to))
		}
	}
	for _, secret := range s.texts {
		for at := 0; ; {
			i := strings.Index(dense.s[at:], secret)
			if i < 0 {
				break
			}
			found = append(found, dense.span(at+i, at+i+len(secret)))
			at += i + len(secret)
		}
	}
	return found
}

// places returns where a code stands alone in a text. Codes are of ASCII.
func places(text, code string) (found []span) {
	for i := range len(text) {
		if i > 0 && isDigit(text[i-1]) || !sameLetter(text[i], code[0]) {
			continue
		}
		if end := codeAt(text, i, code); end > 0 && (end == len(text) || !isDigit(text[end])) {
			found = append(found, span{i, end})
		}
	}
	return found
}

// codeAt returns where a code ends that begins at a place of a text; 0 for none.
func codeAt(text string, at int, code string) int {
	for n := range len(code) {
		for n > 0 && at < len(text) && (text[at] == ' ' || text[at] == '-') {
			at++
		}
		if at == len(text) || !sameLetter(text[at], code[n]) {
			return 0
		}
		at++
	}
	return at
}

func sameLetter(a, b byte) bool {
	if 'A' <= a && a <= 'Z' {
		a |= 0x20
	}
	if 'A' <= b && b <= 'Z' {
		b |= 0x20
	}
	return a == b
}

func isDigit(b byte) bool { return '0' <= b && b <= '9' }

// inBase64 returns the runs of base64 (RFC 4648 §4 and §5), across lines, in which a secret stands.
func (s Secrets) inBase64(dense text) (found []span) {
	for from := 0; from < len(dense.s); {
		to := from
		for to < len(dense.s) && inAlphabet(dense.s[to]) {
			to++
		}
		if to-from >= 8 && s.holds(dense.s[from:to], to == len(dense.s)) {
			found = append(found, dense.span(from, to))
		}
		from = to + 1
	}
	return found
}

func inAlphabet(b byte) bool {
	return isDigit(b) || 'a' <= b|0x20 && b|0x20 <= 'z' || strings.IndexByte("+/-_=", b) >= 0
}

// holds reports whether a secret stands in what a run of base64 says, from whichever of its characters it begins; of a
// last run also whether one begins at its end, where it may have been cut.
func (s Secrets) holds(run string, last bool) bool {
	run = strings.ReplaceAll(strings.ReplaceAll(run, "-", "+"), "_", "/")
	for part := range strings.SplitSeq(run, "=") { // padding ends one
		for skip := 0; skip < 4 && skip < len(part); skip++ {
			whole := part[skip:]
			whole = whole[:len(whole)-len(whole)%4]
			rest := part[skip+len(whole):]
			if len(rest) == 1 {
				rest = "" // no byte has six bits
			}
			said, err := base64.RawStdEncoding.DecodeString(whole + rest)
			if err == nil && (s.standIn(string(said)) || last && s.begun(string(said)) > 0) {
				return true
			}
		}
	}
	return false
}

// standIn reports whether a secret stands in a text.
func (s Secrets) standIn(said string) bool {
	for _, code := range s.codes {
		if len(places(said, code)) > 0 {
			return true
		}
	}
	dense := said
	if strings.ContainsAny(said, " \t\r\n") {
		dense = strings.Join(strings.Fields(said), "")
	}
	for _, secret := range s.texts {
		if strings.Contains(dense, secret) {
			return true
		}
	}
	if !strings.ContainsAny(said, escapes) {
		return false
	}
	return slices.ContainsFunc(read(said).decodings(), func(t text) bool { return len(s.find(t, t.dense())) > 0 })
}

// cutOff returns the beginning of a secret with which the text ends.
func (s Secrets) cutOff(dense text) []span {
	if n := s.begun(dense.s); n > 0 {
		return []span{dense.span(len(dense.s)-n, len(dense.s))}
	}
	return nil
}

// begun returns how many bytes of a secret a text ends with, if those are enough to mind: half of a code, or eight.
func (s Secrets) begun(said string) int {
	for _, code := range s.codes {
		for n := min(len(code)-1, len(said)); n > 0 && 2*n >= len(code); n-- {
			if at := len(said) - n; said[at:] == code[:n] && (at == 0 || !isDigit(said[at-1])) {
				return n
			}
		}
	}
	for _, secret := range s.texts {
		for n := min(len(secret)-1, len(said)); n >= 8; n-- {
			if strings.HasSuffix(said, secret[:n]) {
				return n
			}
		}
	}
	return 0
}
