package web_test

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/words"
	"github.com/illumicode/illumicode/web"
)

// register confirms Mara's address for subject a, in a browser of its own.
func (s *site) register() {
	s.t.Helper()
	s.do(s.browser(), "POST", "/begin", nil)
	b := s.browser()
	s.do(b, "GET", s.Letter(mara, 1).Link(), nil)
	s.do(b, "POST", s.here(b), nil)
	if !s.confirmed() {
		s.t.Fatal("not confirmed")
	}
}

// Sign-in through the pages: by code; by link in the browser that began; and elsewhere a page that
// says so.
func TestSignInPages(t *testing.T) {
	s := newSite(t)
	s.register()
	b := s.browser()
	_, body := s.do(b, "POST", "/code", url.Values{"address": {mara}})
	if !strings.Contains(body, "has an account, look there") || strings.Contains(body, "Wrong address?") ||
		!strings.Contains(body, `autocomplete="one-time-code"`) {
		t.Errorf("the waiting page:\n%s", body)
	}
	l := s.Letter(mara, 2)
	elsewhere := s.browser()
	r, asks := s.do(elsewhere, "GET", l.Link(), nil)
	if r.StatusCode != http.StatusOK || !strings.Contains(asks, "Are you signing in here?") ||
		strings.Contains(asks, mara) || !strings.Contains(asks, "m…@ternisle.example") {
		t.Errorf("elsewhere: %d\n%s", r.StatusCode, asks)
	}
	if r, body := s.do(elsewhere, "POST", s.here(elsewhere), nil); r.StatusCode != http.StatusForbidden ||
		strings.Contains(body, "inside") {
		t.Errorf("a POST elsewhere: %d\n%s", r.StatusCode, body)
	}
	if _, body := s.do(b, "POST", s.here(b)+"/code", url.Values{"code": {l.Code()}}); body != "inside as a" {
		t.Errorf("by code: %s", body)
	}
	// The browser is known from now on, and its cookie is out of reach of scripts.
	r, _ = s.do(b, "POST", "/code", url.Values{"address": {mara}})
	if r.StatusCode != http.StatusOK {
		t.Errorf("once more: %d", r.StatusCode)
	}
	if _, body := s.do(b, "GET", s.Letter(mara, 3).Link(), nil); !strings.Contains(body, "Sign in here?") {
		t.Errorf("the link where it began:\n%s", body)
	}
	_, asks = s.do(elsewhere, "GET", s.Letter(mara, 3).Link(), nil)
	for range 2 { // pressed twice, it is one challenge
		if _, body := s.press(elsewhere, asks, "/elsewhere", nil); !strings.Contains(body,
			"has an account, look there") {
			t.Errorf("a code for this browser:\n%s", body)
		}
	}
	if _, body := s.do(elsewhere, "POST", s.here(elsewhere)+"/code",
		url.Values{"code": {s.Letter(mara, 4).Code()}}); body != "inside as a" {
		t.Errorf("its code: %s", body)
	}
	if len(s.Inbox.Letters(mara)) != 4 {
		t.Errorf("%d letters", len(s.Inbox.Letters(mara)))
	}
	if _, body := s.do(b, "POST", s.here(b), nil); body != "inside as a" {
		t.Errorf("by link: %s", body)
	}
}

// countdown is what differs between two looks at a page that waits: the seconds that went by.
var countdown = regexp.MustCompile(`data-count="(\d+)">[\d:]+`)

