package compose

import (
	"errors"

	"github.com/illumicode/illumicode/internal/ascii"

	"bytes"
	"encoding/base64"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/message"
)

func address(tb testing.TB, addr, name string) message.Address {
	tb.Helper()
	a, err := message.ParseAddress(addr)
	if err == nil {
		a, err = a.WithName(name)
	}
	if err != nil {
		tb.Fatal(err)
	}
	return a
}

func sample(tb testing.TB) Message {
	return Message{
		From:    address(tb, "crew@ternisle.example", "Tern Isle Ferry"),
		To:      []message.Address{address(tb, "mara@ternisle.example", "")},
		Subject: "Confirm your address", Date: time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC), ID: "d-1@ternisle.example",
		Text: "Hello.\n", HTML: "<p>Hello.</p>\n",
	}
}

// What awkward values become is read back with the standard library's own readers, which share
// no code with Compose but for the quoted-printable alphabet.
func TestComposeRoundTrip(t *testing.T) {
	long := strings.Repeat("harbour ", 200)
	for _, tt := range []struct{ name, subject, toName, text string }{
		{"plain", "Confirm your address", "Mara Quist", "Hello\n"},
		{"quotes", `The "Ysolt" \ storm`, `Mara "Tern" \ Quist`, "a\n\nb\n"},
		{"umlauts", "Bestätigen Sie Ihre Adresse für die Überfahrt nach Törnholm, bitte sehr", "Jörg Öhlén", "Grüße\n"},
		{"emoji", "⛴️ " + strings.Repeat("Überfahrt ", 30), "Mara ⛴️", "⛴️\n"},
		{"an encoded word typed by hand", "=?utf-8?q?hello?=", "=?utf-8?q?x?=", "=?utf-8?q?hello?=\n"},
		{"long words", strings.Repeat("x", 500), strings.Repeat("y", 180), strings.Repeat("z", 5000) + "\n"},
		{"long text", long[:900], "Mara", long + "\n" + long},
		{"comma and brackets", "a, b; <c>", "Quist, Mara (pier) <x@y.example>", "..\n.\n.a\n"},
		{"space at line ends", "s", "n", "a \nb\t\n"},
		{"a boundary in the text", "s", "n", "--=_" + strings.Repeat("0", 24) + "--\n"},
		{"From at a line's start", "s", "n", "From here\n"},
	} {
		m := sample(t)
		m.Subject, m.Text = tt.subject, tt.text
		m.To = []message.Address{address(t, "mara@ternisle.example", tt.toName)}
		raw, err := source(m)
		if err != nil {
			t.Errorf("%s: %v", tt.name, err)
			continue
		}
		if again, _ := source(m); !bytes.Equal(raw, again) {
			t.Errorf("%s: two compositions differ", tt.name)
		}
		for line := range strings.SplitSeq(string(raw), "\r\n") {
			if len(line) > 78 || strings.ContainsAny(line, "\r\n") || !ascii.Only(line) {
				t.Errorf("%s: bad line %q", tt.name, line)
			}
		}
		if !bytes.Contains(raw, []byte("\r\nAuto-Submitted: auto-generated\r\n")) {
			t.Errorf("%s: a robot may answer it", tt.name)
		}
		got, err := mail.ReadMessage(bytes.NewReader(raw))
		if err != nil {
			t.Errorf("%s: %v", tt.name, err)
			continue
		}
		subject, err := new(mime.WordDecoder).DecodeHeader(got.Header.Get("Subject"))
		if strings.TrimSpace(subject) != strings.TrimSpace(tt.subject) {
			t.Errorf("%s: subject came back as %q, %v", tt.name, subject, err)
		}
		to, err := got.Header.AddressList("To")
		if err != nil || len(to) != 1 || to[0].Name != tt.toName {
			t.Errorf("%s: To came back as %v, %v", tt.name, to, err)
		}
		text, html := parts(t, got)
		if text != tt.text || html != m.HTML {
			t.Errorf("%s: parts came back as %.80q and %.80q", tt.name, text, html)
		}
	}
}

// parts returns the decoded text and HTML parts, with bare line feeds.
func parts(t *testing.T, m *mail.Message) (text, html string) {
	t.Helper()
	_, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil {
		t.Fatal(err)
	}
	r := multipart.NewReader(m.Body, params["boundary"])
	var got []string
	for {
		p, err := r.NextRawPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		var body io.Reader = p
		switch p.Header.Get("Content-Transfer-Encoding") {
		case "quoted-printable":
			body = quotedprintable.NewReader(p)
		case "base64":
			body = base64.NewDecoder(base64.StdEncoding, p)
		}
		b, err := io.ReadAll(body)
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, strings.ReplaceAll(string(b), "\r\n", "\n"))
	}
	if len(got) != 2 {
		t.Fatalf("%d parts, want 2", len(got))
	}
	return got[0], got[1]
}

