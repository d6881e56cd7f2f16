package compose

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/illumicode/illumicode/message"
)

// reader is read by Python: it parses every *.eml of a folder with the standard library's email
// package and prints what it found.
const reader = `
import base64, email, email.policy, glob, json, os, sys
out = {}
for path in glob.glob(os.path.join(sys.argv[1], "*.eml")):
    m = email.message_from_binary_file(open(path, "rb"), policy=email.policy.default)
    def people(name):
        return [[a.display_name, a.addr_spec] for a in m[name].addresses] if m[name] else []
    text, html = m.get_body(("plain",)), m.get_body(("html",))
    files, inline, defects = [], [], []
    for part in m.walk():
        defects += [repr(d) for d in part.defects]
        for v in part.values():
            defects += [repr(d) for d in getattr(v, "defects", [])]
        if part.get_content_disposition() in ("attachment", "inline"):
            entry = [part.get_filename(), part.get_content_type(),
                     base64.b64encode(part.get_payload(decode=True)).decode()]
            (files if part.get_content_disposition() == "attachment" else inline).append(entry)
    out[os.path.basename(path)] = dict(subject=m["Subject"], to=people("To"),
        cc=people("Cc"), sender=people("From"), reply=people("Reply-To"),
        id=m["Message-ID"], thread=m["References"],
        unsubscribe=m["List-Unsubscribe"], click=m["List-Unsubscribe-Post"], bcc=m["Bcc"],
        pier=m["X-Pier"],
        text=text.get_content() if text else None, html=html.get_content() if html else None,
        files=files, inline=inline, defects=defects)
json.dump(out, sys.stdout)
`

type seen struct {
	Subject, ID, Text, HTML, Thread, Unsubscribe, Click, Bcc, Pier string
	To, Cc, Sender, Reply                                          [][2]string
	Files, Inline                                                  [][3]string
	Defects                                                        []string
}

