// Attachments and inline parts: files inside a message.

package compose

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A Part is a file that travels with a message.
type Part struct {
	Name string // as the reader sees it; required
	Type string // media type, such as "text/csv; charset=utf-8"; empty means application/octet-stream
	ID   string // for inline parts: the HTML shows the part as cid:ID
	Size int64  // in bytes, exactly

	// Open returns the contents from their beginning. It is called once for each time the
	// message is written.
	Open func() (io.ReadCloser, error)
}

// BytesPart returns a part whose contents are in memory.
func BytesPart(name, mediaType string, contents []byte) Part {
	return Part{Name: name, Type: mediaType, Size: int64(len(contents)),
		Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(contents)), nil }}
}

// Check reports what is wrong with a part, or nil.
func (p Part) Check() error {
	_, err := p.header("attachment")
	return err
}

// header returns the part's own header.
func (p Part) header(disposition string) ([]byte, error) {
	switch {
	case strings.TrimSpace(p.Name) == "":
		return nil, errors.New("message: an attachment has no name")
	case utf8.RuneCountInString(p.Name) > 100 || !utf8.ValidString(p.Name):
		return nil, errors.New("message: an attachment's name is longer than 100 characters, or not valid UTF-8")
	case strings.ContainsFunc(p.Name, unicode.IsControl) || strings.ContainsAny(p.Name, `/\`):
		return nil, fmt.Errorf("message: the attachment name %q has a slash or a control character", p.Name)
	case p.Open == nil || p.Size < 0:
		return nil, fmt.Errorf("message: the attachment %q has no contents", p.Name)
	case disposition == "inline" && (p.ID == "" || strings.ContainsAny(p.ID, "<> \r\n\t")):
		return nil, fmt.Errorf("message: the inline part %q needs an ID without spaces and brackets", p.Name)
	}
	kind := p.Type
	if kind == "" {
		kind = "application/octet-stream"
	}
	base, params, err := mime.ParseMediaType(kind)
	if err != nil || !strings.Contains(base, "/") || strings.HasPrefix(base, "multipart/") {
		return nil, fmt.Errorf("message: the attachment %q has no usable media type", p.Name)
	}
	b := make([]byte, 0, 512)
	field := func(name, value string) {
		if err == nil {
			b, err = appendField(b, name, value)
		}
	}
	field("Content-Type", mime.FormatMediaType(base, params))
	// RFC 2231 where needed
	field("Content-Disposition", mime.FormatMediaType(disposition, map[string]string{"filename": p.Name}))
	if p.ID != "" {
		field("Content-ID", "<"+p.ID+">")
	}
	field("Content-Transfer-Encoding", "base64")
	return append(b, "\r\n"...), err
}

// lineBytes is how many bytes a line of base64 holds: 76 characters (RFC 2045 §6.8).
const lineBytes = 57

// encodedSize returns the size of n bytes in base64 with line ends.
func encodedSize(n int64) int64 {
	full, rest := n/lineBytes, n%lineBytes
	size := full * 78
	if rest > 0 {
		size += (rest+2)/3*4 + 2
	}
	return size
}

// writeTo writes the contents in base64.
func (p *Part) writeTo(w io.Writer) (written int64, err error) {
	r, err := p.Open()
	if err != nil {
		return 0, fmt.Errorf("message: the attachment %q: %w", p.Name, err)
	}
	defer r.Close()
	in := make([]byte, 128*lineBytes)
	out := make([]byte, 0, 128*78)
	left := p.Size
	for {
		n, err := io.ReadFull(r, in)
		left -= int64(n)
		if left < 0 || err != nil && left != 0 && (errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)) {
			return written, fmt.Errorf("message: the attachment %q has not the %d bytes that it said", p.Name, p.Size)
		}
		out = out[:0]
		for chunk := in[:n]; len(chunk) > 0; {
			line := chunk[:min(lineBytes, len(chunk))]
			out = base64.StdEncoding.AppendEncode(out, line)
			out = append(out, '\r', '\n')
			chunk = chunk[len(line):]
		}
		k, writeErr := w.Write(out)
		written += int64(k)
		switch {
		case writeErr != nil:
			return written, writeErr
		case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
			return written, nil
		case err != nil:
			return written, fmt.Errorf("message: the attachment %q: %w", p.Name, err)
		}
	}
}
