package demo

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/illumicode/illumicode/store"
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
		out.Begin(i+1, len(passengers), c.name, c.email, c.lang, c.way)
		start := time.Now()
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
	sum, err := d.Service.Store().Summary(ctx, d.Now())
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
	return nil
}

// attempts counts attempts by class.
func (d *Demo) attempts(ctx context.Context) (map[string]int, error) {
	counts := make(map[string]int)
	deliveries, err := d.Service.Store().List(ctx, store.Filter{}, "", 1000)
	if err != nil {
		return nil, err
	}
	for _, one := range deliveries {
		tries, err := d.Service.Store().Attempts(ctx, one.ID)
		if err != nil {
			return nil, err
		}
		for _, a := range tries {
			counts[string(a.Class)]++
		}
	}
	return counts, nil
}

// A scene is one passenger's way through the site.
type scene struct {
	cast
	ctx     context.Context
	demo    *Demo
	out     *Teller
	browser *browser
	step    time.Time
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
	if err := s.browser.submit("/register", url.Values{"name": {s.name}, "email": {s.email}, "password": {password}}); err != nil {
		return err
	}
	return s.see("registers", "Look into your mail", "Schauen Sie in Ihre Post")
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
	case s.name != "" && !strings.Contains(m.Text, s.name):
		return m, fmt.Errorf("the letter does not greet %s", s.name)
	}
	return m, nil
}

// presses opens the link, which asks, and then confirms.
func (s *scene) presses(link string) error {
	if err := s.browser.open(link); err != nil {
		return err
	}
	if err := s.see("opens the link", "Is this your address?", "Ist das Ihre Adresse?"); err != nil {
		return err
	}
	if s.browser.page.URL.RawQuery != "" {
		return fmt.Errorf("the token is still in the address bar")
	}
	if err := s.browser.submit("/confirm", nil); err != nil {
		return err
	}
	return s.see("confirms", "Your address is confirmed", "Ihre Adresse ist bestätigt")
}

