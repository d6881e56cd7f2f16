package httpapi_test

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/standin"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/httpapi"
	"github.com/illumicode/illumicode/provider/providertest"
	"github.com/illumicode/illumicode/retry"
)

// mail and sms are the configurations of the stand-in's two interfaces: a page each, and no code.
func mail(base string) httpapi.Config {
	return httpapi.Config{
		URL: base + "/mail", MessageID: "/letter/id", IdempotencyHeader: "Idempotency-Key", Timeout: 2 * time.Second,
		Auth: httpapi.Auth{Bearer: "sea gull"},
		Body: `{"from": {{json .From}}, "to": {{json .To}}, "subject": {{json .Subject}}, "text": {{json .Text}}, ` +
			`"html": {{json .HTML}}}`,
		Outcomes: []httpapi.Outcome{
			{Status: "200", Pointer: "/error/kind", Equals: "refused", Class: retry.MessageRefused},
		},
	}
}

func sms(base string) httpapi.Config {
	return httpapi.Config{URL: base + "/sms", SMS: true, Form: true, MessageID: "/sms/0/id", Timeout: 2 * time.Second,
		Body: "to={{.To}}\ntext={{.SMS}}\n"}
}

func open(t *testing.T, s *standin.Standin, config func(string) httpapi.Config) *httpapi.Provider {
	t.Helper()
	server := httptest.NewServer(s.Handler())
	t.Cleanup(server.Close)
	p, err := httpapi.New("harbour", config(server.URL))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close() })
	return p
}

func TestContract(t *testing.T) {
	for name, config := range map[string]func(string) httpapi.Config{"mail": mail, "sms": sms} {
		t.Run(name, func(t *testing.T) {
			providertest.Run(t, func(t *testing.T) providertest.Subject {
				s := standin.New(1, standin.Temper{})
				return providertest.Subject{Provider: open(t, s, config),
					Received: func() int { return len(s.Letters()) }}
			})
		})
	}
}

func handover() provider.Handover {
	return provider.Handover{ID: "d-1", Envelope: provider.Envelope{To: "mara@ternisle.example"},
		SMS:    "482913 is your\ncode & more",
		Letter: provider.Letter{From: "crew@ternisle.example", Subject: `"Ysolt" \ ☂`, Text: "a\nb", HTML: "<p>"},
		Begin:  func(context.Context) error { return nil },
		Final:  func(context.Context) error { return nil }}
}

// Each temper of the stand-in becomes the class, and the wait, that it means.
func TestTempers(t *testing.T) {
	for _, tt := range []struct {
		name   string
		temper standin.Temper
		class  retry.Class
		code   int
		after  time.Duration
		reply  string
		taken  int
	}{
		{"accepts", standin.Temper{}, retry.Accepted, 202, 0, "stand-in-000001", 1},
		{"is busy", standin.Temper{Fail: 1}, retry.Transient, 503, 0, "come again", 0},
		{"does not know the sender", standin.Temper{Senders: []string{"other.example"}}, retry.Misconfigured, 403, 0,
			"not verified", 0},
		{"wants another key", standin.Temper{Key: "another"}, retry.Misconfigured, 401, 0, "key is missing or wrong",
			0},
		{"hangs", standin.Temper{Hang: 1}, retry.Ambiguous, 0, 0, "no answer came", 0},
		{"takes it and hangs up", standin.Temper{Cut: 1}, retry.Ambiguous, 0, 0, "no answer came", 1},
		{"says 200 with an error inside", standin.Temper{Lie: 1}, retry.MessageRefused, 200, 0, "looked like a success",
			0},
		{"drips", standin.Temper{DripMS: 200}, retry.Ambiguous, 0, 0, "no answer came", 1},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			s := standin.New(7, tt.temper)
			r := open(t, s, mail).Send(t.Context(), handover())
			if r.Class != tt.class || r.Code != tt.code || r.After != tt.after ||
				!strings.Contains(r.Reply+" "+r.ID, tt.reply) || len(s.Letters()) != tt.taken {
				t.Errorf("Send = %+v, %d taken; want %s, code %d, %q, %d taken", r, len(s.Letters()), tt.class, tt.code,
					tt.reply, tt.taken)
			}
			if strings.Contains(r.Reply, "sea gull") || strings.Contains(r.Reply, "127.0.0.1") {
				t.Errorf("the reply shows the key or the URL: %s", r.Reply)
			}
		})
	}
}