// A corpus of awkward messages is read back by an independent parser with nothing lost.
func TestIndependentReader(t *testing.T) {
	const python = "/usr/bin/python3" // Debian's
	if _, err := os.Stat(python); err != nil {
		t.Fatalf("this test reads messages with Debian's python3 (`make test` installs it): %v", err)
	}
	binary := make([]byte, 1000)
	for i := range binary {
		binary[i] = byte(i * 7)
	}
	corpus := map[string]func(*Message){
		"plain":     func(*Message) {},
		"text only": func(m *Message) { m.HTML = "" },
		"subjects": func(m *Message) {
			m.Subject = "⛴ Überfahrt " + strings.Repeat("nach Törnholm ", 20) + "=?utf-8?q?x?="
		},
		"names": func(m *Message) {
			m.To = []message.Address{address(t, "mara@ternisle.example", `Quist, Mara "Tern" (pier) \`),
				address(t, "jens@törnholm.example", "Öhlén ⚓")}
			m.Cc = []message.Address{address(t, "o'brien+x@gullquay.example", strings.Repeat("Long Name ", 15)+"End")}
			m.ReplyTo = []message.Address{address(t, "harbour@ternisle.example", "=?utf-8?q?x?=")}
		},
		"texts": func(m *Message) {
			m.Text = ".\n..\nFrom here\n--\n\n" + strings.Repeat("x", 3000) +
				" \n\ttab\t\n"
		},
		"japanese": func(m *Message) { m.Text = strings.Repeat("出航は午前七時です。", 40) + "\n" },
		"arabic": func(m *Message) {
			m.HTML = "<p dir=\"rtl\">" + strings.Repeat("أبحرت العبّارة ", 40) + "</p>\n"
		},
		"thread": func(m *Message) {
			m.Thread = "sailing-7@ternisle.example"
			m.Headers = []message.Field{{Name: "X-Pier", Value: "Gull Quay – süd"}}
		},
		"unsubscribe": func(m *Message) {
			m.Unsubscribe = &Unsubscribe{URL: "https://ferry.example/u?" + strings.Repeat("t", 200),
				Mailto: "stop@ternisle.example"}
		},
		"attachments": func(m *Message) {
			m.Attachments = []Part{BytesPart("manifest.csv", "text/csv; charset=utf-8", []byte("name,seat\nMara,4\n")),
				BytesPart("Überfahrt ⚓ “Ysolt”.bin", "", binary), BytesPart("empty.txt", "text/plain", nil),
				BytesPart(strings.Repeat("ö", 90)+".pdf", "application/pdf", binary[:57])}
		},
		"all at once": func(m *Message) {
			m.HTML = `<img src="cid:mark" alt="Tern">` + "\n"
			m.Inline = []Part{
				{Name: "mark.png", Type: "image/png", ID: "mark", Size: 3, Open: BytesPart("", "", []byte("png")).Open}}
			m.Attachments = []Part{BytesPart("a.bin", "", binary)}
		},
	}
	dir := t.TempDir()
	for name, change := range corpus {
		m := sample(t)
		change(&m)
		raw, err := source(m)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if err := os.WriteFile(filepath.Join(dir, name+".eml"), raw, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.CommandContext(t.Context(), python, "-c", reader, dir)
	var errOut bytes.Buffer
	cmd.Stderr = &errOut
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("%v\n%s", err, errOut.String())
	}
	var got map[string]seen
	if err := json.Unmarshal(out, &got); err != nil {
		t.Fatal(err)
	}
	for name, change := range corpus {
		m := sample(t)
		change(&m)
		compareSeen(t, name, m, got[name+".eml"])
	}
}

func compareSeen(t *testing.T, name string, m Message, g seen) {
	t.Helper()
	same := func(what, got, want string) {
		t.Helper()
		if got != want {
			t.Errorf("%s: %s came back as %.200q, want %.200q", name, what, got, want)
		}
	}
	people := func(list []message.Address) string {
		out := make([][2]string, 0)
		for _, a := range list {
			out = append(out, [2]string{a.Name, a.Envelope()})
		}
		b, _ := json.Marshal(out)
		return string(b)
	}
	list := func(v any) string { b, _ := json.Marshal(v); return string(b) }
	files := func(parts []Part) string {
		out := make([][3]string, 0)
		for _, p := range parts {
			r, _ := p.Open()
			var b bytes.Buffer
			b.ReadFrom(r)
			kind, _, _ := strings.Cut(p.Type, ";")
			if kind == "" {
				kind = "application/octet-stream"
			}
			out = append(out, [3]string{p.Name, kind, base64.StdEncoding.EncodeToString(b.Bytes())})
		}
		return list(out)
	}
	same("the subject", g.Subject, m.Subject)
	same("To", list(g.To), people(m.To))
	same("Cc", list(g.Cc), people(m.Cc))
	same("From", list(g.Sender), people([]message.Address{m.From}))
	same("Reply-To", list(g.Reply), people(m.ReplyTo))
	same("the id", g.ID, "<"+m.ID+">")
	same("the text", strings.ReplaceAll(g.Text, "\r\n", "\n"), m.Text) // base64 keeps CRLF (RFC 2045 §6.8)
	same("the HTML", strings.ReplaceAll(g.HTML, "\r\n", "\n"), m.HTML)
	same("the attachments", list(g.Files), files(m.Attachments))
	same("the inline parts", list(g.Inline), files(m.Inline))
	same("a Bcc field", g.Bcc, "")
	if m.Thread != "" {
		same("References", g.Thread, "<"+m.Thread+">")
		same("X-Pier", g.Pier, m.Headers[0].Value)
	}
	if u := m.Unsubscribe; u != nil {
		same("List-Unsubscribe", g.Unsubscribe, "<"+u.URL+">, <mailto:"+u.Mailto+">")
		same("List-Unsubscribe-Post", g.Click, "List-Unsubscribe=One-Click")
	}
	if len(g.Defects) > 0 {
		t.Errorf("%s: the reader complains: %v", name, g.Defects)
	}
}
