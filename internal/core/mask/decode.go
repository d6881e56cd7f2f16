package mask

import (
	"html"
	"strconv"
	"strings"
)

// A text is what some original says when it is decoded, and where each of its bytes comes from.
type text struct {
	s    string
	from []int // of each byte, where it begins in the original
	to   []int // and where it ends
}

// read returns the original itself.
func read(original string) text {
	t := text{s: original, from: make([]int, len(original)), to: make([]int, len(original))}
	for i := range len(original) {
		t.from[i], t.to[i] = i, i+1
	}
	return t
}

// span returns where a part comes from.
func (t text) span(from, to int) span { return span{t.from[from], t.to[to-1]} }

// A builder makes a text of parts of another.
type builder struct {
	of   text
	s    strings.Builder
	from []int
	to   []int
}

// add adds what the bytes from i to j mean.
func (b *builder) add(meaning string, i, j int) {
	b.s.WriteString(meaning)
	for range len(meaning) {
		b.from, b.to = append(b.from, b.of.from[i]), append(b.to, b.of.to[j-1])
	}
}

func (b *builder) text() text { return text{b.s.String(), b.from, b.to} }

// dense returns the text without white space: lines are folded anywhere, and no secret has any.
func (t text) dense() text {
	if !strings.ContainsAny(t.s, " \t\r\n") {
		return t
	}
	b := builder{of: t, from: make([]int, 0, len(t.s)), to: make([]int, 0, len(t.s))}
	b.s.Grow(len(t.s))
	for i := range len(t.s) {
		switch t.s[i] {
		case ' ', '\t', '\r', '\n':
		default:
			b.add(t.s[i:i+1], i, i+1)
		}
	}
	return b.text()
}

// A decoder returns what the text at its beginning means, and how many bytes say so; 0 for no escape.
type decoder func(s string) (meaning string, n int)

// escapes are what an escape begins with.
const escapes = `\%+&=`

// decodings returns what the text says as each way of writing that peers use, and as JSON that holds the others; none
// where nothing is escaped.
func (t text) decodings() (all []text) {
	if !strings.ContainsAny(t.s, escapes) {
		return nil
	}
	plain := []text{t}
	if unquoted, any := t.decode(fromJSON); any {
		plain, all = append(plain, unquoted), append(all, unquoted)
	}
	for _, one := range plain {
		for _, d := range []decoder{fromURL, fromForm, fromHTML, fromQuotedPrintable} {
			if decoded, any := one.decode(d); any {
				all = append(all, decoded)
			}
		}
	}
	return all
}

// decode returns the text with its escapes read, and whether there are any.
func (t text) decode(d decoder) (_ text, any bool) {
	b := builder{of: t}
	for i := 0; i < len(t.s); {
		meaning, n := d(t.s[i:])
		if n == 0 {
			meaning, n = t.s[i:i+1], 1
		} else {
			any = true
		}
		b.add(meaning, i, i+n)
		i += n
	}
	return b.text(), any
}

func hexByte(s string) (string, bool) {
	if len(s) < 2 {
		return "", false
	}
	n, err := strconv.ParseUint(s[:2], 16, 8)
	return string([]byte{byte(n)}), err == nil
}

// fromURL reads %2F (RFC 3986 §2.1).
func fromURL(s string) (string, int) {
	if s[0] == '%' {
		if b, ok := hexByte(s[1:]); ok {
			return b, 3
		}
	}
	return "", 0
}

// fromForm is fromURL where a plus is a space (WHATWG URL, application/x-www-form-urlencoded).
func fromForm(s string) (string, int) {
	if s[0] == '+' {
		return " ", 1
	}
	return fromURL(s)
}

// fromQuotedPrintable reads =2F and soft line breaks (RFC 2045 §6.7), also where a line break has become a space.
func fromQuotedPrintable(s string) (string, int) {
	if s[0] != '=' {
		return "", 0
	}
	if b, ok := hexByte(s[1:]); ok {
		return b, 3
	}
	n := 1
	for n < len(s) && (s[n] == '\r' || s[n] == '\n' || s[n] == ' ') {
		n++
	}
	if n == 1 {
		return "", 0
	}
	return "", n
}

// fromHTML reads &amp;, &#47; and &#x2F;.
func fromHTML(s string) (string, int) {
	if s[0] != '&' {
		return "", 0
	}
	end := strings.IndexByte(s[:min(len(s), 12)], ';')
	if end < 0 {
		return "", 0
	}
	if said := html.UnescapeString(s[:end+1]); said != s[:end+1] {
		return said, end + 1
	}
	return "", 0
}

// fromJSON reads \/, \" and \u002F (RFC 8259 §7).
func fromJSON(s string) (string, int) {
	if s[0] != '\\' || len(s) < 2 {
		return "", 0
	}
	switch s[1] {
	case '/', '"', '\\':
		return s[1:2], 2
	case 'n', 'r', 't':
		return "\n", 2
	case 'u':
		if len(s) >= 6 {
			if n, err := strconv.ParseUint(s[2:6], 16, 16); err == nil {
				return string(rune(n)), 6
			}
		}
	}
	return "", 0
}
