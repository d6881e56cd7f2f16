package main

import (
	"bytes"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	htmltemplate "html/template"
	"io"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"text/template"
	"time"

	msgdkim "github.com/emersion/go-msgauth/dkim"
	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/dkim"
	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider/smtp"
)

// A desk composes one letter over and over.
type desk struct {
	set     *render.Set
	request render.Request
	from    message.Address
}

func newDesk() (desk, error) {
	public, err := letters.Default()
	if err != nil {
		return desk{}, err
	}
	set := render.Of(public)
	writer, err := render.Writer{Name: "Tern Isle Ferry", HomePage: "https://ferry.example/"}.Check()
	if err != nil {
		return desk{}, err
	}
	from, err := message.ParseAddress("crew@ternisle.example")
	return desk{set, set.Sample("confirm", language.English, writer, "https://ferry.example"), from}, err
}

func (d desk) compose() (*compose.Composed, error) {
	r, err := d.set.Render(d.request)
	if err != nil {
		return nil, err
	}
	return compose.Message{From: d.from, To: []message.Address{d.from}, Subject: r.Subject, Text: r.Text, HTML: r.HTML,
		Date: time.Unix(1924000000, 0), ID: "bench@ternisle.example"}.Compose()
}

func (d desk) plain() error {
	c, err := d.compose()
	if err == nil {
		_, err = c.WriteTo(io.Discard)
	}
	return err
}

// signed composes the letter, signs it, and writes it out.
func (d desk) signed(s *dkim.Signer) func() error {
	return func() error {
		c, err := d.compose()
		if err != nil {
			return err
		}
		if _, err := s.Sign(c); err != nil {
			return err
		}
		_, err = c.WriteTo(io.Discard)
		return err
	}
}

