package web_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/mail"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/web"
)

const mara = "mara@ternisle.example"

// A site is a kit with its pages and its JSON on a real server, and a way to begin a signup that
// remembers the browser.
type site struct {
	*illumicodetest.Kit
	server *httptest.Server
	pages  *web.Pages
	told   []string // what the application was called with
	broken error    // what its callback that confirms returns
	fault  web.Fault
	t      *testing.T

	shown map[*http.Client]string // the path of the page that each browser shows, which forms POST below
}

const apiKey = "a key of the application's own"

// options are the callbacks of an application: they remember what they were told.
func (s *site) options() web.Options {
	return web.Options{
		SignIn: "/signin", After: map[string]string{challenge.SignIn: "/inside"},
		Apply:  func(context.Context, illumicode.Tx, illumicode.Proof) error { return s.broken },
		Failed: func(_ *http.Request, f web.Fault) { s.fault = f },
		SignedIn: func(w http.ResponseWriter, _ *http.Request, _ illumicode.Tx, who illumicode.SignedIn) error {
			http.SetCookie(w, &http.Cookie{Name: "session", Value: who.Subject, Path: "/"})
			return nil
		},
		NotMe: func(_ context.Context, _ illumicode.Tx, d illumicode.Disowned) error {
			s.told = append(s.told, "not me: "+d.Purpose)
			return nil
		},
		Undo: func(_ context.Context, _ illumicode.Tx, c illumicode.Change) error {
			s.told = append(s.told, "undo: "+c.New)
			return nil
		},
		Correct: func(_ context.Context, _ illumicode.Tx, to illumicode.Holding) error {
			s.told = append(s.told, "correct: "+to.Subject+" "+to.Address)
			return nil
		},
	}
}

func newSite(t *testing.T, change ...func(*illumicode.Config)) *site {
	t.Helper()
	s := &site{t: t, shown: make(map[*http.Client]string)}
	mux := http.NewServeMux()
	s.server = httptest.NewServer(mux)
	t.Cleanup(s.server.Close)
	base := func(c *illumicode.Config) { c.Site.BaseURL = s.server.URL }
	s.Kit = illumicodetest.New(t, append([]func(*illumicode.Config){base}, change...)...)
	pages, err := web.NewPages(s.Service, s.options())
	if err != nil {
		t.Fatal(err)
	}
	s.pages = pages
	mux.HandleFunc("POST /code", func(w http.ResponseWriter, r *http.Request) {
		p, err := s.Service.SignIn(r.Context(), pages.Request(r, r.PostFormValue("address")))
		switch {
		case pages.TooSoon(w, r, err):
		case err != nil:
			t.Error(err)
		default:
			pages.Await(w, r, p)
		}
	})
	mux.HandleFunc("GET /inside", func(w http.ResponseWriter, r *http.Request) {
		if c, err := r.Cookie("session"); err == nil {
			io.WriteString(w, "inside as "+c.Value)
		}
	})
	api, err := web.NewAPI(s.Service, apiKey, web.APIOptions{})
	if err != nil {
		t.Fatal(err)
	}
	mux.Handle("/v1/", api)
	mux.Handle("/", pages)
	mux.HandleFunc("POST /begin", func(w http.ResponseWriter, r *http.Request) {
		q, subject := pages.Request(r, mara), "a"
		if other := r.PostFormValue("address"); other != "" {
			q, subject = pages.Request(r, other), other
		}
		q.Name = "Mara"
		p, err := s.Service.Signup(r.Context(), q, illumicode.Subject(subject))
		if err != nil {
			t.Error(err)
		}
		pages.Await(w, r, p)
	})
	return s
}

func (s *site) browser() *http.Client {
	s.t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		s.t.Fatal(err)
	}
	return &http.Client{Jar: jar}
}

// do sends a request and returns the answer with its body.
func (s *site) do(c *http.Client, method, path string, form url.Values, header ...string) (*http.Response, string) {
	s.t.Helper()
	address := path
	if strings.HasPrefix(path, "/") {
		address = s.server.URL + path
	}
	req, err := http.NewRequestWithContext(s.t.Context(), method, address, strings.NewReader(form.Encode()))
	if err != nil {
		s.t.Fatal(err)
	}
	if form != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := c.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		s.t.Fatal(err)
	}
	if at := marked.FindString(resp.Request.URL.Path); at != "" {
		s.shown[c] = at
	}
	return resp, string(body)
}

// marked is the beginning of the path of a page about one link or one ticket.
var marked = regexp.MustCompile(`^/(proof|confirm|not-me)/[0-9a-f]{16}`)

