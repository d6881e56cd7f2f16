package otp

import (
	"crypto/hmac"
	"crypto/sha1"
	"encoding/binary"
	"errors"
	"fmt"
	"testing"
)

// RFC 4226 appendix D: the truncation, over the HMAC-SHA-1 of the published vectors.
func TestTruncateVectors(t *testing.T) {
	for count, want := range []uint32{1284755224, 1094287082, 137359152, 1726969429, 1640338314,
		868254676, 1918287922, 82162583, 673399871, 645520489} {
		m := hmac.New(sha1.New, []byte("12345678901234567890"))
		binary.Write(m, binary.BigEndian, uint64(count))
		if got := truncate(m.Sum(nil)); got != want {
			t.Errorf("count %d: %d, want %d", count, got, want)
		}
	}
}

func TestDeriveSeparates(t *testing.T) {
	base := Derive([]byte("key"), "c-1", 1, 9)
	if again := Derive([]byte("key"), "c-1", 1, 9); again != base {
		t.Errorf("the same arguments gave %s and %s", base, again)
	}
	for what, other := range map[string]string{
		"another key":        Derive([]byte("kez"), "c-1", 1, 9),
		"another challenge":  Derive([]byte("key"), "c-2", 1, 9),
		"another generation": Derive([]byte("key"), "c-1", 2, 9),
	} {
		if other == base {
			t.Errorf("%s gave the same code", what)
		}
	}
}

// Leading digits come up about equally often: the code space is used, not a corner of it.
func TestDeriveSpreads(t *testing.T) {
	var first [10]int
	for i := range 10_000 {
		first[Derive([]byte("key"), fmt.Sprint(i), 1, 6)[0]-'0']++
	}
	for d, n := range first {
		if n < 850 || n > 1150 { // 1000 expected, five standard deviations
			t.Errorf("leading digit %d came up %d times in 10000", d, n)
		}
	}
}

func TestParse(t *testing.T) {
	for _, tt := range []struct{ typed, want string }{
		{"482913", "482913"},
		{" 482 913\n", "482913"},
		{"482-913", "482913"},
		{"482\u2013913", "482913"}, // an en dash, as autocorrection makes it
		{"482\u00a0913", "482913"}, // a no-break space, as copied from a page
		{"４８２９１３", "482913"},       // full-width
		{"٤٨٢٩١٣", "482913"},       // Arabic-Indic
		{"𝟘𝟙𝟚𝟛𝟠𝟡", "012389"},       // mathematical digits stand in runs of fifty
		{"000000", "000000"},
		{"48291", ""}, {"4829133", ""}, {"", ""}, {"48291a", ""}, {"482913;--", ""}, {"+482913", ""},
	} {
		got, err := Parse(tt.typed, 6)
		if got != tt.want || (err != nil) != (tt.want == "") || err != nil && !errors.Is(err, ErrNotACode) {
			t.Errorf("Parse(%q) = %q, %v; want %q", tt.typed, got, err, tt.want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("482 913")
	f.Add("４８２－９１３")
	f.Fuzz(func(t *testing.T, typed string) {
		code, err := Parse(typed, 6)
		if err != nil {
			return
		}
		if again, err := Parse(Format(code), 6); err != nil || again != code {
			t.Errorf("Parse(Format(%q)) = %q, %v", code, again, err)
		}
	})
}

func ExampleFormat() {
	fmt.Println(Format("482913"), "|", Format("4829130"), "|", Format("482913075"))
	// Output: 482 913 | 4829 130 | 482 913 075
}

// Only the whole code is the code.
func TestEqual(t *testing.T) {
	for given, want := range map[string]bool{"482913": true, "482914": false, "48291": false, "4829130": false,
		"": false} {
		if Equal("482913", given) != want {
			t.Errorf("Equal(482913, %q) = %v", given, !want)
		}
	}
}