func source(m Message) ([]byte, error) {
	c, err := m.Compose()
	if err != nil {
		return nil, err
	}
	return c.Bytes()
}

func TestComposeRefuses(t *testing.T) {
	for name, spoil := range map[string]func(*Message){
		"no text":                 func(m *Message) { m.Text = " \n" },
		"no subject":              func(m *Message) { m.Subject = "" },
		"no recipient":            func(m *Message) { m.To = nil },
		"an empty recipient":      func(m *Message) { m.To = []message.Address{{}} },
		"a crowd":                 func(m *Message) { m.Cc = make([]message.Address, 1000) },
		"line break in Subject":   func(m *Message) { m.Subject = "a\r\nBcc: all@ternisle.example" },
		"line break in the ID":    func(m *Message) { m.ID = "a>\r\nX: y" },
		"line break in Thread":    func(m *Message) { m.Thread = "a>\r\nX: y" },
		"a name set past its own": func(m *Message) { m.To[0].Name = "a\r\nBcc: all@ternisle.example" },
		"line break in a field": func(m *Message) {
			m.Headers = []message.Field{{Name: "X-Pier", Value: "a\r\nBcc: x"}}
		},
		"a field named Bcc": func(m *Message) {
			m.Headers = []message.Field{{Name: "Bcc", Value: "x@y.example"}}
		},
		"a field with a colon":     func(m *Message) { m.Headers = []message.Field{{Name: "X-A: b", Value: "c"}} },
		"unsubscribe in the clear": func(m *Message) { m.Unsubscribe = &Unsubscribe{URL: "http://ferry.example/u"} },
		"unsubscribe with a break": func(m *Message) {
			m.Unsubscribe = &Unsubscribe{URL: "https://ferry.example/u\r\nBcc: x"}
		},
		"a nameless attachment":  func(m *Message) { m.Attachments = []Part{BytesPart("", "", nil)} },
		"a path for a name":      func(m *Message) { m.Attachments = []Part{BytesPart("../../etc/passwd", "", nil)} },
		"a type that is none":    func(m *Message) { m.Attachments = []Part{BytesPart("a", "text", nil)} },
		"an inline part unnamed": func(m *Message) { m.Inline = []Part{BytesPart("a.png", "image/png", nil)} },
		"a shorter file": func(m *Message) {
			p := BytesPart("a", "", []byte("abc"))
			p.Size = 4
			m.Attachments = []Part{p}
		},
		"a longer file": func(m *Message) {
			p := BytesPart("a", "", []byte("abc"))
			p.Size = 2
			m.Attachments = []Part{
				p}
		},
	} {
		m := sample(t)
		spoil(&m)
		if raw, err := source(m); err == nil {
			t.Errorf("%s: composed:\n%s", name, raw)
		}
	}
}

// Ten megabytes go through in pieces: what is allocated does not grow with the attachment.
func TestAttachmentInConstantMemory(t *testing.T) {
	m := sample(t)
	const size = 10 << 20
	m.Attachments = []Part{{Name: "chart.bin", Size: size, Open: func() (io.ReadCloser, error) {
		return io.NopCloser(io.LimitReader(zeros{}, size)), nil
	}}}
	c, err := m.Compose()
	if err != nil {
		t.Fatal(err)
	}
	var n int64
	got := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			n, err = c.WriteTo(io.Discard)
		}
	})
	if err != nil || n != c.Size() || n < size*4/3 {
		t.Errorf("WriteTo = %d, %v; Size said %d", n, err, c.Size())
	}
	if perOp := got.AllocedBytesPerOp(); perOp > 64<<10 {
		t.Errorf("%d bytes allocated for each writing", perOp)
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

func TestSegments(t *testing.T) {
	for _, tt := range []struct {
		text     string
		segments int
		gsm      bool
	}{
		{"", 1, true},
		{strings.Repeat("a", 160), 1, true},
		{strings.Repeat("a", 161), 2, true},
		{strings.Repeat("a", 306), 2, true},
		{strings.Repeat("a", 307), 3, true},
		{strings.Repeat("€", 80), 1, true},
		{strings.Repeat("€", 81), 2, true},
		{"Überfahrt für 3 £", 1, true},
		{strings.Repeat("я", 70), 1, false},
		{strings.Repeat("я", 71), 2, false},
		{strings.Repeat("⛴", 70), 1, false},
		{strings.Repeat("🌊", 36), 2, false}, // two units each
	} {
		if n, gsm := Segments(tt.text); n != tt.segments || gsm != tt.gsm {
			t.Errorf("Segments(%.20q…) = %d, %v; want %d, %v", tt.text, n, gsm, tt.segments, tt.gsm)
		}
	}
}