// here returns the path of the page that a browser shows.
func (s *site) here(c *http.Client) string {
	if at := s.shown[c]; at != "" {
		return at
	}
	return "/proof/0123456789abcdef" // of another browser
}

// handedOver waits until no letter waits in the outbox.
func (s *site) handedOver() {
	s.t.Helper()
	for waits := true; waits; time.Sleep(2 * time.Millisecond) {
		sum, err := flow.Of(s.Service).Store.Summary(s.t.Context(), s.Service.Now())
		if err != nil {
			s.t.Fatal(err)
		}
		waits = sum.Count[store.Waiting]+sum.Count[store.Claimed] > 0
	}
}

func (s *site) confirmed() bool {
	s.t.Helper()
	yes, err := s.Service.Confirmed(s.t.Context(), "a")
	if err != nil {
		s.t.Fatal(err)
	}
	return yes
}

// A mail scanner that follows the link, with whatever method but POST, confirms nothing.
func TestOnlyPostConfirms(t *testing.T) {
	s := newSite(t)
	s.do(s.browser(), "POST", "/begin", nil)
	link := s.Letter(mara, 1).Link()
	scanner := s.browser()
	for _, method := range []string{"HEAD", "GET", "OPTIONS", "PUT", "DELETE"} {
		s.do(scanner, method, link, nil)
		if at := s.shown[scanner]; at != "" {
			s.do(scanner, method, at, nil)
		}
		if s.confirmed() {
			t.Fatalf("%s confirmed the address", method)
		}
	}
	person := s.browser()
	resp, body := s.do(person, "GET", link, nil)
	if resp.Request.URL.RawQuery != "" || !marked.MatchString(resp.Request.URL.Path) {
		t.Errorf("the page is at %s: the token is still in the address bar", resp.Request.URL)
	}
	if !strings.Contains(body, mara) || !strings.Contains(body, "Tern Isle Ferry") {
		t.Errorf("the page does not say what and whose:\n%s", body)
	}
	for header, want := range map[string]string{
		"Referrer-Policy": "same-origin", "Cache-Control": "no-store", "X-Content-Type-Options": "nosniff",
		"Content-Security-Policy": "default-src 'none'; style-src 'self'; script-src 'self'; form-action 'self'; " +
			"frame-ancestors 'none'; base-uri 'none'",
	} {
		if got := resp.Header.Get(header); got != want {
			t.Errorf("%s: %q, want %q", header, got, want)
		}
	}
	resp, body = s.do(person, "POST", s.here(person), nil)
	if !s.confirmed() || resp.StatusCode != http.StatusOK ||
		!strings.Contains(body, "Your email address is confirmed") ||
		!strings.Contains(body, `href="/signin"`) {
		t.Errorf("POST: %d, confirmed %v\n%s", resp.StatusCode, s.confirmed(), body)
	}
	if _, body = s.do(person, "GET", link, nil, "Accept-Language", "de-CH"); !strings.Contains(body,
		"Bereits bestätigt") || !strings.Contains(body, `lang="de"`) {
		t.Errorf("the link once more, in German:\n%s", body)
	}
}

// A page of another site cannot press the button.
func TestForeignPostIsRefused(t *testing.T) {
	s := newSite(t)
	s.do(s.browser(), "POST", "/begin", nil)
	person := s.browser()
	s.do(person, "GET", s.Letter(mara, 1).Link(), nil)
	for _, header := range [][]string{{"Origin", "https://evil.example"}, {"Sec-Fetch-Site", "cross-site"},
		{"Origin", "null"}} {
		if resp, _ := s.do(person, "POST", s.here(person), nil, header...); resp.StatusCode != http.StatusForbidden ||
			s.confirmed() {
			t.Errorf("%v: %d, confirmed %v", header, resp.StatusCode, s.confirmed())
		}
	}
	if resp, _ := s.do(person, "POST", s.here(person), nil, "Origin", s.server.URL); resp.StatusCode != http.StatusOK ||
		!s.confirmed() {
		t.Errorf("our own page, in a browser without Sec-Fetch-Site: %d", resp.StatusCode)
	}
}