// After a time-out the same letter is sent again, and the idempotency key keeps it one letter.
func TestIdempotency(t *testing.T) {
	s := standin.New(1, standin.Temper{Cut: 1})
	p := open(t, s, mail)
	if r := p.Send(t.Context(), handover()); r.Class != retry.Ambiguous {
		t.Fatalf("%+v", r)
	}
	s.SetTemper(standin.Temper{})
	r := p.Send(t.Context(), handover())
	if r.Class != retry.Accepted || r.ID != "stand-in-000001" || len(s.Letters()) != 1 || s.Tries() != 2 {
		t.Errorf("the repeat: %+v; %d letters after %d tries", r, len(s.Letters()), s.Tries())
	}
	if l := s.Letters()[0]; l.Subject != `"Ysolt" \ ☂` || l.Text != "a\nb" {
		t.Errorf("the letter came as %+v", l)
	}
	s.SetTemper(standin.Temper{Quota: 1, RetryAfterS: 90})
	h := handover()
	h.ID = "d-2"
	if r := p.Send(t.Context(), h); r.Class != retry.Throttled || r.After != 90*time.Second || r.Code != 429 {
		t.Errorf("over the quota: %+v", r)
	}
}

// Answers that nobody would configure: bounded memory, and a class that loses nothing.
func TestStrangeAnswers(t *testing.T) {
	for _, tt := range []struct {
		name   string
		answer func(w http.ResponseWriter)
		class  retry.Class
		after  time.Duration
	}{
		{"no JSON", func(w http.ResponseWriter) { io.WriteString(w, "<html>Welcome to the harbour network</html>") },
			retry.Ambiguous, 0},
		{"no id", func(w http.ResponseWriter) { io.WriteString(w, `{"letter":{}}`) }, retry.Ambiguous, 0},
		{"an id that is a number", func(w http.ResponseWriter) { io.WriteString(w, `{"letter":{"id":8215}}`) },
			retry.Accepted, 0},
		{"a redirect", func(w http.ResponseWriter) {
			w.Header().Set("Location", "https://evil.example/")
			w.WriteHeader(302)
		}, retry.Misconfigured, 0},
		{"a flood", func(w http.ResponseWriter) {
			for range 64 { // it stops listening long before
				if _, err := w.Write(make([]byte, 1<<20)); err != nil {
					return
				}
			}
		}, retry.Ambiguous, 0},
		{"a date to come back at", func(w http.ResponseWriter) {
			w.Header().Set("Date", "Thu, 02 Jan 2031 03:04:05 GMT")
			w.Header().Set("Retry-After", "Thu, 02 Jan 2031 03:06:05 GMT")
			w.WriteHeader(429)
		}, retry.Throttled, 2 * time.Minute},
		{"a wait of a century", func(w http.ResponseWriter) {
			w.Header().Set("Retry-After", "3153600000")
			w.WriteHeader(429)
		}, retry.Throttled, 24 * time.Hour},
		{"a wait that is none", func(w http.ResponseWriter) { w.Header().Set("Retry-After", "-5"); w.WriteHeader(503) },
			retry.Transient, 0},
		{"our own fault", func(w http.ResponseWriter) { w.WriteHeader(400) }, retry.MessageRefused, 0},
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { tt.answer(w) }))
		p, err := httpapi.New("harbour", mail(server.URL))
		if err != nil {
			t.Fatal(err)
		}
		if r := p.Send(t.Context(), handover()); r.Class != tt.class || r.After != tt.after || len(r.Reply) > 8<<10 {
			t.Errorf("%s: %.300v; want %s after %v", tt.name, r, tt.class, tt.after)
		}
		server.Close()
		p.Close() // a kept connection would take the request, and leave in doubt what became of it
		if r := p.Send(t.Context(), handover()); r.Class != retry.Transient || r.Code != 0 {
			t.Errorf("%s, then nobody there: %+v; want a certain loss", tt.name, r)
		}
	}
}

// The three ways of authentication, as the other side sees them.
func TestAuthentication(t *testing.T) {
	var seen http.Header
	var body []byte
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen = r.Header
		body, _ = io.ReadAll(r.Body)
		io.WriteString(w, `{}`)
	}))
	defer server.Close()
	for _, tt := range []struct {
		auth   httpapi.Auth
		header string
		want   func() string
	}{
		{httpapi.Auth{Bearer: "k1"}, "Authorization", func() string { return "Bearer k1" }},
		{httpapi.Auth{User: "crew", Password: "k2"}, "Authorization", func() string { return "Basic Y3JldzprMg==" }},
		{httpapi.Auth{HMAC: "k3", Header: "X-Seal"}, "X-Seal", func() string {
			m := hmac.New(sha256.New, []byte("k3"))
			m.Write(body)
			return hex.EncodeToString(m.Sum(nil))
		}},
	} {
		c := httpapi.Config{URL: server.URL, Auth: tt.auth, Body: `{"raw": {{json .ID}}}`, Headers: map[string]string{
			"X-Pier": "4"}}
		p, err := httpapi.New("harbour", c)
		if err != nil {
			t.Fatal(err)
		}
		if r := p.Send(t.Context(), handover()); r.Class != retry.Accepted || seen.Get(tt.header) != tt.want() ||
			seen.Get("X-Pier") != "4" {
			t.Errorf("%s is %q, want %q; %+v", tt.header, seen.Get(tt.header), tt.want(), r)
		}
		for _, secret := range []string{"k1", "k2", "k3"} {
			if strings.Contains(fmt.Sprintf("%v %+v %#v", c, c, c), `"`+secret) ||
				strings.Contains(fmt.Sprintf("%v", c), secret) {
				t.Errorf("a printed configuration shows the secret %s", secret)
			}
		}
	}
}

