package demo

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

// The ways that passengers take; see passengers.

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
	return s.see("types the code", "Your email address is confirmed", "Ihre E-Mail-Adresse ist bestätigt")
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
	if err := s.see("types a wrong code", "Check your email", "Bitte prüfen Sie Ihr E-Mail-Postfach"); err != nil {
		return err
	}
	if err := s.noted("That code isn’t right. Attempts left: 4.",
		"Dieser Code ist falsch. Verbleibende Versuche: 4."); err != nil {
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
	return s.see("opens the link again", "Already confirmed", "Bereits bestätigt")
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
	deliveries, err := flow.Of(s.demo.Service).Store.List(s.ctx, store.Filter{}, "", 1)
	if err != nil {
		return err
	}
	attempts, err := flow.Of(s.demo.Service).Store.Attempts(s.ctx, deliveries[0].ID)
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
	if err := s.see("asks for it again", "Confirm your email address first",
		"Bestätigen Sie zuerst Ihre E-Mail-Adresse"); err != nil {
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
	if err := s.noted("We are sending it again", "Wir senden sie erneut"); err != nil {
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
	if _, err := s.gets(2); err != nil { // of the stranger's own challenge, with a code that fits there alone
		return err
	}
	s.contested = true
	return s.presses(m.Link)
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
	s.browser, s.contested = first, true
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
	if err := s.see("asks for a code", "Check your email", "Bitte prüfen Sie Ihr E-Mail-Postfach"); err != nil {
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
	if stranger.page.Title != "Are you signing in here?" {
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
	return s.see("asks for another address", "Check your email", "Bitte prüfen Sie Ihr E-Mail-Postfach")
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
	if err := owner.see("opens its link", "Undo the change?", "Änderung rückgängig machen?"); err != nil {
		return err
	}
	if err := owner.browser.submit("/not-me/*", nil); err != nil {
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
	return s.see("the other address comes too late", "This request has ended", "Diese Anforderung ist beendet")
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
	if err := s.see("asks for a new letter", "Confirm your email address first",
		"Bestätigen Sie zuerst Ihre E-Mail-Adresse"); err != nil {
		return err
	}
	fresh, err := s.gets(2)
	if err != nil {
		return err
	}
	return s.presses(fresh.Link)
}