func (s *scene) types(code string) error {
	if err := s.browser.open(s.demo.SiteURL + "/proof"); err != nil {
		return err
	}
	if s.browser.page.forms["/proof/code"] {
		return s.browser.submit("/proof/code", url.Values{"code": {code}})
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
	return s.see("tries to sign in", "Confirm your address first", "Bestätigen Sie zuerst Ihre Adresse")
}

func byButton(s *scene) error {
	if err := s.registers(); err != nil {
		return err
	}
	if err := s.refusedSignIn(); err != nil {
		return err
	}
	m, err := s.gets(1)
	if err != nil {
		return err
	}
	return s.presses(m.Link)
}

func byCode(s *scene) error {
	m, err := s.registersAndGets()
	if err != nil {
		return err
	}
	return s.confirmsWith(m.Code)
}

func (s *scene) registersAndGets() (mail, error) {
	if err := s.registers(); err != nil {
		return mail{}, err
	}
	return s.gets(1)
}

func (s *scene) confirmsWith(code string) error {
	if err := s.types(code); err != nil {
		return err
	}
	return s.see("types the code", "Your address is confirmed", "Ihre Adresse ist bestätigt")
}

func wrongCode(s *scene) error {
	m, err := s.registersAndGets()
	if err != nil {
		return err
	}
	wrong := []byte(strings.ReplaceAll(m.Code, " ", ""))
	wrong[0] = '0' + (wrong[0]-'0'+1)%10
	if err := s.types(string(wrong)); err != nil {
		return err
	}
	if err := s.see("types a wrong code", "Look into your mail", "Schauen Sie in Ihre Post"); err != nil {
		return err
	}
	if err := s.noted("That code does not fit. Tries left: 4", "Dieser Code passt nicht. Verbleibende Versuche: 4"); err != nil {
		return err
	}
	return s.confirmsWith(m.Code)
}

func twice(s *scene) error {
	m, err := s.registersAndGets()
	if err != nil {
		return err
	}
	if err := s.presses(m.Link); err != nil {
		return err
	}
	if err := s.browser.open(m.Link); err != nil {
		return err
	}
	return s.see("opens the link again", "Done already", "Schon erledigt")
}

func refusedOnce(s *scene) error {
	if err := s.registers(); err != nil {
		return err
	}
	all, err := lettersFor(s.ctx, s.demo.InboxURL, s.envelope(), 1)
	if err != nil {
		return err
	}
	if err := s.demo.settle(s.ctx); err != nil {
		return err
	}
	deliveries, err := s.demo.Service.Store().List(s.ctx, store.Filter{}, "", 1)
	if err != nil {
		return err
	}
	attempts, err := s.demo.Service.Store().Attempts(s.ctx, deliveries[0].ID)
	if err != nil {
		return err
	}
	if len(attempts) < 2 || attempts[0].Code != 451 {
		return fmt.Errorf("the first of %d attempts should have been refused with 451", len(attempts))
	}
	s.did("attempt 1 is refused", attempts[0].Reply)
	s.did("attempt 2 is accepted", attempts[1].Reply)
	return s.presses(all[0].Link)
}

func sentAgain(s *scene) error {
	first, err := s.registersAndGets()
	if err != nil {
		return err
	}
	if err := s.refusedSignIn(); err != nil {
		return err
	}
	if err := s.browser.submit("/signin/again", nil); err != nil {
		return err
	}
	if err := s.see("asks for it again", "Confirm your address first", "Bestätigen Sie zuerst Ihre Adresse"); err != nil {
		return err
	}
	if s.browser.page.Status != http.StatusTooManyRequests {
		return fmt.Errorf("a resend at once should have been refused")
	}
	if err := s.demo.Ahead(s.ctx, 31*time.Second); err != nil {
		return err
	}
	s.did("half a minute passes", "(virtual: the demo's clock is set 31 s ahead)")
	if err := s.browser.submit("/signin/again", nil); err != nil {
		return err
	}
	if err := s.noted("The letter is on its way once more", "Der Brief ist noch einmal unterwegs"); err != nil {
		return err
	}
	second, err := s.gets(2)
	if err != nil {
		return err
	}
	if first.Code != second.Code {
		return fmt.Errorf("the two letters hold different codes")
	}
	return s.confirmsWith(first.Code)
}

func scanned(s *scene) error {
	m, err := s.registersAndGets()
	if err != nil {
		return err
	}
	scanner := newBrowser(s.ctx, "en")
	for _, method := range []string{http.MethodHead, http.MethodGet} {
		if err := scanner.do(method, m.Link, nil); err != nil {
			return err
		}
	}
	s.did("a scanner follows the link", scanner.page.Title)
	if err := s.refusedSignIn(); err != nil {
		return fmt.Errorf("after the scanner: %w", err)
	}
	return s.presses(m.Link)
}

func registersTwice(s *scene) error {
	m, err := s.registersAndGets()
	if err != nil {
		return err
	}
	stranger := *s
	stranger.browser = newBrowser(s.ctx, s.lang)
	if err := stranger.registers(); err != nil {
		return err
	}
	s.step = stranger.step
	if err := s.presses(m.Link); err != nil {
		return err
	}
	if n := len(s.demo.Inbox.Letters(s.envelope())); n != 1 {
		return fmt.Errorf("a stranger's registration sent a letter: %d arrived", n)
	}
	return nil
}

func fullWidth(s *scene) error {
	m, err := s.registersAndGets()
	if err != nil {
		return err
	}
	wide := strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r - '0' + '０'
		}
		return '　' // an ideographic space
	}, m.Code)
	return s.confirmsWith(wide)
}

func otherBrowser(s *scene) error {
	m, err := s.registersAndGets()
	if err != nil {
		return err
	}
	first := s.browser
	s.browser = newBrowser(s.ctx, s.lang)
	if err := s.presses(m.Link); err != nil {
		return err
	}
	if err := s.browser.open(s.demo.SiteURL + "/account"); err != nil {
		return err
	}
	if err := s.see("is not signed in there", "Sign in", "Anmelden"); err != nil {
		return err
	}
	s.browser = first
	return nil
}

