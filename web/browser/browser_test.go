// Package browser plays the flows through a real Chromium, on the pages of a running demo. It is a
// module of its own, so that the library's users do not get what drives the browser.
package browser

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"github.com/illumicode/illumicode/demo"
)

// shots is the folder for pictures of the pages; empty for none.
var shots = flag.String("shots", "", "a folder to take pictures of pages into")

const password = "low tide at nine"

// An action is one step in a browser.
type action = chromedp.Action[chromedp.Void]

// css chooses elements.
type css = chromedp.CSS

// command is a command of the browser's protocol as a step.
func command[P, R any](c cdp.Command[P, R], params P) action {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, c, params)
		return err
	})
}

// look runs a step that returns something.
func look[T any](p *person, a chromedp.Action[T]) T {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, a)
	if err != nil {
		p.t.Fatal(err)
	}
	return v
}

// A person is a demo's visitor: a browser of their own, with cookies of its own.
type person struct {
	t    *testing.T
	ctx  context.Context
	demo *demo.Demo
}

// start starts a demo and a Chromium, which must be there: `make test` installs it.
func start(t *testing.T) (*demo.Demo, context.Context) {
	t.Helper()
	d, err := demo.Start(t.Context(), demo.Options{Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Stop(); d.Wait() })
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
		chromedp.Flag("accept-lang", "en"))
	allocator, stop := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(stop)
	browser, stopBrowser := chromedp.NewContext(allocator)
	t.Cleanup(stopBrowser)
	if err := chromedp.Do(browser); err != nil {
		t.Fatalf("Chromium does not start (apt-get install chromium): %v", err)
	}
	return d, browser
}

// newPerson opens a window with cookies of its own. without says what the browser lacks.
func newPerson(t *testing.T, d *demo.Demo, browser context.Context, lacks ...action) *person {
	t.Helper()
	ctx, stop := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	t.Cleanup(stop)
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	t.Cleanup(cancel)
	p := &person{t: t, ctx: ctx, demo: d}
	p.do(lacks...)
	return p
}

func (p *person) do(actions ...action) {
	p.t.Helper()
	if err := chromedp.Do(p.ctx, actions...); err != nil {
		p.t.Fatal(err)
	}
}

func (p *person) open(address string) {
	p.t.Helper()
	if strings.HasPrefix(address, "/") {
		address = p.demo.SiteURL + address
	}
	p.do(chromedp.Navigate(address))
}

// press presses the button of the form that goes to action, below it if it ends with a slash, with the mouse, and waits
// for the page that comes.
func (p *person) press(action string) {
	p.t.Helper()
	how := "="
	if strings.HasSuffix(action, "/") {
		how = "^="
	}
	p.leave(chromedp.Click(css(`form[action` + how + `"` + action + `"] button`)))
}

// leave does something that leads to another page, and waits for it.
func (p *person) leave(a action) {
	p.t.Helper()
	if _, err := chromedp.RunResponse(p.ctx, a); err != nil {
		p.t.Fatal(err)
	}
}

// sees fails unless the page has this heading, and all the words.
func (p *person) sees(heading string, words ...string) {
	p.t.Helper()
	h1, body, at := look(p, chromedp.Text(css("h1"))), look(p, chromedp.Text(css("body"))), look(p, chromedp.Location())
	if h1 != heading {
		p.t.Fatalf("%s says %q, want %q\n%s", at, h1, heading, body)
	}
	for _, w := range words {
		if !strings.Contains(body, w) {
			p.t.Fatalf("%s does not say %q:\n%s", at, w, body)
		}
	}
	if strings.Contains(at, "t=") {
		p.t.Fatalf("the token is in the address bar: %s", at)
	}
}

func (p *person) picture(name string) {
	p.t.Helper()
	if *shots == "" {
		return
	}
	if err := os.WriteFile(filepath.Join(*shots, name+".png"), look(p, chromedp.CaptureScreenshot()),
		0o644); err != nil {
		p.t.Fatal(err)
	}
}

