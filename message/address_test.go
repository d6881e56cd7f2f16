package message

import (
	"errors"
	"strings"
	"testing"
)

func TestParseAddress(t *testing.T) {
	for _, tt := range []struct{ in, envelope, mailbox string }{
		{"mara@ternisle.example", "mara@ternisle.example", "mara@ternisle.example"},
		{"  Mara.Quist+pier@TernIsle.Example ", "Mara.Quist+pier@ternisle.example", "mara.quist+pier@ternisle.example"},
		{"jens@fähre.example", "jens@xn--fhre-loa.example", "jens@xn--fhre-loa.example"},
		{"jörg@fähre.example", "jörg@xn--fhre-loa.example", "jörg@xn--fhre-loa.example"},
		{"a@ternisle.example.", "a@ternisle.example", "a@ternisle.example"},
		{"o'brien!#$%&*/=?^_`{|}~-@x.example", "o'brien!#$%&*/=?^_`{|}~-@x.example",
			"o'brien!#$%&*/=?^_`{|}~-@x.example"},
	} {
		a, err := ParseAddress(tt.in)
		if err != nil || a.Envelope() != tt.envelope || a.Mailbox() != tt.mailbox {
			t.Errorf("ParseAddress(%q) = %q, %q, %v", tt.in, a.Envelope(), a.Mailbox(), err)
		}
		if again, err := ParseAddress(a.String()); err != nil || again != a {
			t.Errorf("%q does not come back: %v %v", a.String(), again, err)
		}
	}
	for _, tt := range []struct{ in, why string }{
		{"", "empty"},
		{"mara", "no @"},
		{"mara@", "domain after the @"},
		{"@ternisle.example", "before the @"},
		{"mara@pier", "full domain"},
		{"mara@[192.0.2.1]", "full domain"},
		{"mara@-x.example", "full domain"},
		{"mara@a..example", "full domain"},
		{"mara@ternisle.example\nBcc: all@ternisle.example", "line break"},
		{"mara@ternisle.example\r\n", "line break"},
		{"ma ra@ternisle.example", "space"},
		{"ma\u200bra@ternisle.example", "invisible"},
		{"mara,jens@ternisle.example", `','`},
		{"<mara@ternisle.example>", `'<'`},
		{`"mara quist"@ternisle.example`, "space"},
		{`"mara"@ternisle.example`, "quoted"},
		{".mara@ternisle.example", "dot at its edge"},
		{"ma..ra@ternisle.example", "two in a row"},
		{"mara@x@ternisle.example", `'@'`},
		{strings.Repeat("a", 65) + "@ternisle.example", "65 bytes"},
		{"mara@" + strings.Repeat("a.", 144) + "example", "300 bytes"},
		{"mara@\xff.example", "UTF-8"},
	} {
		_, err := ParseAddress(tt.in)
		if !errors.Is(err, ErrAddress) || !strings.Contains(err.Error(), tt.why) {
			t.Errorf("ParseAddress(%q) = %v, want a refusal with %q", tt.in, err, tt.why)
		}
	}
}

func TestWithName(t *testing.T) {
	a, _ := ParseAddress("mara@ternisle.example")
	for _, name := range []string{"Mara\nBcc: x@y.example", "Mara\r", "Mara\x00", "Mara\u2028",
		strings.Repeat("m", 201), "M\xff"} {
		if _, err := a.WithName(name); !errors.Is(err, ErrAddress) {
			t.Errorf("WithName(%q) = %v, want a refusal", name, err)
		}
	}
	if b, err := a.WithName(` Mara "Tern" ⛴️ `); err != nil || b.Name != `Mara "Tern" ⛴️` {
		t.Errorf("WithName = %q, %v", b.Name, err)
	}
}

func FuzzParseAddress(f *testing.F) {
	f.Add("Mara.Quist+pier@TernIsle.Example")
	f.Add("jörg@fähre.example")
	f.Fuzz(func(t *testing.T, in string) {
		a, err := ParseAddress(in)
		if err != nil {
			return
		}
		if strings.ContainsAny(a.Envelope(), " \t\r\n<>,;:\"\\") || len(a.Envelope()) > maxAddress {
			t.Errorf("%q became the envelope %q", in, a.Envelope())
		}
		if again, err := ParseAddress(a.Envelope()); err != nil || again.Mailbox() != a.Mailbox() {
			t.Errorf("%q: envelope %q is read back as %q, %v", in, a.Envelope(), again.Mailbox(), err)
		}
	})
}

// What limits count as one mailbox: by the convention of its domain, whatever way it is written.
func TestCanonical(t *testing.T) {
	for given, want := range map[string]string{
		"Mara.Quist+news@ternisle.example": "mara.quist@ternisle.example",
		"m.a.r.a+x@googlemail.com":         "mara@gmail.com",
		"mara-shop@yahoo.com":              "mara@yahoo.com",
		"rene\u0301@ternisle.example":      "ren\u00e9@ternisle.example",
		"+x@ternisle.example":              "+x@ternisle.example",
	} {
		a, err := ParseAddress(given)
		if err != nil || a.Canonical(nil) != want {
			t.Errorf("%q counts as %q, want %q, %v", given, a.Canonical(nil), want, err)
		}
	}
	own := map[string]Convention{"gmail.com": {}}
	if a, _ := ParseAddress("m.ara@gmail.com"); a.Canonical(own) != "m.ara@gmail.com" {
		t.Errorf("the application's own convention does not come first: %s", a.Canonical(own))
	}
}