// Every wrong try is told, and the last one closes the form; the answer is the same for an address
// that has no account.
func TestTooManyTriesPage(t *testing.T) {
	s := newSite(t)
	s.register()
	var pages [2][]string
	var ends [2][]time.Duration // when the countdowns do, from the beginning on
	for i, address := range []string{mara, "nobody@ternisle.example"} {
		b, began := s.browser(), time.Now()
		s.do(b, "POST", "/code", url.Values{"address": {address}})
		for range 7 {
			r, body := s.do(b, "POST", s.here(b)+"/code", url.Values{"code": {"000000"}})
			for _, left := range countdown.FindAllStringSubmatch(body, -1) {
				seconds, _ := strconv.Atoi(left[1]) // digits
				ends[i] = append(ends[i], time.Since(began)+time.Duration(seconds)*time.Second)
			}
			body = countdown.ReplaceAllString(strings.NewReplacer(address, "ADDRESS", s.here(b), "HERE").Replace(body),
				"COUNT")
			pages[i] = append(pages[i], fmt.Sprint(r.StatusCode, r.Header["Content-Type"], len(r.Header["Set-Cookie"]),
				body))
		}
	}
	if !slices.Equal(pages[0], pages[1]) {
		t.Errorf("with an account:\n%s\nwithout:\n%s", pages[0], pages[1])
	}
	for i, with := range ends[0] {
		if off := with - ends[1][i]; off.Abs() > 2*time.Second {
			t.Errorf("a countdown that ends %v apart", off)
		}
	}
	if last := pages[0][6]; !strings.Contains(last, "All attempts for this code are used") {
		t.Errorf("the seventh try:\n%s", last)
	}
}

// "This was not me" and "take it back" ask on GET and act on POST; the application is called once.
func TestTakeBackPages(t *testing.T) {
	s := newSite(t)
	s.register()
	link := func(text string) string { return regexp.MustCompile(`http\S+/not-me\?t=\S+`).FindString(text) }
	b := s.browser()
	s.do(b, "POST", "/code", url.Values{"address": {mara}})
	l := s.Letter(mara, 2)
	reader := s.browser()
	for _, method := range []string{"HEAD", "GET"} {
		if r, body := s.do(reader, method, link(l.Text), nil); r.StatusCode != http.StatusOK || method == "GET" &&
			!strings.Contains(body, "Wasn’t this you?") || r.Request.URL.RawQuery != "" {
			t.Errorf("%s: %d at %s\n%s", method, r.StatusCode, r.Request.URL, body)
		}
	}
	if len(s.told) != 0 {
		t.Fatalf("looking has told the application %q", s.told)
	}
	for range 2 { // the second time by loading the page again
		if r, body := s.do(reader, "POST", s.here(reader), nil); r.StatusCode != http.StatusOK ||
			!strings.Contains(body, "no longer work") {
			t.Errorf("not me: %d\n%s", r.StatusCode, body)
		}
	}
	if _, body := s.do(reader, "GET", link(l.Text), nil); !strings.Contains(body, "no longer work") ||
		strings.Contains(body, "This wasn’t me") {
		t.Errorf("the link once more:\n%s", body)
	}
	if _, body := s.do(reader, "POST", s.here(reader), url.Values{"browsers": {"all"}}); !strings.Contains(body,
		"all remembered browsers are forgotten") {
		t.Errorf("all browsers:\n%s", body)
	}
	if r, body := s.do(b, "POST", s.here(b)+"/code", url.Values{"code": {l.Code()}}); r.StatusCode != http.StatusGone ||
		!strings.Contains(body, "This request has ended") {
		t.Errorf("its code afterwards: %d\n%s", r.StatusCode, body)
	}
	if _, err := s.Service.ChangeAddress(t.Context(), illumicode.Holding{Subject: "a", Address: mara},
		illumicode.Request{Address: "new@skerry.example"}); err != nil {
		t.Fatal(err)
	}
	told := s.Letter(mara, 3)
	if _, body := s.do(reader, "GET", link(told.Text), nil); !strings.Contains(body, "Undo the change?") ||
		!strings.Contains(body, "new@skerry.example") {
		t.Errorf("the page to undo:\n%s", body)
	}
	for range 2 {
		if r, body := s.do(reader, "POST", s.here(reader), nil); r.StatusCode != http.StatusOK ||
			!strings.Contains(body, "The change is stopped") {
			t.Errorf("undo: %d\n%s", r.StatusCode, body)
		}
	}
	if _, body := s.do(reader, "GET", link(told.Text), nil); !strings.Contains(body, "The change is stopped") ||
		strings.Contains(body, "<form") {
		t.Errorf("the link to undo once more:\n%s", body)
	}
	if want := []string{"not me: signin", "undo: new@skerry.example"}; !slices.Equal(s.told, want) {
		t.Errorf("the application was told %q, want %q", s.told, want)
	}
}

