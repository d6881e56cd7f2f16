package smtp

import (
	"strings"
	"testing"

	"github.com/illumicode/illumicode/provider"
)

func TestCheck(t *testing.T) {
	account := func(c *Config) { c.User, c.Password = "crew", "sea gull" }
	for _, tt := range []struct {
		name   string
		mode   TLS
		host   string
		rules  map[string]string
		change func(*Config)
		last   string // the step it ends with
		want   provider.Verdict
		saw    string
		next   string
	}{
		{"all is well", StartTLS, "localhost", nil, account, "reset", provider.OK, "nothing was sent", ""},
		{"all is well, implicit", Implicit, "localhost", nil, account, "reset", provider.OK, "nothing was sent", ""},
		{"no such host", StartTLS, "localhost", nil, func(c *Config) { c.Host = "no-such-host.invalid" }, "resolve",
			provider.Failed, "no-such-host.invalid", "typing mistake"},
		{"nobody listens", StartTLS, "localhost", nil, func(c *Config) { c.Port = 1 }, "connect", provider.Failed,
			"refused", "587 or 465"},
		{"no STARTTLS", StartTLS, "localhost", map[string]string{"EHLO": "250 pier.example"}, account,
			"greeting and TLS", provider.Failed, "offers no STARTTLS", ""},
		{"wrong certificate", StartTLS, "pier.example", nil, account, "greeting and TLS", provider.Failed,
			"pier.example", ""},
		{"wrong password", StartTLS, "localhost", map[string]string{"AUTH": "535 5.7.8 no"}, account, "authentication",
			provider.Failed, "535 5.7.8 no", "app password"},
		{"sender not verified", StartTLS, "localhost", map[string]string{"MAIL": "550 5.7.1 not verified"}, account,
			"sender crew@ternisle.example", provider.Failed, "not verified", "verify this sender"},
		{"recipient refused", StartTLS, "localhost", map[string]string{"RCPT": "550 5.1.1 nobody"}, account,
			"recipient mara@ternisle.example", provider.Failed, "nobody", "another recipient"},
	} {
		s := newServer(t, tt.mode, tt.host, tt.rules)
		r := s.provider(tt.change).Check(t.Context(), "crew@ternisle.example", "mara@ternisle.example")
		last := r.Steps[len(r.Steps)-1]
		if last.What != tt.last || last.Verdict != tt.want || !strings.Contains(last.Saw, tt.saw) ||
			!strings.Contains(last.Next, tt.next) || r.Failed() != (tt.want == provider.Failed) {
			t.Errorf("%s: ended with %+v", tt.name, last)
		}
		talk := strings.Join(r.Raw, "\n")
		for _, secret := range []string{"sea gull", "c2VhIGd1bGw", "AGNyZXcAc2VhIGd1bGw", "\x16\x03"} {
			if strings.Contains(talk, secret) {
				t.Errorf("%s: the transcript shows the password, or bytes of TLS:\n%s", tt.name, talk)
			}
		}
		if tt.last == "reset" &&
			(!strings.Contains(talk, "AUTH PLAIN •••") || !strings.Contains(talk, "RCPT TO:<mara@ternisle.example>") ||
				tt.mode == StartTLS && !strings.Contains(talk, "220 pier.example ready")) {
			t.Errorf("%s: the transcript is not whole:\n%s", tt.name, talk)
		}
		s.mu.Lock()
		if s.letters != 0 || strings.Contains(strings.Join(s.said, "\n"), "DATA") {
			t.Errorf("%s: a letter was sent", tt.name)
		}
		s.mu.Unlock()
	}
}

// Even where a mechanism sends the password on a line of its own, the transcript masks it.
func TestTranscriptMasks(t *testing.T) {
	log := new(transcript)
	log.Write([]byte(
		"AUTH LOGIN Y3Jldw==\r\n334 UGFzc3dvcmQ6\r\nc2VhIGd1bGw=\r\n235 welcome\r\nMAIL FROM:<x@y.example>\r\n"))
	if got := strings.Join(log.lines(), "|"); got != "AUTH LOGIN •••|334 •••|•••|235 welcome|MAIL FROM:<x@y.example>" {
		t.Errorf("%s", got)
	}
}