func TestCodePage(t *testing.T) {
	s := newSite(t)
	b := s.browser()
	_, body := s.do(b, "POST", "/begin", nil)
	if !strings.Contains(body, `autocomplete="one-time-code"`) || !strings.Contains(body, mara) {
		t.Errorf("the waiting page:\n%s", body)
	}
	code := s.Letter(mara, 1).Code()
	wrong := string('0'+(code[0]-'0'+1)%10) + code[1:]
	for _, tt := range []struct {
		who    *http.Client
		code   string
		status int
		want   string
	}{
		// no ticket: not the browser that began
		{s.browser(), code, http.StatusNotFound, "Nothing to confirm here"},
		{b, "hello", http.StatusUnprocessableEntity, "A code has only digits"},
		{b, wrong, http.StatusUnprocessableEntity, "Attempts left: 4"},
		{b, code, http.StatusOK, "Your email address is confirmed"},
		{b, code, http.StatusOK, "Your email address is confirmed"}, // pressed twice
	} {
		resp, body := s.do(tt.who, "POST", s.here(tt.who)+"/code", url.Values{"code": {tt.code}})
		if resp.StatusCode != tt.status || !strings.Contains(body, tt.want) {
			t.Errorf("code %q: %d, want %d and %q\n%s", tt.code, resp.StatusCode, tt.status, tt.want, body)
		}
	}
}

func TestResendPage(t *testing.T) {
	s := newSite(t)
	b := s.browser()
	s.do(b, "POST", "/begin", nil)
	s.Letter(mara, 1)
	if resp, body := s.do(b, "POST", s.here(b)+"/resend", nil); resp.StatusCode != http.StatusTooManyRequests ||
		!strings.Contains(body, "requested a short while ago") {
		t.Errorf("at once: %d\n%s", resp.StatusCode, body)
	}
	s.Clock.Move(31 * time.Second)
	if resp, body := s.do(b, "POST", s.here(b)+"/resend", nil); resp.StatusCode != http.StatusOK ||
		!strings.Contains(body, "sending it again") {
		t.Errorf("later: %d\n%s", resp.StatusCode, body)
	}
	s.Letter(mara, 2)
}

// Cookies are out of reach of scripts and other sites, and on https of other hosts too.
func TestCookies(t *testing.T) {
	k := illumicodetest.Idle(t, func(c *illumicode.Config) { c.Site.BaseURL = "https://ferry.example/app" })
	pages, err := web.NewPages(k.Service, web.Options{})
	if err != nil {
		t.Fatal(err)
	}
	p, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara}, illumicode.Subject("a"))
	if err != nil {
		t.Fatal(err)
	}
	w := httptest.NewRecorder()
	pages.Await(w, httptest.NewRequest("POST", "/register", nil), p)
	cookie := w.Header().Get("Set-Cookie")
	for _, want := range []string{"__Host-illumicode_ticket_", "HttpOnly", "Secure", "SameSite=Lax", "Path=/;"} {
		if !strings.Contains(cookie, want) {
			t.Errorf("Set-Cookie: %s; want %s", cookie, want)
		}
	}
	if to := w.Header().Get("Location"); !strings.HasPrefix(to, "/app/proof/") {
		t.Errorf("sent to %s", to)
	}
}

