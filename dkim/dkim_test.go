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
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/dkim"
	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/message"
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

// verifier is read by Python: it verifies every signature of each message of a folder with a library
// that shares no code with the signer, against the records it is given.
const verifier = `
import dkim, os, sys
records = dict(a.split("=", 1) for a in sys.argv[2:])
def txt(name, timeout=5):
    return records.get(name.decode().rstrip("."), "").encode()
def good(d, i):
    try:
        return bool(d.verify(idx=i, dnsfunc=txt))
    except dkim.ValidationError:
        return False
for file in sorted(os.listdir(sys.argv[1])):
    d = dkim.DKIM(open(os.path.join(sys.argv[1], file), "rb").read())
    n = sum(1 for name, _ in d.headers if name.lower() == b"dkim-signature")
    print(n, [good(d, i) for i in range(n)])
`

// verified returns what the verifier says of each message.
func verified(t *testing.T, signer *dkim.Signer, messages []string) []string {
	t.Helper()
	if out, err := exec.CommandContext(t.Context(), python, "-c", "import dkim, nacl").CombinedOutput(); err != nil {
		t.Fatalf("this test verifies with Python's dkim, which is not there (`make test` installs python3-dkim and "+
			"python3-nacl): %s", out)
	}
	folder := t.TempDir()
	for i, m := range messages {
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("%03d.eml", i)), []byte(m), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	args := []string{"-c", verifier, folder}
	for _, k := range signer.Keys() {
		args = append(args, k.String()+"="+k.Record())
	}
	out, err := exec.CommandContext(t.Context(), python, args...).CombinedOutput()
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	if err != nil || len(lines) != len(messages) {
		t.Fatalf("%v: %s", err, out)
	}
	return lines
}

func newSigner(t *testing.T) *dkim.Signer {
	t.Helper()
	byEd25519, _, err := dkim.GenerateKey("ternisle.example", "quay")
	if err != nil {
		t.Fatal(err)
	}
	signer, err := dkim.New(newKey(t, "pier", rsaKey(t, 2048)), byEd25519)
	if err != nil {
		t.Fatal(err)
	}
	return signer
}

// Letters signed with RSA and Ed25519 are accepted by another library's verifier; and if a byte
// of text or subject changes, or a second From or an unsubscribe field is added, they are not.
func TestAnotherVerifierAccepts(t *testing.T) {
	signer := newSigner(t)
	letter := signedLetter(t, signer)
	tests := []struct {
		name   string
		change func(string) string
		want   string
	}{
		{"as it left", func(s string) string { return s }, "2 [True, True]"},
		{"text changed", func(s string) string { return strings.Replace(s, "seven", "eight", 1) }, "2 [False, False]"},
		{"subject changed", func(s string) string { return strings.Replace(s, "Subject: ", "Subject: Re: ", 1) },
			"2 [False, False]"},
		{"a second From", func(s string) string {
			return strings.Replace(s, "Subject: ", "From: eve@evil.example\r\nSubject: ", 1)
		}, "2 [False, False]"},
		{"a From above all others, which many readers show",
			func(s string) string { return "From: eve@evil.example\r\n" + s }, "2 [False, False]"},
		{"unsubscribe changed", func(s string) string {
			return strings.Replace(s, "https://ferry.example/u", "https://evil.example/u", 1)
		}, "2 [False, False]"},
		{"a Cc added",
			func(s string) string { return strings.Replace(s, "Subject: ", "Cc: eve@evil.example\r\nSubject: ", 1) },
			"2 [False, False]"},
	}
	var changed []string
	for _, tt := range tests {
		changed = append(changed, tt.change(letter))
		if tt.name != "as it left" && changed[len(changed)-1] == letter {
			t.Fatalf("%s: nothing was changed", tt.name)
		}
	}
	for i, got := range verified(t, signer, changed) {
		if got != tests[i].want {
			t.Errorf("%s: %s, want %s", tests[i].name, got, tests[i].want)
		}
	}
}

// A raw message can be read more than once.
type raw string

func (r raw) WriteTo(w io.Writer) (int64, error) {
	n, err := io.WriteString(w, string(r))
	return int64(n), err
}