func (p *person) register(name, email string) {
	p.t.Helper()
	p.open("/register")
	p.do(chromedp.SendKeys(css("#name"), name), chromedp.SendKeys(css("#email"), email),
		chromedp.SendKeys(css("#password"), password))
	p.press("/register")
	p.sees("Check your email", email)
}

func (p *person) signIn(email string) {
	p.t.Helper()
	p.open("/signin")
	p.do(chromedp.SendKeys(css("#email"), email), chromedp.SendKeys(css("#password"), password))
	p.press("/signin")
}

// A letter is one as the inbox tells programs of it.
type letter struct{ ID, Subject, Text, Link, Code string }

// letter waits for the nth letter to an address.
func (p *person) letter(to string, n int) letter {
	p.t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		resp, err := http.Get(p.demo.InboxURL + "/letters.json?to=" + url.QueryEscape(to))
		if err != nil {
			p.t.Fatal(err)
		}
		var all []struct {
			ID                        json.Number
			Subject, Text, Link, Code string
		}
		err = json.NewDecoder(resp.Body).Decode(&all)
		resp.Body.Close()
		if err != nil {
			p.t.Fatal(err)
		}
		if len(all) >= n {
			l := all[n-1]
			return letter{l.ID.String(), l.Subject, l.Text, l.Link, l.Code}
		}
	}
	p.t.Fatalf("letter %d to %s did not arrive", n, to)
	return letter{}
}

// Registered, the letter read in the inbox, its button followed, and confirmed; with script and
// without.
func TestSignup(t *testing.T) {
	d, browser := start(t)
	for name, lacks := range map[string][]action{
		"with script": nil,
		"without script": {
			command(emulation.SetScriptExecutionDisabled, emulation.SetScriptExecutionDisabledParams{Value: true})},
		"without Sec-Fetch-Site": {
			command(network.SetExtraHTTPHeaders, network.SetExtraHTTPHeadersParams{
				Headers: network.Headers{"Sec-Fetch-Site": ""}})},
	} {
		t.Run(name, func(t *testing.T) {
			email := strings.ReplaceAll(name, " ", ".") + "@ternisle.example"
			p := newPerson(t, d, browser, lacks...)
			p.register("Mara Quist", email)
			p.picture("wait")
			l := p.letter(email, 1)
			p.signIn(email)
			p.sees("Confirm your email address first")
			p.open(d.InboxURL + "/letter/" + l.ID + "/html")
			p.leave(chromedp.Click(chromedp.Search(`//a[contains(., "Confirm email address")]`)))
			p.sees("Is this your email address?", email, "Tern Isle Ferry")
			p.picture("confirm")
			p.press("/confirm/")
			p.sees("Your email address is confirmed")
			p.signIn(email)
			p.sees("Welcome aboard, Mara Quist")
		})
	}
}

// By keyboard alone: a code is asked for, a wrong one is typed five times, then another challenge
// signs in with the right one. Elsewhere its link signs in nobody.
func TestSignInByCode(t *testing.T) {
	d, browser := start(t)
	const email = "ines@ternisle.example"
	p := newPerson(t, d, browser)
	p.register("Ines Amdal", email)
	p.do(chromedp.SendKeys(css("#code"), p.letter(email, 1).Code))
	p.leave(chromedp.KeyEvent(kb.Enter))
	p.sees("Your email address is confirmed")

	ask := func(p *person) {
		t.Helper()
		p.open("/signin")
		p.do(chromedp.Focus(css("#code-email")), chromedp.KeyEvent(email), chromedp.KeyEvent(kb.Tab))
		p.leave(chromedp.KeyEvent(kb.Enter))
		p.sees("Check your email", email)
	}
	ask(p)
	code := strings.ReplaceAll(p.letter(email, 2).Code, " ", "")
	wrong := string('0'+(code[0]-'0'+1)%10) + code[1:]
	for left := 4; left >= 0; left-- {
		p.do(chromedp.KeyEvent(wrong)) // the field has the focus
		p.leave(chromedp.KeyEvent(kb.Enter))
		if left > 0 {
			p.sees("Check your email", fmt.Sprint("Attempts left: ", left, "."))
		}
	}
	p.sees("Check your email", "All attempts for this code are used", "Send again")
	p.picture("tries")

	// another code is one more letter, and waits as a resend does; its page is another one
	if err := d.Ahead(t.Context(), 31*time.Second); err != nil {
		t.Fatal(err)
	}
	p.leave(chromedp.Click(css(`form[action$="/resend"] button`)))
	p.sees("Check your email", email)
	l := p.letter(email, 3)
	stranger := newPerson(t, d, browser)
	stranger.open(l.Link)
	stranger.sees("Are you signing in here?", "i…@ternisle.example")
	stranger.picture("elsewhere")
	stranger.open("/account")
	stranger.sees("Sign in")
	p.do(chromedp.KeyEvent(l.Code))
	p.leave(chromedp.KeyEvent(kb.Enter))
	p.sees("Welcome aboard, Ines Amdal")
}