// A mistyped address is corrected on the waiting page.
func TestCorrectPage(t *testing.T) {
	s := newSite(t)
	b := s.browser()
	s.do(b, "POST", "/begin", nil)
	if r, body := s.do(b, "POST", s.here(b)+"/correct",
		url.Values{"address": {"no address"}}); r.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "We can’t send email to that address") {
		t.Errorf("nonsense: %d\n%s", r.StatusCode, body)
	}
	if _, body := s.do(b, "POST", s.here(b)+"/correct",
		url.Values{"address": {"marta@ternisle.example"}}); !strings.Contains(body, "marta@ternisle.example") {
		t.Errorf("corrected:\n%s", body)
	}
	code := s.Letter("marta@ternisle.example", 1).Code()
	if _, body := s.do(b, "POST", s.here(b)+"/code", url.Values{"code": {code}}); !strings.Contains(body,
		"Your email address is confirmed") {
		t.Errorf("the code from the right address:\n%s", body)
	}
	if want := []string{"correct: a marta@ternisle.example"}; !slices.Equal(s.told, want) {
		t.Errorf("the application was told %q", s.told)
	}
}

// The waiting page says how long to wait, as the header does.
func TestWaitIsTold(t *testing.T) {
	s := newSite(t)
	b := s.browser()
	s.do(b, "POST", "/begin", nil)
	s.Letter(mara, 1)
	r, body := s.do(b, "POST", s.here(b)+"/resend", nil)
	m := regexp.MustCompile(`data-count="(\d+)">0:(\d\d)<`).FindStringSubmatch(body)
	if m == nil || m[1] != strings.TrimPrefix(m[2], "0") || r.Header.Get("Retry-After") != m[1] {
		t.Errorf("%v beside Retry-After %q\n%s", m, r.Header.Get("Retry-After"), body)
	}
}

// Every page in every language: its words, its direction, and nothing that needs a script.
func TestPagesInAllLocales(t *testing.T) {
	s := newSite(t)
	b := s.browser()
	s.do(b, "POST", "/begin", nil)
	link := s.Letter(mara, 1).Link()
	book := words.MustLoad(os.DirFS("."), "pages/words.toml")
	if len(book) != 10 { // pt-PT and fr-CA with the eight
		t.Errorf("%d locales", len(book))
	}
	for locale, w := range book {
		for path, key := range map[string]string{"/proof": "wait_title", link: "confirm_title",
			"/confirm/done": "done_title", "/not-me": "invalid_title"} {
			_, body := s.do(b, "GET", path, nil, "Accept-Language", locale, "Cookie", "illumicode_done=1")
			dir := map[bool]string{true: "rtl", false: "ltr"}[locale == "ar"]
			if !strings.Contains(body, "<h1>"+w[key]+"</h1>") && key != "invalid_title" ||
				!strings.Contains(body, `<html lang="`+locale+`" dir="`+dir+`">`) {
				t.Errorf("%s %s:\n%s", locale, path, body)
			}
			if strings.Contains(body, " onclick") || strings.Contains(body, "<script>") ||
				strings.Contains(body, "style=") {
				t.Errorf("%s %s has script or style inline", locale, path)
			}
		}
	}
}

