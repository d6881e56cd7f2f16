package illumicode_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"html"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// An echo refuses letters, and repeats them in its answer.
type echo struct {
	say func(text, message string) string

	mu   sync.Mutex // guards text
	text string     // of the last letter
}

func (*echo) Name() string          { return "echo" }
func (*echo) Can() provider.Ability { return provider.Ability{Mail: true} }

func (e *echo) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	var message bytes.Buffer
	if _, err := h.Message.WriteTo(&message); err != nil {
		return provider.NotSent(err)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.text = h.Letter.Text
	return provider.Result{Class: retry.MessageRefused, Code: 554, ID: "letter-482913",
		Reply: "554 5.6.0 not this: " + e.say(h.Letter.Text, message.String())}
}

var (
	codeIn = regexp.MustCompile(`\b\d{3} \d{3}\b`)
	linkIn = regexp.MustCompile(`https?://\S+t=\S+`)
)

// What a provider repeats of a letter is kept without its code and its links, in the database and in what operators
// see; its own id of the letter stays.
func TestEchoIsMasked(t *testing.T) {
	for how, say := range map[string]func(text, message string) string{
		"plain":      func(text, _ string) string { return text },
		"message":    func(_, message string) string { return message },
		"HTML":       func(text, _ string) string { return html.EscapeString(text) },
		"URL":        func(text, _ string) string { return url.QueryEscape(text) },
		"base64":     func(_, message string) string { return base64.StdEncoding.EncodeToString([]byte(message)) },
		"a line":     func(text, _ string) string { return strings.Join(strings.Fields(text), " ") },
		"cut, plain": func(text, _ string) string { return text[:len(text)/2] },
	} {
		t.Run(how, func(t *testing.T) {
			e := &echo{say: say}
			k := illumicodetest.New(t, func(c *illumicode.Config) { c.Providers = []provider.Provider{e} })
			_, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara}, illumicode.Subject("7"))
			if err != nil {
				t.Fatal(err)
			}
			waitUntil(t, k, func(sum store.Summary) bool { return sum.Count[store.Failed] == 1 })
			e.mu.Lock()
			secrets := linkIn.FindAllString(e.text, -1)
			code := codeIn.FindString(e.text)
			e.mu.Unlock()
			if len(secrets) < 2 || code == "" {
				t.Fatalf("the letter has no code and links:\n%s", e.text)
			}
			rows := flow.Of(k.Service).Store
			var kept strings.Builder
			ended, err := rows.List(t.Context(), store.Filter{}, "", 9)
			if err != nil || len(ended) != 1 {
				t.Fatal(ended, err)
			}
			attempts, err := rows.Attempts(t.Context(), ended[0].ID)
			if err != nil || len(attempts) != 1 || attempts[0].Remote != "letter-482913" {
				t.Fatalf("%+v, %v", attempts, err)
			}
			kept.WriteString(ended[0].Note + "\n" + attempts[0].Reply)
			reply := attempts[0].Reply
			if !strings.Contains(reply, "554 5.6.0 not this") || !strings.Contains(reply, "•••") {
				t.Errorf("kept: %s", reply)
			}
			digits := strings.ReplaceAll(code, " ", "")
			for _, secret := range append(secrets, code, digits) {
				token := secret[strings.LastIndexAny(secret, "/=")+1:]
				for _, text := range []string{token, url.QueryEscape(token), html.EscapeString(token),
					base64.StdEncoding.EncodeToString([]byte(token))} {
					if len(text) > 4 && strings.Contains(kept.String(), text) {
						t.Errorf("%q is kept: %s", text, kept.String())
					}
				}
			}
		})
	}
}
