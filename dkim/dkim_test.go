package dkim_test

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	msgdkim "github.com/emersion/go-msgauth/dkim"

	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/dkim"
)

func newKey(t *testing.T, selector string, private crypto.Signer) dkim.Key {
	t.Helper()
	k, err := dkim.ParseKey("ternisle.example", selector, pkcs8(t, private))
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func pkcs8(t *testing.T, private any) []byte {
	t.Helper()
	der, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
}

func rsaKey(t *testing.T, bits int) *rsa.PrivateKey {
	t.Helper()
	k, err := rsa.GenerateKey(rand.Reader, bits)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// python is Debian's, which has Debian's packages; another one in the PATH has not.
const python = "/usr/bin/python3"

// verifier is read by Python: it verifies every signature of a message with a library that
// shares no code with the signer, against the records it is given.
const verifier = `
import dkim, sys
raw = open(sys.argv[1], "rb").read()
records = dict(a.split("=", 1) for a in sys.argv[2:])
def txt(name, timeout=5):
    return records.get(name.decode().rstrip("."), "").encode()
d = dkim.DKIM(raw)
def good(i):
    try:
        return bool(d.verify(idx=i, dnsfunc=txt))
    except dkim.ValidationError:
        return False
n = sum(1 for name, _ in d.headers if name.lower() == b"dkim-signature")
print(n, [good(i) for i in range(n)])
`

// Letters signed with RSA and Ed25519 are accepted by another library's verifier; and if a byte
// of text or subject changes, or a second From or an unsubscribe field is added, they are not.
func TestAnotherVerifierAccepts(t *testing.T) {
	if out, err := exec.CommandContext(t.Context(), python, "-c", "import dkim, nacl").CombinedOutput(); err != nil {
		t.Fatalf("this test verifies with Python's dkim, which is not there (`make test` installs python3-dkim and python3-nacl): %s", out)
	}
	byRSA := newKey(t, "pier", rsaKey(t, 2048))
	byEd25519, _, err := dkim.GenerateKey("ternisle.example", "quay")
	if err != nil {
		t.Fatal(err)
	}
	signer, err := dkim.New(byRSA, byEd25519)
	if err != nil {
		t.Fatal(err)
	}
	records := []string{byRSA.String() + "=" + byRSA.Record(), byEd25519.String() + "=" + byEd25519.Record()}
	letter := signedLetter(t, signer)
	for _, tt := range []struct {
		name   string
		change func(string) string
		want   string
	}{
		{"as it left", func(s string) string { return s }, "2 [True, True]"},
		{"text changed", func(s string) string { return strings.Replace(s, "seven", "eight", 1) }, "2 [False, False]"},
		{"subject changed", func(s string) string { return strings.Replace(s, "Subject: ", "Subject: Re: ", 1) }, "2 [False, False]"},
		{"a second From", func(s string) string {
			return strings.Replace(s, "Subject: ", "From: eve@evil.example\r\nSubject: ", 1)
		}, "2 [False, False]"},
		{"a From above all others, which many readers show", func(s string) string { return "From: eve@evil.example\r\n" + s }, "2 [False, False]"},
		{"unsubscribe changed", func(s string) string {
			return strings.Replace(s, "https://ferry.example/u", "https://evil.example/u", 1)
		}, "2 [False, False]"},
		{"a Cc added", func(s string) string { return strings.Replace(s, "Subject: ", "Cc: eve@evil.example\r\nSubject: ", 1) }, "2 [False, False]"},
	} {
		path := filepath.Join(t.TempDir(), "letter.eml")
		changed := tt.change(letter)
		if tt.name != "as it left" && changed == letter {
			t.Fatalf("%s: nothing was changed", tt.name)
		}
		if err := os.WriteFile(path, []byte(changed), 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := exec.CommandContext(t.Context(), python, append([]string{"-c", verifier, path}, records...)...).CombinedOutput()
		if got := strings.TrimSpace(string(out)); err != nil || got != tt.want {
			t.Errorf("%s: %s, %v; want %s", tt.name, got, err, tt.want)
		}
	}
}

// A raw message is written in pieces of some bytes each.
type raw struct {
	text  string
	piece int
}

func (r raw) WriteTo(w io.Writer) (total int64, err error) {
	for rest := r.text; rest != "" && err == nil; rest = rest[min(r.piece, len(rest)):] {
		var n int
		n, err = io.WriteString(w, rest[:min(r.piece, len(rest))])
		total += int64(n)
	}
	return total, err
}

// Whatever a header is folded like and however a body ends, and in whatever pieces it is written, a second
// library accepts the signature; and does not if a field is put on top.
func TestAwkwardMessages(t *testing.T) {
	key, _, err := dkim.GenerateKey("ternisle.example", "quay")
	if err != nil {
		t.Fatal(err)
	}
	signer, err := dkim.New(key, newKey(t, "pier", rsaKey(t, 2048)))
	if err != nil {
		t.Fatal(err)
	}
	records := map[string]string{}
	for _, k := range signer.Keys() {
		records[k.String()] = k.Record()
	}
	accepted := func(message string) (good int) {
		all, err := msgdkim.VerifyWithOptions(strings.NewReader(message), &msgdkim.VerifyOptions{LookupTXT: func(name string) ([]string, error) { return []string{records[name]}, nil }})
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range all {
			if v.Err == nil {
				good++
			}
		}
		return good
	}
	for _, header := range []string{
		"From: a@ternisle.example\r\n", "FROM:\ta@ternisle.example \r\nSubject:\r\n one\r\n\t two  three \r\nX-Other: x\r\n",
		"Subject:\r\nTo: b@ternisle.example\r\nFrom: a@ternisle.example\r\nReferences: <" + strings.Repeat("x", 900) + ">\r\n",
	} {
		for _, body := range []string{"", "\r\n", "\r\n\r\n\r\n", "one", "one\r\n", "\r\n\r\none\r\n\r\n\r\ntwo \r\n\r\n\r\n", strings.Repeat("a line of words\r\n", 5000)} {
			for _, piece := range []int{1, 3, 7, 1 << 20} {
				message := header + "\r\n" + body
				fields, err := signer.Sign(raw{message, piece}, time.Now())
				if err != nil {
					t.Fatal(err)
				}
				for line := range strings.SplitSeq(fields, "\r\n") {
					if len(line) > 77 {
						t.Errorf("a line of %d bytes: %s", len(line), line)
					}
				}
				if got, onTop := accepted(fields+message), accepted("Subject: other\r\n"+fields+message); got != 2 || onTop != 0 {
					t.Errorf("%.40q, a body of %d bytes in pieces of %d: %d of 2 accepted, %d with another subject on top", header, len(body), piece, got, onTop)
				}
			}
		}
	}
	if _, err := signer.Sign(raw{"From: a@ternisle.example\r\n", 5}, time.Now()); err == nil {
		t.Error("a message without an end of its header was signed")
	}
}

func signedLetter(t *testing.T, signer *dkim.Signer) string {
	t.Helper()
	from, err := message.ParseAddress("crew@ternisle.example")
	if err != nil {
		t.Fatal(err)
	}
	m, err := message.Message{
		From: from, To: []message.Address{from}, Subject: "Überfahrt um sieben", Date: time.Now(), ID: "d-1@ternisle.example",
		Text: "The sailing is at seven.\n\n  Mind the gap.  \n\n\n", HTML: "<p>The sailing is at seven.</p>\n",
		Unsubscribe: &message.Unsubscribe{URL: "https://ferry.example/u?t=" + strings.Repeat("x", 120)},
		Attachments: []message.Part{message.BytesPart("a.bin", "", bytes.Repeat([]byte{7, 200}, 999))},
	}.Compose()
	if err != nil {
		t.Fatal(err)
	}
	fields, err := signer.Sign(m, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	raw, err := m.Bytes()
	if err != nil {
		t.Fatal(err)
	}
	return fields + string(raw)
}

func TestParseKeyRefuses(t *testing.T) {
	good := pkcs8(t, rsaKey(t, 2048))
	weak := pkcs8(t, rsaKey(t, 1024))
	for want, tt := range map[string]struct {
		domain, selector string
		file             []byte
	}{
		"1024 bits":                {"x.example", "s", weak},
		"not PEM":                  {"x.example", "s", []byte("hello")},
		"cannot be read":           {"x.example", "s", bytes.Replace(good, []byte("MII"), []byte("MMM"), 1)},
		"want a PRIVATE KEY":       {"x.example", "s", bytes.ReplaceAll(good, []byte("PRIVATE"), []byte("PUBLIC"))},
		"domain and selector":      {"", "s", good},
		"without spaces":           {"x.example; p=", "s", good},
		"key s._domainkey.x.examp": {"x.example", "s", nil},
	} {
		if _, err := dkim.ParseKey(tt.domain, tt.selector, tt.file); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("ParseKey = %v, want an error with %q", err, want)
		}
	}
	k, err := dkim.ParseKey("x.example", "s", good)
	if err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprintf("%v %+v %#v", k, k, k); got != "s._domainkey.x.example s._domainkey.x.example s._domainkey.x.example" {
		t.Errorf("a printed key shows %s", got)
	}
}