// Templates can be replaced one by one, and a broken one is refused at the start.
func TestOwnTemplates(t *testing.T) {
	s := newSite(t)
	own := fstest.MapFS{"done.html": {Data: []byte(`<p>Aboard, at {{.Site.Name}}.</p>`)}}
	pages, err := web.NewPages(s.Service, web.Options{Templates: own})
	if err != nil {
		t.Fatal(err)
	}
	s.server.Config.Handler = pages
	if _, body := s.do(s.browser(), "GET", "/confirm/done", nil, "Cookie",
		"illumicode_done=1"); body != "<p>Aboard, at Tern Isle Ferry.</p>" {
		t.Errorf("%s", body)
	}
	if _, body := s.do(s.browser(), "GET", "/proof", nil); !strings.Contains(body, "Nothing to confirm here") {
		t.Errorf("the default ones are gone:\n%s", body)
	}
	for want, files := range map[string]fstest.MapFS{
		"done.html":                    {"done.html": {Data: []byte(`{{.`)}},
		`no page is named "dnoe.html"`: {"dnoe.html": {Data: []byte(`x`)}},
		"no .html file":                {"done.htm": {Data: []byte(`x`)}},
		"can't evaluate field Nmae":    {"wait.html": {Data: []byte(`{{.Nmae}}`)}},
		`no such template "header"`:    {"sorry.html": {Data: []byte(`{{template "header" .}}`)}},
		"with sample data":             {"wait.html": {Data: []byte(`{{if .Closed}}{{index .Typed 99}}{{end}}`)}},
	} {
		if _, err := web.NewPages(s.Service, web.Options{Templates: files}); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%v, want a refusal with %q", err, want)
		}
	}
}

func TestRequireConfirmed(t *testing.T) {
	s := newSite(t)
	say := func(text string) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, text) })
	}
	s.do(s.browser(), "POST", "/begin", nil)
	link := s.Letter(mara, 1).Link()
	inner := s.server.Config.Handler
	guarded := web.RequireConfirmed(s.Service, func(r *http.Request) string { return r.URL.Query().Get("who") },
		say("welcome"), say("confirm first"))
	s.server.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/guarded" {
			guarded.ServeHTTP(w, r)
		} else {
			inner.ServeHTTP(w, r)
		}
	})
	for who, want := range map[string]string{"a": "confirm first", "": "confirm first"} {
		if _, body := s.do(s.browser(), "GET", "/guarded?who="+who, nil); body != want {
			t.Errorf("%q before: %s", who, body)
		}
	}
	b := s.browser()
	s.do(b, "GET", link, nil)
	s.do(b, "POST", s.here(b), nil)
	for who, want := range map[string]string{"a": "welcome", "b": "confirm first"} {
		if _, body := s.do(s.browser(), "GET", "/guarded?who="+who, nil); body != want {
			t.Errorf("%q after: %s", who, body)
		}
	}
}

// A link whose life is over offers the letter again, to the same address; the fresh one works.
func TestExpiredPage(t *testing.T) {
	s := newSite(t)
	s.do(s.browser(), "POST", "/begin", nil)
	b := s.browser()
	link := s.Letter(mara, 1).Link()
	s.handedOver() // from then its life counts
	s.Clock.Move(25 * time.Hour)
	if r, body := s.do(b, "GET", link, nil); r.StatusCode != http.StatusGone ||
		!strings.Contains(body, `/resend"`) {
		t.Errorf("expired: %d\n%s", r.StatusCode, body)
	}
	if r, body := s.do(b, "POST", s.here(b)+"/resend", nil); r.StatusCode != http.StatusOK ||
		!strings.Contains(body, "sending it again") {
		t.Errorf("sent again: %d\n%s", r.StatusCode, body)
	}
	if r, _ := s.do(b, "POST", s.here(b)+"/resend", nil); r.StatusCode != http.StatusTooManyRequests ||
		r.Header.Get("Retry-After") == "" {
		t.Errorf("and again at once: %d", r.StatusCode)
	}
	s.do(b, "GET", s.Letter(mara, 2).Link(), nil)
	if _, body := s.do(b, "POST", s.here(b), nil); !s.confirmed() {
		t.Errorf("the fresh link:\n%s", body)
	}
	stranger := s.browser() // without a link there is nothing to send
	if r, _ := s.do(stranger, "POST", s.here(stranger)+"/resend", nil); r.StatusCode != http.StatusNotFound {
		t.Errorf("without a link: %d", r.StatusCode)
	}
}
