package illumicode_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/mail"
	"net/url"
	"strings"
	"testing"
	"testing/fstest"
	"testing/iotest"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/message"
)

// moved is the data of a letter of the application's own.
type moved struct {
	Name    string    `json:"name"`
	Departs time.Time `json:"departs"`
}

func withMoved(tb testing.TB) func(*illumicode.Config) {
	tb.Helper()
	set, err := letters.Load(fstest.MapFS{
		"en.toml": {
			Data: []byte(
				"[letter.moved]\nsubject = \"Moved: {{.name}}\"\nmain = \"Now at {{time .departs}}.\"\n")},
		"letters.toml": {
			Data: []byte(
				"[moved]\nlane = \"bulk\"\nlife = \"6h\"\ncategory = \"sailings\"\nreply_to = " +
					"\"harbour@ternisle.example\"\n")},
	}, "en")
	if err != nil {
		tb.Fatal(err)
	}
	return func(c *illumicode.Config) {
		c.Letters, c.Data = set, map[string]any{"moved": moved{}}
	}
}

func TestNotifyWithEverything(t *testing.T) {
	k := illumicodetest.New(t, withMoved(t))
	big := bytes.Repeat([]byte("manifest "), 100_000)
	var ids []string
	tx, err := k.Service.Store().DB().BeginTx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	ids, err = k.Service.In(tx).Notify(t.Context(), illumicode.Notice{
		Letter: "moved", To: illumicode.Request{Address: mara, Name: "Mara Quist", Zone: "Asia/Tokyo"},
		Cc: []string{"jens@ternisle.example"}, Bcc: []string{"boss@gullquay.example"},
		Data:   moved{"Mara", time.Date(2031, 3, 4, 22, 5, 0, 0, time.UTC)},
		Thread: "sailing 7", Headers: []message.Field{{Name: "X-Pier", Value: "4"}},
		Attachments: []message.Attachment{{Name: "manifest.csv", Type: "text/csv", Body: bytes.NewReader(big)},
			{Name: "empty.bin", Body: strings.NewReader("")}},
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
	k.Service.Wake()
	for _, to := range []string{mara, "jens@ternisle.example", "boss@gullquay.example"} {
		l := k.Letter(to, 1)
		m, err := mail.ReadMessage(bytes.NewReader(l.Raw))
		if err != nil {
			t.Fatal(err)
		}
		for field, want := range map[string]string{
			"To": "Mara Quist <mara@ternisle.example>", "Cc": "jens@ternisle.example", "Bcc": "",
			"Reply-To":              "harbour@ternisle.example",
			"List-Unsubscribe-Post": "List-Unsubscribe=One-Click", "X-Pier": "4",
		} {
			if got := m.Header.Get(field); got != want {
				t.Errorf("letter to %s: %s is %q, want %q", to, field, got, want)
			}
		}
		u, err := url.Parse(strings.Trim(m.Header.Get("List-Unsubscribe"), "<>"))
		if err != nil {
			t.Fatal(err)
		}
		if about, err := k.Service.Unsubscription(u.Query().Get("u")); err != nil ||
			about != (illumicode.Preference{Address: to, Category: "sailings"}) || strings.Contains(u.String(), "@") {
			t.Errorf("letter to %s: List-Unsubscribe leads %s to %+v, %v", to, u, about, err)
		}
		if !strings.Contains(l.Text, "Now at 7:05 AM.") { // in Tokyo
			t.Errorf("the time is not the reader's:\n%s", l.Text)
		}
		if n := bytes.Count(l.Raw, []byte("bWFuaWZlc3Qg")); n < 90_000/7 {
			t.Errorf("letter to %s: the attachment is not whole: %d bytes in all", to, len(l.Raw))
		}
		if m.Header.Get("References") == "" || strings.Contains(m.Header.Get("References"), "sailing") {
			t.Errorf("References: %q", m.Header.Get("References"))
		}
	}
	waitSent(t, k, 3)
	d, err := flow.Of(k.Service).Store.Delivery(t.Context(), ids[0])
	if err != nil || d.Lane != store.Bulk || d.Data != "{}" || d.DeliverBefore.Sub(d.Created) != 6*time.Hour {
		t.Errorf("delivery %+v, %v", d, err)
	}
	var left int
	if err := k.Service.Store().DB().QueryRow("SELECT COUNT(*) FROM illumicode_attachment_piece").Scan(
		&left); err != nil || left != 0 {
		t.Errorf("%d pieces of attachments are left after the last delivery, %v", left, err)
	}
}

// What could not be sent later is refused now, and leaves nothing.
func TestNotifyRefuses(t *testing.T) {
	k := illumicodetest.Idle(t, withMoved(t), func(c *illumicode.Config) { c.MaxAttachments = 1000 })
	good := func() illumicode.Notice {
		return illumicode.Notice{Letter: "moved", To: illumicode.Request{Address: mara},
			Data: moved{"Mara", time.Now()}}
	}
	many := make([]string, 1000)
	for i := range many {
		many[i] = fmt.Sprintf("p%d@ternisle.example", i)
	}
	file := func(name string, body io.Reader) []message.Attachment {
		return []message.Attachment{{Name: name, Body: body}}
	}
	for _, tt := range []struct {
		name  string
		spoil func(*illumicode.Notice)
		want  string
		is    error
	}{
		{"unknown letter", func(n *illumicode.Notice) { n.Letter = "gone" }, `"gone"`, render.ErrMissing},
		{"missing value", func(n *illumicode.Notice) { n.Data = map[string]string{"name": "Mara"} }, `"departs"`,
			render.ErrMissing},
		{"no data", func(n *illumicode.Notice) { n.Data = nil }, "missing", render.ErrMissing},
		{"data that is no object", func(n *illumicode.Notice) { n.Data = 7 }, "JSON object", nil},
		{"two megabytes of data", func(n *illumicode.Notice) {
			n.Data = map[string]string{"name": strings.Repeat("x", 2<<20), "departs": ""}
		}, "as an attachment", nil},
		{"unknown zone", func(n *illumicode.Notice) { n.To.Zone = "Tern/Isle" }, "IANA", nil},
		{"a bad Cc", func(n *illumicode.Notice) { n.Cc = []string{"jens"} }, "no @", message.ErrAddress},
		{"a bad Bcc", func(n *illumicode.Notice) { n.Bcc = []string{"jens@x.example\nBcc: y"} }, "line break",
			message.ErrAddress},
		{"a crowd in Cc", func(n *illumicode.Notice) { n.Cc = many }, "one by one", nil},
		{"a bad Reply-To", func(n *illumicode.Notice) { n.ReplyTo = "harbour" }, "where answers go",
			message.ErrAddress},
		{"a forged field",
			func(n *illumicode.Notice) { n.Headers = []message.Field{{Name: "From", Value: "x@y.example"}} },
			"not the application's", nil},
		{"an attachment too large", func(n *illumicode.Notice) {
			n.Attachments = file("a", strings.NewReader(strings.Repeat("x", 1001)))
		}, "more than 1000 bytes", store.ErrTooLarge},
		{"an endless attachment", func(n *illumicode.Notice) { n.Attachments = file("a", endless{}) }, "more than",
			store.ErrTooLarge},
		{"an attachment that breaks", func(n *illumicode.Notice) {
			n.Attachments = file("a", iotest.ErrReader(errors.New("disk gone")))
		}, "disk gone", nil},
		{"an attachment named by a path",
			func(n *illumicode.Notice) { n.Attachments = file("../a", strings.NewReader("x")) }, "slash", nil},
	} {
		n := good()
		tt.spoil(&n)
		_, err := k.Service.Notify(t.Context(), n)
		if err == nil || !strings.Contains(err.Error(), tt.want) || tt.is != nil && !errors.Is(err, tt.is) ||
			len(err.Error()) > 500 {
			t.Errorf("%s: %.300v, want an error with %q", tt.name, err, tt.want)
		}
	}
	var rows int
	err := k.Service.Store().DB().QueryRow(
		"SELECT (SELECT COUNT(*) FROM illumicode_delivery) + (SELECT COUNT(*) FROM illumicode_attachment_piece)").Scan(
		&rows)
	if err != nil || rows != 0 {
		t.Errorf("%d rows left by refused notices, %v", rows, err)
	}
	if _, err := k.Service.Notify(t.Context(), good()); err != nil {
		t.Errorf("the good one: %v", err)
	}
}

type endless struct{}

func (endless) Read(p []byte) (int, error) { return len(p), nil }

// A letter of the application's that uses a field its struct lacks is refused at start; so is a
// mark that is no picture.
func TestNewRefusesLetters(t *testing.T) {
	k := illumicodetest.Idle(t)
	for want, spoil := range map[string]func(*illumicode.Config){
		`has no value "departs"; there is "name"`: func(c *illumicode.Config) {
			c.Data = map[string]any{"moved": struct {
				Name string `json:"name"`
			}{}}
		},
		`has no value "nmae"; there is "name"`: func(c *illumicode.Config) {
			set, err := letters.Load(fstest.MapFS{
				"en.toml": {Data: []byte(
					"[letter.signin]\nsubject = \"Sign in\"\nmain = \"Hello {{.nmae}}\"\n")}}, "en")
			if err != nil {
				t.Fatal(err)
			}
			c.Letters, c.Data = set, nil
		},
		"no PNG, JPEG or GIF": func(c *illumicode.Config) { c.Site.MarkImage = []byte("<svg onload=alert(1)>") },
		"contrast of":         func(c *illumicode.Config) { c.Site.Colours.Accent = "#eeeeee" },
	} {
		func() {
			var c illumicode.Config
			illumicodetest.Idle(t, func(good *illumicode.Config) {
				withMoved(t)(good)
				c = *good
			})
			c.Store = k.Service.Store()
			spoil(&c)
			if _, err := illumicode.New(c); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("New = %v, want an error with %q", err, want)
			}
		}()
	}
}

// A security letter has no way to unsubscribe in it, whatever the application configures.
func TestSecurityLettersCannotBeUnsubscribed(t *testing.T) {
	k := illumicodetest.New(t, withMoved(t))
	if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara},
		func(context.Context, illumicode.Tx) (string, error) { return "a", nil }); err != nil {
		t.Fatal(err)
	}
	if raw := string(k.Letter(mara, 1).Raw); strings.Contains(raw, "List-Unsubscribe") {
		t.Errorf("the confirmation has List-Unsubscribe:\n%.600s", raw)
	}
}
