package report

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"errors"
	"io"
	"mime"
	"mime/quotedprintable"
	"strings"
	"unicode/utf8"

	"github.com/illumicode/illumicode/internal/strange"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/htmlindex"
)

// maxBlock bounds header and status fields that are read, in bytes; what is beyond is skipped.
const maxBlock = 64 << 10

// fields are header fields by name in small letters. Of several, the first counts.
type fields map[string]string

// readFields reads fields, in a charset, up to an empty line, or with io.EOF to the end. After any other
// error the last of them may be missing. Lines that are no fields are passed over: reports come from
// programs of all ages.
func readFields(r *bufio.Reader, charset string) (fields, error) {
	f := make(fields)
	name := ""
	for left := maxBlock; ; {
		line, err := r.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) { // its beginning is enough
			line = bytes.Clone(line)
			for errors.Is(err, bufio.ErrBufferFull) {
				_, err = r.ReadSlice('\n')
			}
		}
		text := inUTF8(bytes.TrimRight(line, "\r\n"), charset)
		if err != nil && !errors.Is(err, io.EOF) || text == "" {
			return f, err
		}
		if left -= len(text); left > 0 {
			name = f.add(name, text)
		}
		if err != nil {
			return f, err
		}
	}
}

// add takes one line and returns the field that a continuation would belong to.
func (f fields) add(last, line string) string {
	if line[0] == ' ' || line[0] == '\t' {
		if last != "" {
			f[last] += " " + strings.TrimSpace(line)
		}
		return last
	}
	name, value, ok := strings.Cut(line, ":")
	name = strings.ToLower(strings.TrimSpace(name))
	if _, seen := f[name]; !ok || seen || name == "" || strings.ContainsAny(name, " \t") {
		return ""
	}
	f[name] = strings.TrimSpace(value)
	return name
}

// typed returns the value of a field of the form "type; value" (RFC 3464 §2.1.2).
func (f fields) typed(name string) string {
	kind, value, ok := strings.Cut(f[name], ";")
	if !ok {
		return strings.TrimSpace(kind)
	}
	return strings.TrimSpace(value)
}

// contentType returns the type of a part and its parameters. What cannot be read is text.
func (f fields) contentType() (string, map[string]string) {
	kind, params, err := mime.ParseMediaType(f["content-type"])
	if err != nil && kind == "" {
		return "text/plain", nil
	}
	return kind, params
}

// decoded undoes a part's transfer encoding (RFC 2045 §6).
func (f fields) decoded(r io.Reader) io.Reader {
	switch strings.ToLower(f["content-transfer-encoding"]) {
	case "base64":
		return base64.NewDecoder(base64.StdEncoding, r)
	case "quoted-printable":
		return quotedprintable.NewReader(r)
	}
	return r
}

// inUTF8 returns bytes of a stated charset as UTF-8. What is not in its charset, or in one that is not
// known, is read as windows-1252, in which every byte is something.
func inUTF8(raw []byte, charset string) string {
	if enc, err := htmlindex.Get(charset); err == nil {
		if out, err := enc.NewDecoder().Bytes(raw); err == nil {
			return string(out)
		}
	}
	if utf8.Valid(raw) {
		return string(raw)
	}
	out, err := charmap.Windows1252.NewDecoder().Bytes(raw)
	if err != nil {
		return strings.ToValidUTF8(string(raw), "\uFFFD")
	}
	return string(out)
}

var words = mime.WordDecoder{CharsetReader: func(charset string, r io.Reader) (io.Reader, error) {
	raw, err := io.ReadAll(io.LimitReader(r, maxBlock))
	return strings.NewReader(inUTF8(raw, charset)), err
}}

// oneLine makes a text of strangers fit for a log line and a table.
func oneLine(s string) string {
	if decoded, err := words.DecodeHeader(s); err == nil {
		s = decoded
	}
	return strange.Line(inUTF8([]byte(s), ""))
}

// bare returns an address without angle brackets or source route.
func bare(s string) string {
	s = strings.TrimSpace(s)
	if i := strings.LastIndexByte(s, '<'); i >= 0 {
		s, _, _ = strings.Cut(s[i+1:], ">")
	}
	return strings.TrimSpace(s)
}