// tab opens another tab of the same browser.
func (p *person) tab() *person {
	p.t.Helper()
	ctx, stop := chromedp.NewContext(p.ctx)
	p.t.Cleanup(stop)
	return &person{t: p.t, ctx: ctx, demo: p.demo}
}

// With two letters open in two tabs each button confirms the address of its own page; back from there the page asks for
// the link again, and confirms nothing.
func TestTwoTabsAndBack(t *testing.T) {
	d, browser := start(t)
	const one, two = "one@ternisle.example", "two@ternisle.example"
	p := newPerson(t, d, browser)
	p.register("Mara Quist", one)
	p.register("Ines Amdal", two)
	reader := newPerson(t, d, browser)
	reader.open(p.letter(one, 1).Link)
	reader.sees("Is this your email address?", one)
	other := reader.tab()
	other.open(p.letter(two, 1).Link)
	other.sees("Is this your email address?", two)
	reader.press("/confirm/")
	reader.sees("Your email address is confirmed")
	p.signIn(two)
	p.sees("Confirm your email address first")
	reader.do(chromedp.NavigateBack())
	reader.sees("Please open the link again")
	reader.open(p.letter(one, 1).Link)
	reader.sees("Already confirmed")
	other.press("/confirm/")
	other.sees("Your email address is confirmed")
}

// The address is changed by somebody in the account, and the old address takes the change back.
func TestChangeAndUndo(t *testing.T) {
	d, browser := start(t)
	const email, other = "sigrid@ternisle.example", "somebody@gullquay.example"
	p := newPerson(t, d, browser)
	p.register("Sigrid Aune", email)
	p.open(p.letter(email, 1).Link)
	p.press("/confirm/")
	p.signIn(email)
	p.do(chromedp.SendKeys(css("#email"), other))
	p.press("/account/address")
	p.sees("Check your email", other)
	p.do(chromedp.SendKeys(css("#code"), p.letter(other, 1).Code))
	p.leave(chromedp.KeyEvent(kb.Enter))
	p.sees("Your email address is confirmed")

	owner := newPerson(t, d, browser)
	owner.open(p.letter(email, 2).Link)
	owner.sees("Undo the change?", email, other, "already in effect")
	owner.picture("undo")
	owner.press("/not-me/")
	owner.sees("Undo the change?", "The account is locked")
	p.open("/account") // whoever changed it is signed out
	p.sees("Sign in")
	p.signIn(other) // and the password does not help
	p.sees("Sign in", "This account is locked")
	for n, address := range map[int]string{2: other, 4: email} {
		if l := p.letter(address, n); l.Subject != "Do you still use this email address?" {
			t.Errorf("%s is asked by %q", address, l.Subject)
		}
	}
	p.open(p.letter(other, 2).Link)
	p.press("/confirm/") // nor does a fresh proof
	p.sees("Thank you, this is noted", "stays locked")
	p.open(p.letter(other, 2).Link)
	p.sees("Thank you, this is noted", "stays locked")
}

// The waiting page counts down where script runs.
func TestCountdown(t *testing.T) {
	d, browser := start(t)
	p := newPerson(t, d, browser)
	p.register("Jens Öhlén", "jens@ternisle.example")
	first := look(p, chromedp.Text(css("[data-count]")))
	look(p, chromedp.Poll[bool](`document.querySelector("[data-count]").textContent !== "`+first+`"`))
	later := look(p, chromedp.Text(css("[data-count]")))
	if !regexp.MustCompile(`^0:[123]\d$`).MatchString(first) || later >= first {
		t.Errorf("it counted from %s to %s", first, later)
	}
}

