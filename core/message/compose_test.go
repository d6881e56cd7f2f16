package message

import (
	"bytes"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"strings"
	"testing"
	"time"
)

func address(tb testing.TB, addr, name string) Address {
	tb.Helper()
	a, err := ParseAddress(addr)
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
		From: address(tb, "crew@ternisle.example", "Tern Isle Ferry"), To: address(tb, "mara@ternisle.example", ""),
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
		{"quotes", `The "Odile" \ storm`, `Mara "Tern" \ Quist`, "a\n\nb\n"},
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
		m.To = address(t, "mara@ternisle.example", tt.toName)
		raw, err := m.Compose()
		if err != nil {
			t.Errorf("%s: %v", tt.name, err)
			continue
		}
		if again, _ := m.Compose(); !bytes.Equal(raw, again) {
			t.Errorf("%s: two compositions differ", tt.name)
		}
		for line := range strings.SplitSeq(string(raw), "\r\n") {
			if len(line) > 78 || strings.ContainsAny(line, "\r\n") || !isASCII(line) {
				t.Errorf("%s: bad line %q", tt.name, line)
			}
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
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		var body io.Reader = p
		if p.Header.Get("Content-Transfer-Encoding") == "quoted-printable" {
			body = quotedprintable.NewReader(p)
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

func TestComposeRefuses(t *testing.T) {
	for name, spoil := range map[string]func(*Message){
		"no text":                 func(m *Message) { m.Text = " \n" },
		"no subject":              func(m *Message) { m.Subject = "" },
		"no recipient":            func(m *Message) { m.To = Address{} },
		"line break in Subject":   func(m *Message) { m.Subject = "a\r\nBcc: all@ternisle.example" },
		"line break in the ID":    func(m *Message) { m.ID = "a>\r\nX: y" },
		"a name set past its own": func(m *Message) { m.To.Name = "a\r\nBcc: all@ternisle.example" },
	} {
		m := sample(t)
		spoil(&m)
		if raw, err := m.Compose(); err == nil {
			t.Errorf("%s: composed:\n%s", name, raw)
		}
	}
}