// library signs the letter's bytes with the signing library alone.
func (d desk) library() (func() error, error) {
	c, err := d.compose()
	if err != nil {
		return nil, err
	}
	var raw bytes.Buffer
	if _, err := c.WriteTo(&raw); err != nil {
		return nil, err
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	o := &msgdkim.SignOptions{Domain: "ternisle.example", Selector: "quay", Signer: private,
		HeaderCanonicalization: msgdkim.CanonicalizationRelaxed, BodyCanonicalization: msgdkim.CanonicalizationSimple}
	return func() error { return msgdkim.Sign(io.Discard, bytes.NewReader(raw.Bytes()), o) }, err
}

// letterFigures measures the confirmation letter, rendered and composed, against executing its two
// layouts with what they would be given, and nothing else; signed, against that and the signing library.
func letterFigures(scale int) ([]figure, error) {
	d, err := newDesk()
	if err != nil {
		return nil, err
	}
	bare, err := bareTemplates(d.set, d.request)
	if err != nil {
		return nil, err
	}
	library, err := d.library()
	if err != nil {
		return nil, err
	}
	signers, operations, err := signers()
	if err != nil {
		return nil, err
	}
	bareSigned := func() error { return errors.Join(bare(), library()) }
	times, err := inTurns(10*scale, repeated(50, d.plain), repeated(50, bare), repeated(50, d.signed(signers[0])),
		repeated(50, bareSigned))
	if err != nil {
		return nil, err
	}
	rsaTimes, err := inTurns(5*scale, repeated(20, d.signed(signers[1])), repeated(20, operations[1]))
	if err != nil {
		return nil, err
	}
	const file = 10 << 20
	perFile, err := attachmentMemory(d.from, file)
	if err != nil {
		return nil, err
	}
	per := func(i int) time.Duration { return median(times[i]) / 50 }
	perRSA := func(i int) time.Duration { return median(rsaTimes[i]) / 20 }
	ours, floor := testing.AllocsPerRun(100, func() { d.plain() }), testing.AllocsPerRun(100, func() { bare() })
	return []figure{
		{"letter rendered and composed", "its bare templates", medianRatio(times[0], times[1]), 1.4,
			fmt.Sprintf("%v against %v; %.0f allocations against %.0f", per(0), per(1), ours, floor)},
		{"the same, signed with Ed25519", "bare templates and the signing library", medianRatio(times[2], times[3]),
			0.95, fmt.Sprintf("%v against %v", per(2), per(3))},
		{"the same, signed with RSA", "the bare RSA operation", medianRatio(rsaTimes[0], rsaTimes[1]),
			0, fmt.Sprintf("%v against %v", perRSA(0), perRSA(1))},
		{"memory to write a 10 MB attachment", "its size", float64(perFile) / file, 0.01,
			fmt.Sprintf("%d KiB", perFile>>10)},
	}, nil
}

// attachmentMemory returns how many bytes are allocated to write a message with one attachment.
func attachmentMemory(from message.Address, size int64) (uint64, error) {
	c, err := compose.Message{From: from, To: []message.Address{from}, Subject: "x", Text: "x",
		ID: "bench@ternisle.example", Date: time.Unix(1924000000, 0),
		Attachments: []compose.Part{{Name: "chart.bin", Size: size, Open: func() (io.ReadCloser, error) {
			return io.NopCloser(io.LimitReader(rand.Reader, size)), nil
		}}}}.Compose()
	if err != nil {
		return 0, err
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	if _, err := c.WriteTo(io.Discard); err != nil {
		return 0, err
	}
	runtime.ReadMemStats(&after)
	return after.TotalAlloc - before.TotalAlloc, nil
}

// bareTemplates returns the floor: the two default layouts and the letter's words, executed by the
// standard library as they are. The sheet is what Render would have made of the words.
func bareTemplates(set *render.Set, r render.Request) (func() error, error) {
	read := func(name string) (string, error) {
		raw, err := os.ReadFile(filepath.Join("letters", "default", name))
		return string(raw), err
	}
	textSource, err := read("layout.txt")
	if err != nil {
		return nil, fmt.Errorf("run bench from the top of the repository: %w", err)
	}
	htmlSource, err := read("layout.html")
	if err != nil {
		return nil, err
	}
	text, err := template.New("").Parse(textSource)
	if err != nil {
		return nil, err
	}
	html, err := htmltemplate.New("").Parse(htmlSource)
	if err != nil {
		return nil, err
	}
	rendered, err := set.Render(r)
	if err != nil {
		return nil, err
	}
	paragraphs := strings.Split(rendered.Text, "\n\n")
	sheet := render.Sheet{Lang: "en", Dir: "ltr", Subject: rendered.Subject, Opening: paragraphs[:1],
		Main: paragraphs[1:2], Writer: r.Writer}
	if r.Proof.Code != "" {
		sheet.Button, sheet.Link, sheet.CodeLabel, sheet.Code = "Confirm this address", r.Proof.Link, "Your code",
			r.Proof.Code
		sheet.Aside, sheet.Closing = paragraphs[6:8], paragraphs[8:9]
	}
	// The words of the six parts, as many and as long as the letter's.
	words, err := template.New("").Parse(
		"Hello{{if .name}} {{.name}}{{end}}, Somebody, most likely you, has registered with {{.site}} under this " +
			"address. " +
			"The button works for {{.link_life}}, the code for {{.code_life}}. Confirm your address for {{.site}}. " +
			"{{.code}} is your code for {{.site}}.")
	if err != nil {
		return nil, err
	}
	data := map[string]any{"name": "Mara", "site": "Tern Isle Ferry", "link_life": "24 hours",
		"code_life": "10 minutes", "code": "482 913"}
	return func() error {
		var b bytes.Buffer
		return errors.Join(words.Execute(&b, data), text.Execute(&b, sheet), html.Execute(&b, sheet))
	}, nil
}

// signers returns signers with an Ed25519 and an RSA key, and the bare operation of each.
func signers() ([]*dkim.Signer, []func() error, error) {
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	rs, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, nil, err
	}
	sum := sha256.Sum256([]byte("a header"))
	der, err := x509.MarshalPKCS8PrivateKey(rs)
	if err != nil {
		return nil, nil, err
	}
	byRSA, err := dkim.ParseKey("ternisle.example", "pier",
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
	if err != nil {
		return nil, nil, err
	}
	byEd25519, _, err := dkim.GenerateKey("ternisle.example", "quay")
	if err != nil {
		return nil, nil, err
	}
	var all []*dkim.Signer
	for _, k := range []dkim.Key{byEd25519, byRSA} {
		s, err := dkim.New(k)
		if err != nil {
			return nil, nil, err
		}
		all = append(all, s)
	}
	return all, []func() error{
		func() error { _, err := ed.Sign(rand.Reader, sum[:], crypto.Hash(0)); return err },
		func() error { _, err := rs.Sign(rand.Reader, sum[:], crypto.SHA256); return err },
	}, nil
}

// smtpFigures measures the SMTP provider, with nothing to record, against the bare loop on the
// same number of connections.
func smtpFigures(scale int) ([]figure, error) {
	s, err := newSink()
	if err != nil {
		return nil, err
	}
	letter := bytes.Repeat([]byte("The sailing at seven is on time, and the sea is calm.\r\n"), 150)
	letter = append([]byte("Subject: x\r\n\r\n"), letter...)
	way, err := smtp.New("sink", smtp.Config{Host: "127.0.0.1", Port: s.listen.Addr().(*net.TCPAddr).Port,
		TLS: smtp.NoTLS, Letters: 1 << 20})
	if err != nil {
		return nil, err
	}
	defer way.Close()
	n := 40 * scale
	ours := func() error {
		for i := range n {
			if err := sendBy(way, letter, i, false); err != nil {
				return err
			}
		}
		return nil
	}
	bare := func() error {
		_, err := bareLoop(s.listen.Addr().String(), func() error { return nil }, letter, 1, n)
		return err
	}
	times, err := inTurns(9, ours, bare)
	if err != nil {
		return nil, err
	}
	rate := func(i int) float64 { return float64(n) / median(times[i]).Seconds() }
	return []figure{{"SMTP provider, one connection", "bare SMTP loop", medianRatio(times[0], times[1]), 1.15,
		fmt.Sprintf("%.0f/s against %.0f/s", rate(0), rate(1))}}, nil
}