// On a phone nothing is wider than the screen, and what is pressed is large enough for a thumb; in
// Arabic the page runs from the right.
func TestPhone(t *testing.T) {
	d, browser := start(t)
	p := newPerson(t, d, browser,
		command(emulation.SetDeviceMetricsOverride, emulation.SetDeviceMetricsOverrideParams{
			Width: 360, Height: 740, DeviceScaleFactor: 2, Mobile: true}),
		command(network.SetExtraHTTPHeaders, network.SetExtraHTTPHeadersParams{
			Headers: network.Headers{"Accept-Language": "ar"}}),
		command(emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: "dark"}}}))
	p.open("/register")
	p.do(chromedp.SendKeys(css("#email"), "omar.of.the.long.harbour.road@gullquay.example"),
		chromedp.SendKeys(css("#password"), password))
	p.press("/register")
	p.sees("يُرجى مراجعة بريدك الإلكتروني")
	p.picture("phone")
	type measures struct {
		Wide, Screen, Least float64
		Dir                 string
	}
	page := look(p,
		chromedp.Evaluate[measures](
			`({Wide: document.documentElement.scrollWidth, Screen: innerWidth,
		Dir: getComputedStyle(document.body).direction,
		Least: Math.min(...[...document.querySelectorAll("main button, main input")]
			.filter(e => e.offsetParent).map(e => e.getBoundingClientRect().height))})`))
	if page.Wide > page.Screen || page.Least < 36 || page.Dir != "rtl" {
		t.Errorf("%+v", page)
	}
}

// A mail scanner that follows every link of every letter, by GET and HEAD, changes nothing.
func TestScanner(t *testing.T) {
	d, browser := start(t)
	const email, other = "lene@ternisle.example", "lene@gullquay.example"
	p := newPerson(t, d, browser)
	p.register("Lene Mohr", email)
	p.open(p.letter(email, 1).Link)
	p.press("/confirm/")
	p.signIn(email)
	p.do(chromedp.SendKeys(css("#email"), other))
	p.press("/account/address")
	q := newPerson(t, d, browser)
	q.open("/signin")
	q.do(chromedp.SendKeys(css("#code-email"), email))
	q.press("/signin/code")
	state := func() string {
		t.Helper()
		db := d.Service.Store().DB()
		var out strings.Builder
		for _, query := range []string{
			"SELECT id, state, proved, accepted, tries FROM illumicode_challenge ORDER BY id",
			"SELECT subject, address, standing, '', '' FROM illumicode_address ORDER BY address",
			"SELECT id, state, frozen, '', '' FROM illumicode_change",
			"SELECT mailbox, wanted, '', '', '' FROM illumicode_preference"} {
			rows, err := db.Query(query)
			if err != nil {
				t.Fatal(err)
			}
			for rows.Next() {
				var a, b, c, d, e string
				if err := rows.Scan(&a, &b, &c, &d, &e); err != nil {
					t.Fatal(err)
				}
				fmt.Fprintln(&out, a, b, c, d, e)
			}
			rows.Close()
		}
		return out.String()
	}
	links := 0
	letters := []letter{p.letter(email, 1), p.letter(email, 2), p.letter(email, 3), p.letter(other, 1)}
	before := state()
	for _, l := range letters {
		for _, link := range regexp.MustCompile(`http://\S+`).FindAllString(l.Text, -1) {
			links++
			for _, method := range []string{http.MethodHead, http.MethodGet} {
				req, err := http.NewRequestWithContext(t.Context(), method, link, nil)
				if err != nil {
					t.Fatal(err)
				}
				resp, err := http.DefaultClient.Do(req)
				if err != nil {
					t.Fatal(err)
				}
				io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
			}
		}
	}
	if after := state(); links < 8 || after != before {
		t.Errorf("%d links; before:\n%safter:\n%s", links, before, after)
	}
}
