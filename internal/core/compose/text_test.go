package compose

import (
	"bytes"
	"io"
	"mime/quotedprintable"
	"strings"
	"testing"
)

// What appendQuoted writes is read back by the standard library's reader, in lines that are short
// enough, and with no byte that may not stand there.
func FuzzQuoted(f *testing.F) {
	f.Add("Grüße \n\tx= \n" + strings.Repeat("long ", 40) + strings.Repeat("ü", 40) + " ")
	f.Add(strings.Repeat("a", 75) + "=\n" + strings.Repeat("b", 76) + "\n" + strings.Repeat("c", 77))
	f.Add("\x00\xff.\n.\n\n")
	f.Fuzz(func(t *testing.T, body string) {
		if strings.Contains(body, "\r") {
			return // bare line feeds only
		}
		encoded := appendQuoted(nil, body)
		for line := range bytes.SplitSeq(encoded, []byte("\r\n")) {
			if len(line) > 76 || bytes.HasSuffix(line, []byte(" ")) || bytes.HasSuffix(line, []byte("\t")) ||
				bytes.ContainsFunc(line, func(r rune) bool { return r != '\t' && (r < ' ' || r > '~') }) {
				t.Fatalf("bad line %q of %q", line, body)
			}
		}
		got, err := io.ReadAll(quotedprintable.NewReader(bytes.NewReader(encoded)))
		if want := strings.ReplaceAll(body, "\n", "\r\n"); err != nil || string(got) != want {
			t.Fatalf("%q became %q and came back as %q, %v", body, encoded, got, err)
		}
	})
}
