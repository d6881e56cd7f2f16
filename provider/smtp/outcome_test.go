package smtp

import (
	"strings"
	"testing"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// What a refusal means, and whom it concerns.
func TestWhomARefusalConcerns(t *testing.T) {
	const (
		all    = provider.ConcernsProvider
		domain = provider.ConcernsDomain
	)
	for _, tt := range []struct {
		at       step
		reply    string
		class    retry.Class
		concerns provider.Concern
	}{
		{stepConnect, "421 too many connections", retry.Throttled, all},
		{stepConnect, "450 4.7.1 throttled", retry.Throttled, all},
		{stepMail, "452 4.5.3 too many recipients", retry.Throttled, all},
		{stepRcpt, "452 4.5.3 too many recipients", retry.Transient, all},
		{stepMail, "452 4.3.1 insufficient storage", retry.Throttled, all},
		{stepRcpt, "450 4.4.5 congested", retry.Throttled, domain},
		{stepRcpt, "450 4.7.28 unusual", retry.Throttled, domain},
		{stepRcpt, "421 4.3.2 not now", retry.Throttled, domain},
		{stepRcpt, "450 4.7.1 greylisted", retry.Transient, all},
		{stepRcpt, "450 4.7.1 rate limited", retry.Throttled, domain},
		{stepRcpt, "450 4.2.1 mailbox is receiving too often", retry.Transient, all},
		{stepRcpt, "450 4.2.1 too many messages", retry.Throttled, domain},
		{stepRcpt, "452 4.2.2 over quota", retry.Transient, all},
		{stepFinal, "451 4.7.0 throttling you", retry.Throttled, domain},
		{stepFinal, "454 4.7.0 too many messages for your account", retry.Throttled, all},
		{stepFinal, "450 rate limit exceeded", retry.Throttled, domain},
		{stepFinal, "450 the moderate limited edition", retry.Transient, all}, // no whole words
		{stepMail, "421 4.4.2 idle for too long", retry.Transient, all},

		{stepMail, "550 5.4.5 daily sending quota exceeded", retry.Misconfigured, all},
		{stepRcpt, "550 5.4.5 daily sending quota exceeded", retry.Misconfigured, domain},
		{stepFinal, "550 5.7.1 sending quota used up", retry.Misconfigured, domain},
		{stepFinal, "550 5.7.0 account suspended", retry.Misconfigured, domain},
		{stepRcpt, "550 5.7.1 billing problem", retry.Misconfigured, domain},
		{stepRcpt, "552 5.2.2 mailbox over quota", retry.RecipientRefused, all},
		{stepRcpt, "550 5.7.1 not allowed", retry.RecipientRefused, all},
		{stepRcpt, "502 5.5.1 what?", retry.Misconfigured, all},
		{stepRcpt, "504 5.5.2 need a qualified hostname", retry.Misconfigured, all},
		{stepRcpt, "501 5.1.3 bad address", retry.RecipientRefused, all},
		{stepMail, "552 5.3.4 too large", retry.MessageRefused, all},
		{stepMail, "550 5.6.7 not in ASCII", retry.MessageRefused, all},
		{stepFinal, "554 5.7.1 looks like spam", retry.MessageRefused, all},
		{stepFinal, "550 5.7.26 unauthenticated", retry.Misconfigured, all},
	} {
		code, words, _, _ := splitLine(tt.reply)
		r := (&Provider{}).refused(tt.at, reply{code: code, lines: []string{words}})
		if r.Class != tt.class || r.Concerns != tt.concerns {
			t.Errorf("%q at %s: %s, concerns %q; want %s, %q", tt.reply, tt.at, r.Class, r.Concerns, tt.class,
				tt.concerns)
		}
	}
}

func TestOutcomes(t *testing.T) {
	s := newServer(t, StartTLS, "localhost", map[string]string{
		"MAIL FROM:<gale@": "451 4.7.5 sender is dozing", "RCPT TO:<slow@": "450 4.2.1 easy now",
		"RCPT TO:<odd@": "550 5.7.1 Hourly allotment is over", "RCPT TO:<gone@": "450 4.1.1 unknown forever"})
	p := s.provider(func(c *Config) {
		c.Outcomes = []Outcome{
			{At: "mail", Enhanced: "4.7", Class: retry.Misconfigured},
			{At: "rcpt", Words: "EASY NOW", Class: retry.Throttled, Concerns: provider.ConcernsDomain},
			{Code: "5xx", Words: "hourly allotment", Class: retry.Throttled},
			{Code: "450", Enhanced: "4.1.1", Class: retry.RecipientRefused},
		}
	})
	for to, want := range map[string]provider.Result{
		"slow@ternisle.example": {Class: retry.Throttled, Concerns: provider.ConcernsDomain},
		"odd@ternisle.example":  {Class: retry.Throttled}, "gone@ternisle.example": {Class: retry.RecipientRefused},
		"mara@ternisle.example": {Class: retry.Accepted},
	} {
		h, _ := handover()
		h.Envelope.To = to
		if r := p.Send(t.Context(), h); r.Class != want.Class || r.Concerns != want.Concerns {
			t.Errorf("%s: %+v, want %+v", to, r, want)
		}
	}
	h, _ := handover()
	h.Envelope.From = "gale@ternisle.example"
	if r := p.Send(t.Context(), h); r.Class != retry.Misconfigured {
		t.Errorf("at MAIL: %+v", r)
	}
}

// An outcome that could never count, or would count always, is refused with the reason.
func TestOutcomesRefused(t *testing.T) {
	slow := Outcome{Code: "450", Class: retry.Throttled}
	for want, all := range map[string][]Outcome{
		"class \"\"":            {{Code: "450"}},
		"class \"accepted\"":    {{Code: "450", Class: retry.Accepted}},
		"class \"ambiguous\"":   {{Code: "450", Class: retry.Ambiguous}},
		"at is \"helo\"":        {{At: "helo", Class: retry.Throttled}},
		"code is \"250\"":       {{Code: "250", Class: retry.Throttled}},
		"code is \"4x\"":        {{Code: "4x", Class: retry.Throttled}},
		"enhanced is \"4.7.x\"": {{Enhanced: "4.7.x", Class: retry.Throttled}},
		"different digits":      {{Code: "4xx", Enhanced: "5.7.1", Class: retry.Throttled}},
		"fits every refusal":    {{Class: retry.Throttled}},
		"with a space":          {{Words: " slow", Class: retry.Throttled}},
		"concerns is \"world\"": {{Code: "450", Class: retry.Throttled, Concerns: "world"}},
		"no recipient's domain": {{At: "mail", Class: retry.Throttled, Concerns: provider.ConcernsDomain}},
		"has no effect":         {{Code: "450", Class: retry.Transient, Concerns: provider.ConcernsDomain}},
		"outcome 2: it never":   {slow, {Code: "450", Words: "slow", Class: retry.Transient}},
		"outcome 2: it never c": {{Code: "4xx", Class: retry.Throttled}, {Code: "452", Class: retry.Transient}},
		"outcome 2: it never cou": {{Words: "easy", Class: retry.Throttled},
			{Words: "Easy now", Class: retry.Transient}},
	} {
		_, err := New("harbour", Config{Host: "x.example", TLS: StartTLS, Outcomes: all})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", all, err, want)
		}
	}
}
