package demo

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

// password is every made-up passenger's.
const password = "low tide at nine"

// A cast is a made-up passenger and the way they take.
type cast struct {
	name, email, lang string
	way               string
	play              func(*scene) error
}

// passengers lists who takes part. Each ends signed in.
var passengers = []cast{
	{"Mara Quist", "mara.quist@ternisle.example", "en", "presses the button", byButton},
	{"Jens Öhlén", "jens.oehlen@törnholm.example", "de", "types the code", byCode},
	{"Ida Brandt", "ida.brandt@ternisle.example", "de", "types a wrong code first", wrongCode},
	{"Tom Arkwright", "tom@gullquay.example", "en", "uses the link twice", twice},
	{"Nils Fogg", fog, "en", "first SMTP session says 451", refusedOnce},
	{"Greta Sund", "greta+ferry@gullquay.example", "de", "asks for the letter again", sentAgain},
	{"Oskar Lindqvist-Østergård", "oskar@törnholm.example", "de", "a mail scanner comes first", scanned},
	{"Ana Peixoto", "ana.peixoto@ternisle.example", "en", "registers twice", registersTwice},
	{`Bo "Skipper" ⚓ Holm`, "bo.holm@gullquay.example", "en", "types full-width digits", fullWidth},
	{"Lene Mohr", "lene.mohr@törnholm.example", "de", "opens the link elsewhere", otherBrowser},
	{"", "harbour.cat@ternisle.example", "en", "gives no name", byButton},
	{"Sigrid Aune", "sigrid@ternisle.example", "en", "signs in with a code", byMailedCode},
	{"Pål Riis", "paal.riis@gullquay.example", "en", "moves to another address", moves},
	{"Ines Amdal", "ines.amdal@ternisle.example", "de", "takes a foreign change back", takesBack},
	{"Wim Aalders", "wim.aalders@gullquay.example", "de", "comes after the link's life", tooLate},
}

// Script plays every passenger through the running demo, as a client of its pages and its inbox,
// and tells each step. The error is the first step that went wrong.
func Script(ctx context.Context, d *Demo, out *Teller) error {
	began := time.Now()
	for i, c := range passengers {
		s := &scene{cast: c, ctx: ctx, demo: d, out: out, browser: newBrowser(ctx, c.lang), step: time.Now()}
		out.Begin(i+1, len(passengers), c)
		start := time.Now()
		switch i {
		case fails:
			out.Harbour("falls over: connections are cut, and new ones closed")
			d.harbour.set(true)
		case works:
			out.Harbour("works again")
			d.harbour.set(false)
		}
		if err := c.play(s); err != nil {
			out.Wrong(err)
			return fmt.Errorf("passenger %d, %s: %w", i+1, c.email, err)
		}
		if err := s.signsIn(); err != nil {
			out.Wrong(err)
			return fmt.Errorf("passenger %d, %s: %w", i+1, c.email, err)
		}
		out.End(c.name, c.lang, c.way, len(d.Inbox.Letters(s.envelope())), time.Since(start))
	}
	if err := d.settle(ctx); err != nil {
		return err
	}
	sum, err := flow.Of(d.Service).Store.Summary(ctx, d.Now())
	if err != nil {
		return err
	}
	if n := sum.Count[store.Waiting] + sum.Count[store.Claimed] + sum.Count[store.Failed]; n > 0 {
		err := fmt.Errorf("%d deliveries are not done", n)
		out.Wrong(err)
		return err
	}
	attempts, err := d.attempts(ctx)
	if err != nil {
		return err
	}
	if arrived := len(d.Inbox.Letters("")); arrived < sum.Count[store.Sent] {
		err := fmt.Errorf("%d letters were sent and %d arrived", sum.Count[store.Sent], arrived)
		out.Wrong(err)
		return err
	}
	out.Summary(sum, attempts, len(d.Inbox.Letters("")), time.Since(began))
	return d.tellCarried(ctx, out)
}

// The preferred provider fails before one passenger and works again before another.
const fails, works = 5, 10

// attempts counts attempts by class.
func (d *Demo) attempts(ctx context.Context) (map[string]int, error) {
	counts := make(map[string]int)
	err := d.eachAttempt(ctx, func(a store.Attempt) { counts[string(a.Class)]++ })
	return counts, err
}

// eachAttempt calls fn with every attempt of the script.
func (d *Demo) eachAttempt(ctx context.Context, fn func(store.Attempt)) error {
	deliveries, err := flow.Of(d.Service).Store.List(ctx, store.Filter{}, "", 1000)
	if err != nil {
		return err
	}
	for _, one := range deliveries {
		tries, err := flow.Of(d.Service).Store.Attempts(ctx, one.ID)
		if err != nil {
			return err
		}
		for _, a := range tries {
			fn(a)
		}
	}
	return nil
}

