package web_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/web"
)

var action = regexp.MustCompile(`<form method="post" action="([^"]+)"`)

// press sends the first form of a page whose action ends so.
func (s *site) press(c *http.Client, page, ending string, form url.Values) (*http.Response, string) {
	s.t.Helper()
	for _, m := range action.FindAllStringSubmatch(page, -1) {
		if strings.HasSuffix(m[1], ending) {
			return s.do(c, "POST", m[1], form)
		}
	}
	s.t.Fatalf("no form ends with %q:\n%s", ending, page)
	return nil, ""
}

func addressOf(i int) string { return fmt.Sprintf("p%d@ternisle.example", i) }

func (s *site) isConfirmed(subject string) bool {
	s.t.Helper()
	yes, err := s.Service.Confirmed(s.t.Context(), subject)
	if err != nil {
		s.t.Fatal(err)
	}
	return yes
}

// A form acts on what its page showed, whatever other tabs have opened since: with links, and with codes. The fifth
// link takes the place of the first, whose button then asks again and does nothing.
func TestTabs(t *testing.T) {
	s := newSite(t)
	b, reader := s.browser(), s.browser()
	var waits, asks [5]string
	for i := range asks {
		_, waits[i] = s.do(b, "POST", "/begin", url.Values{"address": {addressOf(i)}})
	}
	for i := range asks {
		_, asks[i] = s.do(reader, "GET", s.Letter(addressOf(i), 1).Link(), nil)
		if !strings.Contains(asks[i], addressOf(i)) {
			t.Fatalf("page %d:\n%s", i, asks[i])
		}
	}
	if r, body := s.press(reader, asks[0], "", nil); r.StatusCode != http.StatusNotFound ||
		!strings.Contains(body, "Please open the link again") || s.isConfirmed(addressOf(0)) {
		t.Errorf("the oldest of five: %d\n%s", r.StatusCode, body)
	}
	s.press(reader, asks[2], "", nil)
	for i := range asks {
		if yes := s.isConfirmed(addressOf(i)); yes != (i == 2) {
			t.Errorf("after the button of page 2, %d is confirmed: %v", i, yes)
		}
	}
	// The same with codes: the page of 3 takes the code of 3, though 4 was begun last.
	_, body := s.press(b, waits[3], "/code", url.Values{"code": {s.Letter(addressOf(3), 1).Code()}})
	if !strings.Contains(body, "is confirmed") || !s.isConfirmed(addressOf(3)) {
		t.Errorf("a code on its own page:\n%s", body)
	}
	if _, body := s.do(b, "GET", "/proof", nil); !strings.Contains(body, addressOf(4)) {
		t.Errorf("without a mark the latest is shown, not\n%s", body)
	}
}

// A link that a stranger has the browser open changes nothing of what another page does.
func TestStrangersLink(t *testing.T) {
	s := newSite(t)
	s.register()
	if _, err := s.Service.ChangeAddress(t.Context(), illumicode.Holding{Subject: "a", Address: mara},
		illumicode.Request{Address: "new@skerry.example"}); err != nil {
		t.Fatal(err)
	}
	undo := regexp.MustCompile(`http\S+/not-me\?t=\S+`).FindString(s.Letter(mara, 2).Text)
	owner := s.browser()
	_, page := s.do(owner, "GET", undo, nil)
	s.do(s.browser(), "POST", "/begin", url.Values{"address": {addressOf(9)}})
	s.do(owner, "GET", s.Letter(addressOf(9), 1).Link(), nil, "Sec-Fetch-Site", "cross-site")
	if _, body := s.press(owner, page, "", nil); !strings.Contains(body, "The change is stopped") ||
		len(s.told) != 1 || s.told[0] != "undo: new@skerry.example" {
		t.Errorf("%v\n%s", s.told, body)
	}
}

// Without cookies the page of a link says so, and where the code can be entered.
func TestWithoutCookies(t *testing.T) {
	s := newSite(t)
	s.do(s.browser(), "POST", "/begin", nil)
	none := &http.Client{}
	r, body := s.do(none, "GET", s.Letter(mara, 1).Link(), nil)
	if r.StatusCode != http.StatusNotFound || !strings.Contains(body, "doesn’t store cookies") {
		t.Errorf("%d\n%s", r.StatusCode, body)
	}
	if r, _ := s.do(s.browser(), "GET", "/confirm?t="+strings.Repeat("a", 4<<10), nil); r.StatusCode !=
		http.StatusNotFound || len(r.Header["Set-Cookie"]) > 0 {
		t.Errorf("a link of 4 KiB: %d, cookies %d", r.StatusCode, len(r.Header["Set-Cookie"]))
	}
}