func TestAPI(t *testing.T) {
	s := newSite(t)
	described := schemas(t, s.server.URL)
	call := func(method, path, body, key string) (int, map[string]any, http.Header) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, s.server.URL+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		if key != "" {
			req.Header.Set("Authorization", "Bearer "+key)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var out map[string]any
		if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
			t.Fatalf("%s %s: %v", method, path, err)
		}
		described.fits(t, method, path, resp, out)
		return resp.StatusCode, out, resp.Header
	}
	signup := `{"subject":"a","address":"` + mara + `","locale":"de"}`
	for _, tt := range []struct {
		body, key string
		status    int
		kind      string
	}{
		{signup, "", 401, "no-key"},
		{signup, apiKey + "x", 401, "no-key"},
		{`{"subject":"a","address":"mara"}`, apiKey, 422, "address"},
		{`{"address":"` + mara + `"}`, apiKey, 422, "missing"},
		{`{"subjekt":"a"}`, apiKey, 400, "body"},
		{`{"subject":1}`, apiKey, 400, "body"},
		{`[`, apiKey, 400, "body"},
		{`{"subject":"` + strings.Repeat("a", 20<<10) + `"}`, apiKey, 400, "body"},
	} {
		status, out, header := call("POST", "/v1/signup", tt.body, tt.key)
		if status != tt.status || out["type"] != "urn:illumicode:problem:"+tt.kind ||
			header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%.60s: %d %v", tt.body, status, out)
		}
	}
	status, out, _ := call("POST", "/v1/signup", signup, apiKey)
	ticket, _ := out["ticket"].(string)
	if status != 201 || ticket == "" {
		t.Fatalf("signup: %d %v", status, out)
	}
	l := s.Letter(mara, 1)
	status, out, header := call("POST", "/v1/proof/resend", `{"ticket":"`+ticket+`"}`, "")
	if status != 429 || out["type"] != "urn:illumicode:problem:too-soon" || header.Get("Retry-After") == "" {
		t.Errorf("resend at once: %d %v", status, out)
	}
	if status, _, _ = call("POST", "/v1/subjects/a/resend", "", ""); status != 401 {
		t.Errorf("resend by subject without key: %d", status)
	}
	if status, out, _ = call("POST", "/v1/proof/code", `{"ticket":"`+ticket+`","code":"999 99"}`, ""); status != 422 ||
		out["type"] != "urn:illumicode:problem:not-a-code" {
		t.Errorf("five digits: %d %v", status, out)
	}
	if status, out, _ = call("GET", "/v1/subjects/a", "", apiKey); status != 200 || out["confirmed"] != false {
		t.Errorf("before: %d %v", status, out)
	}
	if status, out, _ = call("POST", "/v1/proof/link", `{"link":"`+string(s.Link(l))+`"}`, ""); status != 200 ||
		out["confirmed"] != true {
		t.Errorf("link: %d %v", status, out)
	}
	if status, out, _ = call("GET", "/v1/subjects/a", "", apiKey); status != 200 || out["confirmed"] != true {
		t.Errorf("after: %d %v", status, out)
	}
	if status, out, _ = call("POST", "/v1/proof/code", `{"ticket":"`+ticket+`","code":"`+l.Code()+`"}`,
		""); status != 409 {
		t.Errorf("code afterwards: %d %v", status, out)
	}
}

// One click from a mail service, which is another origin, ends a category; reading the link, as
// scanners do, changes nothing.
func TestUnsubscribe(t *testing.T) {
	set, err := letters.Load(
		fstest.MapFS{"en.toml": {Data: []byte("[letter.moved]\nsubject = \"Moved\"\nmain = \"Moved.\"\n")},
			"letters.toml": {Data: []byte("[moved]\ncategory = \"sailings\"\n")}}, "en")
	if err != nil {
		t.Fatal(err)
	}
	s := newSite(t, func(c *illumicode.Config) { c.Letters = set })
	n := illumicode.Notice{Letter: "moved", To: illumicode.Request{Address: mara}}
	if _, err := s.Service.Notify(t.Context(), n); err != nil {
		t.Fatal(err)
	}
	m, err := mail.ReadMessage(bytes.NewReader(s.Letter(mara, 1).Raw))
	if err != nil {
		t.Fatal(err)
	}
	link := strings.Trim(m.Header.Get("List-Unsubscribe"), "<>")
	wanted := func() bool {
		all, err := s.Service.Preferences(t.Context(), mara)
		if err != nil || len(all) != 1 {
			t.Fatalf("%+v, %v", all, err)
		}
		return all[0].Wanted
	}
	for _, method := range []string{http.MethodHead, http.MethodGet} {
		if r, body := s.do(s.browser(), method, link, nil); r.StatusCode != http.StatusOK || method == http.MethodGet &&
			!strings.Contains(body, "will no longer get these emails") {
			t.Errorf("%s: %d\n%s", method, r.StatusCode, body)
		}
	}
	if !wanted() {
		t.Fatal("looking at the link has unsubscribed")
	}
	r, body := s.do(s.browser(), http.MethodPost, link, url.Values{"List-Unsubscribe": {"One-Click"}}, "Origin",
		"https://mail.example", "Sec-Fetch-Site", "cross-site")
	if r.StatusCode != http.StatusOK || wanted() || !strings.Contains(body, "no longer gets these emails") {
		t.Errorf("one click: %d, wanted %v\n%s", r.StatusCode, wanted(), body)
	}
	if _, body := s.do(s.browser(), http.MethodGet, link, nil); !strings.Contains(body,
		"no longer gets these emails") || !strings.Contains(body, "Subscribe again") {
		t.Errorf("opened once more:\n%s", body)
	}
	if r, _ := s.do(s.browser(), http.MethodPost, link, url.Values{"wanted": {"yes"}}); r.StatusCode != http.StatusOK ||
		!wanted() {
		t.Errorf("again after all: %d", r.StatusCode)
	}
	if r, _ := s.do(s.browser(), http.MethodPost, link+"x", url.Values{}); r.StatusCode != http.StatusNotFound {
		t.Errorf("a damaged link: %d", r.StatusCode)
	}
}