// asksForCode asks for a code to sign in, and returns the nth letter.
func (s *scene) asksForCode(n int) (mail, error) {
	if err := s.browser.open(s.demo.SiteURL + "/signin"); err != nil {
		return mail{}, err
	}
	if err := s.browser.submit("/signin/code", url.Values{"email": {s.email}}); err != nil {
		return mail{}, err
	}
	if err := s.see("asks for a code", "Look into your mail", "Schauen Sie in Ihre Post"); err != nil {
		return mail{}, err
	}
	nameless := *s // a code greets nobody by name: whoever typed the address did not say one
	nameless.name = ""
	m, err := nameless.gets(n)
	s.step = nameless.step
	return m, err
}

func byMailedCode(s *scene) error {
	if err := byCode(s); err != nil {
		return err
	}
	m, err := s.asksForCode(2)
	if err != nil {
		return err
	}
	stranger := newBrowser(s.ctx, s.lang)
	if err := stranger.open(m.Link); err != nil {
		return err
	}
	s.did("a stranger opens its link", stranger.page.Title)
	if stranger.page.Title != "Open it where you began" {
		return fmt.Errorf("a link that signs in works elsewhere: %q", stranger.page.Title)
	}
	if err := s.types(m.Code); err != nil {
		return err
	}
	if err := s.see("types the code", "Welcome aboard, "+s.name, ""); err != nil {
		return err
	}
	return s.browser.submit("/signout", nil)
}

// asksForAddress begins the change of address, signed in.
func (s *scene) asksForAddress(to string) error {
	if err := s.signsIn(); err != nil {
		return err
	}
	if err := s.browser.submit("/account/address", url.Values{"email": {to}}); err != nil {
		return err
	}
	return s.see("asks for another address", "Look into your mail", "Schauen Sie in Ihre Post")
}

func moves(s *scene) error {
	if err := byCode(s); err != nil {
		return err
	}
	const to = "paal.riis@törnholm.example"
	if err := s.asksForAddress(to); err != nil {
		return err
	}
	if _, err := lettersFor(s.ctx, s.demo.InboxURL, s.envelope(), 2); err != nil {
		return fmt.Errorf("the old address was not told: %w", err)
	}
	s.did("the old address is told", "with a link to take it back")
	s.email = to
	m, err := s.gets(1)
	if err != nil {
		return err
	}
	return s.confirmsWith(m.Code)
}

func takesBack(s *scene) error {
	if err := byCode(s); err != nil {
		return err
	}
	if err := s.asksForAddress("somebody.else@gullquay.example"); err != nil {
		return err
	}
	all, err := lettersFor(s.ctx, s.demo.InboxURL, s.envelope(), 2)
	if err != nil {
		return err
	}
	s.did("the old address is told", all[1].Subject)
	owner := *s
	owner.browser = newBrowser(s.ctx, s.lang)
	if err := owner.browser.open(all[1].Link); err != nil {
		return err
	}
	if err := owner.see("opens its link", "Take the change back?", "Die Änderung zurücknehmen?"); err != nil {
		return err
	}
	if err := owner.browser.submit("/not-me", nil); err != nil {
		return err
	}
	s.step = owner.step
	s.did("takes the change back", owner.browser.page.Note)
	theirs, err := lettersFor(s.ctx, s.demo.InboxURL, "somebody.else@gullquay.example", 1)
	if err != nil {
		return err
	}
	if err := s.types(theirs[0].Code); err != nil {
		return err
	}
	return s.see("the other address comes too late", "This letter is void", "Dieser Brief gilt nicht mehr")
}

func tooLate(s *scene) error {
	m, err := s.registersAndGets()
	if err != nil {
		return err
	}
	if err := s.demo.Ahead(s.ctx, 25*time.Hour); err != nil {
		return err
	}
	s.did("a day and an hour pass", "(virtual: the demo's clock is set 25 h ahead)")
	if err := s.browser.open(m.Link); err != nil {
		return err
	}
	if err := s.see("opens the link", "This link has expired", "Dieser Link ist abgelaufen"); err != nil {
		return err
	}
	if err := s.refusedSignIn(); err != nil {
		return err
	}
	if err := s.browser.submit("/signin/again", nil); err != nil {
		return err
	}
	if err := s.see("asks for a new letter", "Look into your mail", "Schauen Sie in Ihre Post"); err != nil {
		return err
	}
	fresh, err := s.gets(2)
	if err != nil {
		return err
	}
	return s.presses(fresh.Link)
}
