package web_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/web"
)

// Whoever is refused by a limit is told by which, until when exactly, and what else there is: the code of the
// letter that came before. The answer is the same for an address that nobody has.
func TestTooSoonPage(t *testing.T) {
	s := newSite(t, func(c *illumicode.Config) {
		c.Limits = []limit.Rule{
			{Name: "begin", By: limit.Address, On: []string{"signin"}, Stage: limit.First,
				Rate: limit.Rate{Times: 1, Per: 2 * time.Hour, Burst: 1}},
			{Name: "again", By: limit.Address, Stage: limit.Again,
				Ladder: limit.Ladder{Rungs: []time.Duration{10 * time.Minute}, Decay: time.Hour}},
		}
	})
	s.register()
	for _, address := range []string{mara, "nobody@ternisle.example"} {
		b := s.browser()
		s.do(b, "POST", "/code", url.Values{"address": {address}})
		r, body := s.do(b, "POST", "/code", url.Values{"address": {address}})
		h := r.Header
		if r.StatusCode != http.StatusTooManyRequests || h.Get("Retry-After") == "" ||
			h.Get("RateLimit-Policy") != `"begin";q=1;w=7200` ||
			!strings.HasPrefix(h.Get("RateLimit"), `"begin";r=0;t=7`) {
			t.Errorf("%s: %d %v", address, r.StatusCode, h)
		}
		if !strings.Contains(body, "Please wait a moment") || !strings.Contains(body, ">1:59:") &&
			!strings.Contains(body, ">2:00:00<") || !strings.Contains(body, `class="button" href="/proof/`) {
			t.Errorf("%s: the page does not count down, or shows no way to the code:\n%s", address, body)
		}
		// A resend within the ladder's rung: refused by the rule, and told on the page that takes the code.
		s.handedOver() // a resend of a letter that waits costs nothing
		s.Clock.Move(31 * time.Second)
		s.do(b, "POST", s.here(b)+"/resend", nil)
		s.Clock.Move(61 * time.Second)
		r, body = s.do(b, "POST", s.here(b)+"/resend", nil)
		if r.StatusCode != http.StatusTooManyRequests ||
			!strings.HasPrefix(r.Header.Get("RateLimit"), `"again";r=0;t=`) ||
			!strings.Contains(body, "requested a short while ago") || !strings.Contains(body, ">8:5") ||
			!strings.Contains(body, `/code"`) {
			t.Errorf("%s: a resend that a limit refuses: %d %v\n%s", address, r.StatusCode, r.Header, body)
		}
	}
	// A stranger without a letter is shown no way to a code.
	if _, body := s.do(s.browser(), "POST", "/code", url.Values{"address": {mara}}); strings.Contains(body,
		`class="button" href="/proof/`) {
		t.Errorf("a browser that began nothing is sent to the code:\n%s", body)
	}
}

// Where a rule for everybody has refused and a puzzle helps, the application's answer comes instead of a wait.
func TestPuzzle(t *testing.T) {
	s := newSite(t, func(c *illumicode.Config) {
		c.Limits = []limit.Rule{
			{Name: "all", By: limit.All, Reserved: 0.5, Quota: limit.Quota{Times: 2, Window: limit.Day}}}
	})
	pages, err := web.NewPages(s.Service, web.Options{Puzzle: func(w http.ResponseWriter, _ *http.Request) {
		io.WriteString(w, "what is two and two?")
	}})
	if err != nil {
		t.Fatal(err)
	}
	ask := func(vouched bool) string {
		w, r := httptest.NewRecorder(), httptest.NewRequest("POST", "/code", nil)
		q := pages.Request(r, mara)
		q.Vouched = vouched
		if _, err := s.Service.SignIn(t.Context(), q); err != nil && !pages.TooSoon(w, r, err) {
			t.Fatal(err)
		}
		return w.Body.String()
	}
	for i, want := range []string{"", "what is two and two?"} {
		if got := ask(false); got != want {
			t.Errorf("request %d: %q, want %q", i+1, got, want)
		}
	}
	if got := ask(true); got != "" {
		t.Errorf("after the puzzle: %q", got)
	}
	if got := ask(true); !strings.Contains(got, "Please wait a moment") {
		t.Errorf("when all is used: %q", got)
	}
}

// What pages.Request returns knows where the browser is.
func TestRequestKnowsItsNetwork(t *testing.T) {
	s := newSite(t, func(c *illumicode.Config) {
		c.Limits = []limit.Rule{{Name: "network", By: limit.Network, Quota: limit.Quota{Times: 1, Window: limit.Month}}}
	})
	for i, want := range []int{http.StatusOK, http.StatusTooManyRequests} {
		if r, _ := s.do(s.browser(), "POST", "/code",
			url.Values{"address": {"p" + string(rune('a'+i)) + "@ternisle.example"}}); r.StatusCode != want {
			t.Errorf("request %d: %d, want %d", i+1, r.StatusCode, want)
		}
	}
	if text := s.Logged(); strings.Contains(text, "without its network") {
		t.Errorf("the log says that a network is missing:\n%s", text)
	}
	if _, err := s.Service.SignIn(t.Context(), illumicode.Request{Address: mara}); err != nil {
		t.Fatal(err)
	}
	if text := s.Logged(); !strings.Contains(text, "without its network") {
		t.Error("the log does not say that a network is missing")
	}
}

// A call with the application's key is made for whom its Forwarded field says; without it nobody's network
// counts, and not the application's own.
func TestCallsOnBehalf(t *testing.T) {
	s := newSite(t, func(c *illumicode.Config) {
		c.Limits = []limit.Rule{{Name: "network", By: limit.Network, Quota: limit.Quota{Times: 1, Window: limit.Month}}}
	})
	signUp := func(key, forwarded, subject string) int {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), "POST", s.server.URL+"/v1/signin",
			strings.NewReader(`{"address": "`+subject+`@ternisle.example"}`))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		if key != "" {
			req.Header.Set("Authorization", "Bearer "+key)
		}
		req.Header.Set("Forwarded", forwarded)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	for i, tt := range []struct {
		key, forwarded string
		want           int
	}{
		{apiKey, "", http.StatusCreated}, {apiKey, "", http.StatusCreated},
		{apiKey, "for=203.0.113.7", http.StatusCreated}, {apiKey, "for=203.0.113.7", http.StatusTooManyRequests},
		{apiKey, "for=203.0.113.8", http.StatusCreated},
		// from where it comes, whatever it says
		{"", "for=203.0.113.9", http.StatusCreated}, {"", "for=203.0.113.10", http.StatusTooManyRequests},
	} {
		if got := signUp(tt.key, tt.forwarded, "p"+string(rune('a'+i))); got != tt.want {
			t.Errorf("row %d: %d, want %d", i, got, tt.want)
		}
	}
}