// After the last try "send again" begins a new challenge, whose code works; the link of the first one stays good.
func TestSendAgainAfterTheTries(t *testing.T) {
	s := newSite(t)
	for i, form := range []url.Values{nil, {"address": {mara}}} {
		begin := []string{"/begin", "/code"}[i]
		b := s.browser()
		_, page := s.do(b, "POST", begin, form)
		first := s.Letter(mara, 1+2*i)
		wrong := string('0'+(first.Code()[0]-'0'+1)%10) + first.Code()[1:]
		var body string
		for range 5 {
			_, body = s.press(b, page, "/code", url.Values{"code": {wrong}})
		}
		if !strings.Contains(body, "All attempts for this code are used. Choose “Send again”") {
			t.Fatalf("%s: after five\n%s", begin, body)
		}
		if r, _ := s.press(b, body, "/resend", nil); r.StatusCode != http.StatusTooManyRequests {
			t.Errorf("%s: at once: %d", begin, r.StatusCode)
		}
		s.Clock.Move(31 * time.Second)
		r, again := s.press(b, body, "/resend", nil)
		if r.StatusCode != http.StatusOK || strings.Contains(again, "All attempts") {
			t.Fatalf("%s: %d\n%s", begin, r.StatusCode, again)
		}
		second := s.Letter(mara, 2+2*i)
		if r, body := s.do(b, "GET", first.Link(), nil); r.StatusCode != http.StatusOK {
			t.Errorf("%s: the link of the burnt one: %d\n%s", begin, r.StatusCode, body)
		}
		if _, body := s.press(b, again, "/code", url.Values{"code": {second.Code()}}); !s.confirmed() ||
			begin == "/code" && body != "inside as a" {
			t.Errorf("%s: the second code:\n%s", begin, body)
		}
		s.Clock.Move(6 * time.Hour)
	}
}

// Whoever has said "this was not me" is told of it where the challenge waits too.
func TestWaitingAfterNotMe(t *testing.T) {
	s := newSite(t)
	b, reader := s.browser(), s.browser()
	s.do(b, "POST", "/begin", nil)
	notMe := regexp.MustCompile(`http\S+/not-me\?t=\S+`).FindString(s.Letter(mara, 1).Text)
	_, page := s.do(reader, "GET", notMe, nil)
	s.press(reader, page, "", nil)
	if r, body := s.do(b, "GET", s.here(b), nil); r.StatusCode != http.StatusGone ||
		!strings.Contains(body, "This request has ended") || strings.Contains(body, "<form") {
		t.Errorf("%d\n%s", r.StatusCode, body)
	}
}

// "Confirmed" leads on to where the application says, and nowhere else.
func TestAfter(t *testing.T) {
	s := newSite(t)
	for _, bad := range []map[string]string{{"sing-in": "/"}, {challenge.Signup: "//evil.example"},
		{challenge.Signup: "javascript:alert(1)"}, {challenge.Signup: "account"}} {
		if _, err := web.NewPages(s.Service, web.Options{After: bad}); err == nil {
			t.Errorf("%v is taken", bad)
		}
	}
	pages, err := web.NewPages(s.Service, web.Options{After: map[string]string{challenge.Signup: "/cabin"}})
	if err != nil {
		t.Fatal(err)
	}
	for of, want := range map[string]bool{"signup": true, "reverify": false, "/evil": false, "": false} {
		w, r := httptest.NewRecorder(), httptest.NewRequest("GET", "/confirm/done?of="+of, nil)
		r.Header.Set("Cookie", "illumicode_done=1")
		pages.ServeHTTP(w, r)
		if got := strings.Contains(w.Body.String(), `href="/cabin"`); got != want || strings.Contains(w.Body.String(),
			"evil") {
			t.Errorf("of %q leads on: %v\n%s", of, got, w.Body)
		}
	}
}

// Nobody is told that an address is confirmed whose browser has confirmed nothing.
func TestNothingIsDone(t *testing.T) {
	s := newSite(t)
	b := s.browser()
	if r, body := s.do(b, "GET", "/confirm/done?of=signup", nil); r.StatusCode != http.StatusNotFound ||
		strings.Contains(body, "is confirmed") {
		t.Errorf("%d\n%s", r.StatusCode, body)
	}
	s.do(b, "POST", "/begin", nil)
	_, page := s.do(b, "GET", s.Letter(mara, 1).Link(), nil)
	s.press(b, page, "", nil)
	for range 2 { // and when it is loaded again
		if r, body := s.do(b, "GET", "/confirm/done?of=signup", nil); r.StatusCode != http.StatusOK ||
			!strings.Contains(body, "Your email address is confirmed") {
			t.Errorf("%d\n%s", r.StatusCode, body)
		}
	}
}