// Whatever a header is folded like and however a body ends, another library accepts the signatures; and
// does not if a field is put on top.
func TestAwkwardMessages(t *testing.T) {
	signer := newSigner(t)
	var messages []string
	for _, header := range []string{
		"From: a@ternisle.example\r\n",
		"FROM:\ta@ternisle.example \r\nSubject:\r\n one\r\n\t two  three \r\nX-Other: x\r\n",
		"Subject:\r\nTo: b@ternisle.example\r\nFrom: a@ternisle.example\r\nReferences: <" + strings.Repeat("x", 900) +
			">\r\n",
	} {
		for _, body := range []string{"", "\r\n", "\r\n\r\n\r\n", "one", "one\r\n",
			"\r\n\r\none\r\n\r\n\r\ntwo \r\n\r\n\r\n", strings.Repeat("a line of words\r\n", 5000)} {
			message := header + "\r\n" + body
			fields, err := signer.Sign(raw(message))
			if err != nil {
				t.Fatal(err)
			}
			for line := range strings.SplitSeq(fields, "\r\n") {
				if len(line) > 998 { // RFC 5322 §2.1.1
					t.Errorf("a line of %d bytes: %s", len(line), line)
				}
			}
			messages = append(messages, fields+message, "Subject: other\r\n"+fields+message)
		}
	}
	for i, got := range verified(t, signer, messages) {
		if want := []string{"2 [True, True]", "2 [False, False]"}[i%2]; got != want {
			t.Errorf("%.60q: %s, want %s", messages[i], got, want)
		}
	}
	if _, err := signer.Sign(raw("From: a@ternisle.example\r\n")); err == nil {
		t.Error("a message without an end of its header was signed")
	}
}

func signedLetter(t *testing.T, signer *dkim.Signer) string {
	t.Helper()
	from, err := message.ParseAddress("crew@ternisle.example")
	if err != nil {
		t.Fatal(err)
	}
	m, err := compose.Message{
		From: from, To: []message.Address{from}, Subject: "Überfahrt um sieben", Date: time.Now(),
		ID:   "d-1@ternisle.example",
		Text: "The sailing is at seven.\n\n  Mind the gap.  \n\n\n", HTML: "<p>The sailing is at seven.</p>\n",
		Unsubscribe: &compose.Unsubscribe{URL: "https://ferry.example/u?t=" + strings.Repeat("x", 120)},
		Attachments: []compose.Part{compose.BytesPart("a.bin", "", bytes.Repeat([]byte{7, 200}, 999))},
	}.Compose()
	if err != nil {
		t.Fatal(err)
	}
	fields, err := signer.Sign(m)
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
		if _, err := dkim.ParseKey(tt.domain, tt.selector, tt.file); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("ParseKey = %v, want an error with %q", err, want)
		}
	}
	k, err := dkim.ParseKey("x.example", "s", good)
	if err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprintf("%v %+v %#v", k,
		k, k); got != "s._domainkey.x.example s._domainkey.x.example s._domainkey.x.example" {
		t.Errorf("a printed key shows %s", got)
	}
}

// A signature says until when it is good: fourteen days, so that a letter cannot be sent again for ever.
func TestSignaturesExpire(t *testing.T) {
	key, _, err := dkim.GenerateKey("ternisle.example", "pier")
	if err != nil {
		t.Fatal(err)
	}
	s, err := dkim.New(key)
	if err != nil {
		t.Fatal(err)
	}
	field, err := s.Sign(lines("From: crew@ternisle.example\r\nSubject: x\r\n\r\nBody.\r\n"))
	if err != nil {
		t.Fatal(err)
	}
	flat := strings.Join(strings.Fields(field), "")
	from, until := regexp.MustCompile(`;t=(\d+)`).FindStringSubmatch(flat),
		regexp.MustCompile(`;x=(\d+)`).FindStringSubmatch(flat)
	if from == nil || until == nil {
		t.Fatalf("it says neither when nor until when: %s", flat)
	}
	began, _ := strconv.Atoi(from[1])
	ends, _ := strconv.Atoi(until[1])
	if days := float64(ends-began) / 86400; math.Abs(days-14) > 0.001 {
		t.Errorf("it is good for %g days", days)
	}
}

// lines are a message that can be written as often as one likes.
type lines string

func (l lines) WriteTo(w io.Writer) (int64, error) {
	n, err := io.WriteString(w, string(l))
	return int64(n), err
}