// A scene is one passenger's way through the site.
type scene struct {
	cast
	ctx     context.Context
	demo    *Demo
	out     *Teller
	browser *browser
	step    time.Time

	contested bool // others may have registered the account: its password is void
}

// did tells a step that has just ended, and what was seen.
func (s *scene) did(what, seen string) {
	s.out.Step(what, seen, time.Since(s.step))
	s.step = time.Now()
}

// envelope is the address as SMTP carries it: the inbox files letters under it.
func (s *scene) envelope() string {
	return strings.NewReplacer("törnholm", "xn--trnholm-90a").Replace(s.email)
}

// see tells a step and fails unless the page has this heading, in the passenger's language.
func (s *scene) see(what, en, de string) error {
	want := map[string]string{"en": en, "de": de}[s.lang]
	seen := s.browser.page.Title
	if s.browser.page.Note != "" {
		seen += ": " + s.browser.page.Note
	}
	s.did(what, seen)
	if s.browser.page.Title != want {
		return fmt.Errorf("%s: the page says %q, want %q", what, seen, want)
	}
	return nil
}

// noted fails unless the page that is shown has a message that begins like this.
func (s *scene) noted(en, de string) error {
	want := map[string]string{"en": en, "de": de}[s.lang]
	if !strings.HasPrefix(s.browser.page.Note, want) {
		return fmt.Errorf("the page notes %q, want %q", s.browser.page.Note, want)
	}
	return nil
}

// registers fills in the form.
func (s *scene) registers() error {
	if err := s.browser.open(s.demo.SiteURL + "/register"); err != nil {
		return err
	}
	if err := s.browser.submit("/register",
		url.Values{"name": {s.name}, "email": {s.email}, "password": {password}}); err != nil {
		return err
	}
	return s.see("registers", "Check your email", "Bitte prüfen Sie Ihr E-Mail-Postfach")
}

// gets waits for the nth letter and checks what any letter must have.
func (s *scene) gets(n int) (mail, error) {
	all, err := lettersFor(s.ctx, s.demo.InboxURL, s.envelope(), n)
	if err != nil {
		return mail{}, err
	}
	m := all[n-1]
	s.did("gets a letter", m.Subject)
	switch {
	case m.Text == "" || m.HTML == "":
		return m, fmt.Errorf("the letter lacks its text or its HTML part")
	case m.Link == "" || m.Code == "":
		return m, fmt.Errorf("the letter lacks its link or its code")
	case !strings.Contains(m.Text, flow.Greeted(s.name)): // an odd name could be a stranger's words
		return m, fmt.Errorf("the letter does not greet %s", s.name)
	}
	return m, nil
}

// presses opens the link, which asks, and then confirms.
func (s *scene) presses(link string) error {
	if err := s.browser.open(link); err != nil {
		return err
	}
	if err := s.see("opens the link", "Is this your email address?", "Ist das Ihre E-Mail-Adresse?"); err != nil {
		return err
	}
	if s.browser.page.URL.RawQuery != "" {
		return fmt.Errorf("the token is still in the address bar")
	}
	if err := s.browser.submit("/confirm/*", nil); err != nil {
		return err
	}
	return s.see("confirms", "Your email address is confirmed", "Ihre E-Mail-Adresse ist bestätigt")
}

func (s *scene) types(code string) error {
	if err := s.browser.open(s.demo.SiteURL + "/proof"); err != nil {
		return err
	}
	if _, waits := s.browser.form("/proof/*/code"); waits {
		return s.browser.submit("/proof/*/code", url.Values{"code": {code}})
	}
	return nil // the page says why there is nothing to type
}

// triesToSignIn gives address and password.
func (s *scene) triesToSignIn() error {
	if err := s.browser.open(s.demo.SiteURL + "/signin"); err != nil {
		return err
	}
	return s.browser.submit("/signin", url.Values{"email": {s.email}, "password": {password}})
}

// signsIn is where every way ends.
func (s *scene) signsIn() error {
	if err := s.triesToSignIn(); err != nil {
		return err
	}
	if s.contested {
		if err := s.see("tries the password", "Sign in", "Anmelden"); err != nil {
			return err
		}
		if err := s.noted("Address and password do not match", "Adresse und Passwort passen nicht"); err != nil {
			return err
		}
		m, err := s.asksForCode(len(s.demo.Inbox.Letters(s.envelope())) + 1)
		if err != nil {
			return err
		}
		if err := s.types(m.Code); err != nil {
			return err
		}
	}
	comma := ""
	if s.name != "" {
		comma = ", " + s.name
	}
	return s.see("signs in", "Welcome aboard"+comma, "Willkommen an Bord"+comma)
}

// refusedSignIn checks that an unconfirmed passenger is told so.
func (s *scene) refusedSignIn() error {
	if err := s.triesToSignIn(); err != nil {
		return err
	}
	return s.see("tries to sign in", "Confirm your email address first", "Bestätigen Sie zuerst Ihre E-Mail-Adresse")
}