// Behind a proxy that rewrites Host the site's own pages may POST; JSON is below the base path as pages are; on https
// browsers are told to stay there.
func TestBehindAProxy(t *testing.T) {
	k := illumicodetest.Idle(t, func(c *illumicode.Config) { c.Site.BaseURL = "https://ferry.example/app" })
	pages, err := web.NewPages(k.Service, web.Options{})
	if err != nil {
		t.Fatal(err)
	}
	for origin, want := range map[string]int{"https://ferry.example": http.StatusNotFound,
		"https://evil.example": http.StatusForbidden} {
		r := httptest.NewRequest("POST", "http://10.0.0.7:8080/app/proof/0123456789abcdef/resend", nil)
		r.Header.Set("Origin", origin)
		w := httptest.NewRecorder()
		pages.ServeHTTP(w, r)
		if w.Code != want || want == http.StatusNotFound && (w.Header().Get("Strict-Transport-Security") == "" ||
			w.Header().Get("X-Robots-Tag") != "noindex") {
			t.Errorf("from %s: %d %v, want %d", origin, w.Code, w.Header(), want)
		}
	}
	api, err := web.NewAPI(k.Service, apiKey, web.APIOptions{})
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]int{"/app/v1/openapi.json": http.StatusOK,
		"/v1/openapi.json": http.StatusNotFound} {
		w := httptest.NewRecorder()
		api.ServeHTTP(w, httptest.NewRequest("GET", path, nil))
		if w.Code != want || api.Path != "/app/v1/" {
			t.Errorf("%s: %d, want %d, below %s", path, w.Code, want, api.Path)
		}
	}
}

// Pages take forms alone, without NUL; what they are made of has its type, and may be kept.
func TestFormsAndAssets(t *testing.T) {
	s := newSite(t)
	b := s.browser()
	s.do(b, "POST", "/begin", nil)
	for kind, want := range map[string]int{"text/plain": 415, "application/json": 415,
		"application/x-www-form-urlencoded": 422} {
		r, body := s.do(b, "POST", s.here(b)+"/code", url.Values{"code": {"x"}}, "Content-Type", kind)
		if r.StatusCode != want {
			t.Errorf("%s: %d, want %d\n%s", kind, r.StatusCode, want, body)
		}
	}
	if r, _ := s.do(b, "POST", s.here(b)+"/code", url.Values{"code": {"12\x00"}}); r.StatusCode != 400 {
		t.Errorf("a NUL: %d", r.StatusCode)
	}
	for name, kind := range map[string]string{"style.css": "text/css; charset=utf-8",
		"count.js": "text/javascript; charset=utf-8"} {
		r, _ := s.do(b, "GET", "/proof/"+name, nil)
		h := r.Header
		if h.Get("Content-Type") != kind || h.Get("X-Content-Type-Options") != "nosniff" ||
			!strings.Contains(h.Get("Cache-Control"), "max-age=") {
			t.Errorf("%s: %v", name, h)
		}
	}
}

// An account that is made when its address is confirmed: with the secret where the browser registered, and without it
// elsewhere; where the application has one already, the page says so.
func TestCreatePages(t *testing.T) {
	s := newSite(t)
	var made []string
	occupied := false
	pages, err := web.NewPages(s.Service, web.Options{
		Create: func(_ http.ResponseWriter, _ *http.Request, _ illumicode.Tx, p illumicode.Proof,
			r illumicode.Registration) (string, error) {
			if occupied {
				return "", illumicode.ErrOccupied
			}
			made = append(made, p.Address()+" "+string(r.Secret))
			return p.Address(), nil
		}})
	if err != nil {
		t.Fatal(err)
	}
	mux := http.NewServeMux()
	mux.Handle("/", pages)
	mux.HandleFunc("POST /register", func(w http.ResponseWriter, r *http.Request) {
		p, err := s.Service.Register(r.Context(), pages.Request(r, r.PostFormValue("address")),
			func(context.Context) (illumicode.Registration, error) {
				return illumicode.Registration{Secret: []byte("hash")}, nil
			})
		if err != nil {
			t.Error(err)
		}
		pages.Await(w, r, p)
	})
	s.server.Config.Handler = mux
	registers := func(i int) (b *http.Client, page string) {
		b = s.browser()
		_, page = s.do(b, "POST", "/register", url.Values{"address": {addressOf(i)}})
		return b, page
	}
	b, page := registers(0)
	if _, body := s.press(b, page, "/code", url.Values{"code": {s.Letter(addressOf(0), 1).Code()}}); !strings.Contains(
		body, "Your email address is confirmed") {
		t.Errorf("by code:\n%s", body)
	}
	registers(1)
	elsewhere := s.browser()
	_, asks := s.do(elsewhere, "GET", s.Letter(addressOf(1), 1).Link(), nil)
	s.press(elsewhere, asks, "", nil)
	if got := fmt.Sprint(made); got != "["+addressOf(0)+" hash "+addressOf(1)+" ]" {
		t.Errorf("made %s", got)
	}
	occupied = true
	b, page = registers(2)
	if r, body := s.press(b, page, "/code", url.Values{"code": {s.Letter(addressOf(2), 1).Code()}}); r.StatusCode !=
		http.StatusConflict || !strings.Contains(body, "This email address is in use") {
		t.Errorf("where there is an account: %d\n%s", r.StatusCode, body)
	}
}