func TestFormKeepsValues(t *testing.T) {
	s := standin.New(1, standin.Temper{})
	h := handover()
	h.Envelope.To = "+4790012345"
	if r := open(t, s, sms).Send(t.Context(), h); r.Class != retry.Accepted || r.ID != "stand-in-000001" {
		t.Fatalf("%+v", r)
	}
	if l := s.Letters()[0]; l.Text != h.SMS || l.To != "+4790012345" {
		t.Errorf("it came as %+v", l)
	}
}

func TestNewRefuses(t *testing.T) {
	good := mail("https://harbour.example")
	for want, spoil := range map[string]func(*httpapi.Config){
		"not absolute":              func(c *httpapi.Config) { c.URL = "/mail" },
		"not https":                 func(c *httpapi.Config) { c.URL = "http://harbour.example/mail" },
		"does not make JSON":        func(c *httpapi.Config) { c.Body = `{"subject": "{{.Subject}}"}` },
		"can't evaluate field Subj": func(c *httpapi.Config) { c.Body = `{"s": {{json .Subj}}}` },
		"has no =":                  func(c *httpapi.Config) { c.Form, c.Body = true, "to" },
		"a form has no JSON":        func(c *httpapi.Config) { c.Form, c.Body = true, "text={{json .SMS}}" },
		`no class "splendid"`:       func(c *httpapi.Config) { c.Outcomes = []httpapi.Outcome{{Class: "splendid"}} },
		`status "4x"`: func(c *httpapi.Config) {
			c.Outcomes = []httpapi.Outcome{{Status: "4x", Class: retry.Transient}}
		},
		"begins with a slash": func(c *httpapi.Config) { c.MessageID = "letter.id" },
		"choose one":          func(c *httpapi.Config) { c.Auth.User, c.Auth.Password = "a", "b" },
		"needs the header":    func(c *httpapi.Config) { c.Auth = httpapi.Auth{HMAC: "k"} },
	} {
		c := good
		spoil(&c)
		if _, err := httpapi.New("harbour", c); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("New = %v, want an error with %q", err, want)
		}
	}
}

// Check asks the probe with the key, about the sender, and tells a refusal from a yes.
func TestCheckProbes(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Header.Get("Authorization") != "Bearer right":
			http.Error(w, "who are you?", http.StatusUnauthorized)
		case r.Method != http.MethodGet || r.URL.Query().Get("sender") != "crew+7@ternisle.example":
			http.Error(w, "not verified", http.StatusNotFound)
		}
	}))
	defer server.Close()
	for _, tt := range []struct {
		key, from, probe string
		verdict          provider.Verdict
		saw              string
	}{
		{"right", "crew+7@ternisle.example", "/?sender={from}", provider.OK, "200"},
		{"wrong", "crew+7@ternisle.example", "/?sender={from}", provider.Failed, "who are you"},
		{"right", "boss@ternisle.example", "/?sender={from}", provider.Failed, "not verified"},
		{"right", "crew+7@ternisle.example", "", provider.Warning, "no probe"},
	} {
		c := httpapi.Config{URL: server.URL, Body: "{}", Auth: httpapi.Auth{Bearer: provider.Secret(tt.key)}}
		if tt.probe != "" {
			c.Probe = server.URL + tt.probe
		}
		p, err := httpapi.New("pier", c)
		if err != nil {
			t.Fatal(err)
		}
		steps := p.Check(t.Context(), tt.from, "mara@ternisle.example").Steps
		last := steps[len(steps)-1]
		if last.Verdict != tt.verdict || !strings.Contains(last.Saw, tt.saw) ||
			strings.Contains(fmt.Sprint(steps), tt.key+" ") {
			t.Errorf("%+v: %+v", tt, last)
		}
	}
}
