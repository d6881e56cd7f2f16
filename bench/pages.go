package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/discard"
	"github.com/illumicode/illumicode/web"
)

// A told is a provider that hands on the link of each letter.
type told struct {
	discard.Provider
	links chan string
}

var linkIn = regexp.MustCompile(`https?://\S+/confirm\?t=\S+`)

func (t told) Send(ctx context.Context, h provider.Handover) provider.Result {
	t.links <- linkIn.FindString(h.Letter.Text)
	return t.Provider.Send(ctx, h)
}

// pageSteps are what a browser asks for in a signup, in turn.
var pageSteps = []string{"the page that waits", "a wrong code", "the link, which leads on", "the page of the link",
	"confirming"}

// mostOfPage is what a page may take at the median.
const mostOfPage = 2 * time.Millisecond

// pageFigures measures the pages, without a network: what they take of their own, beyond what the same calls of the
// service take, against 2 ms.
func pageFigures(scale int) (all []figure, err error) {
	for _, database := range databases() {
		times, calls, err := timePages(database, 20*scale)
		if err != nil {
			return nil, err
		}
		for i, step := range pageSteps {
			whole, call := medianOf(times[i]), medianOf(calls[i])
			all = append(all, figure{what: step + " on " + database, floor: "2 ms", goal: 1,
				ratio: float64(whole-call) / float64(mostOfPage),
				note: fmt.Sprintf("%v at the median; the service's calls alone %v", whole.Round(time.Microsecond),
					call.Round(time.Microsecond))})
		}
	}
	return all, nil
}

// medianOf returns the median; 0 of none.
func medianOf(all []time.Duration) time.Duration {
	slices.Sort(all)
	if len(all) == 0 {
		return 0
	}
	return all[len(all)/2]
}

// timePages returns what the steps take on pages, and as calls of the service.
func timePages(database string, n int) (times, calls [][]time.Duration, err error) {
	way := told{links: make(chan string, 1)}
	b, err := newBedOn(database, way, nil)
	if err != nil {
		return nil, nil, err
	}
	defer b.close()
	pages, err := web.NewPages(b.svc, web.Options{})
	if err != nil {
		return nil, nil, err
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- b.svc.Run(ctx) }()
	defer func() { stop(); <-ended }()
	times, calls = make([][]time.Duration, len(pageSteps)), make([][]time.Duration, len(pageSteps))
	for i := range n {
		address := fmt.Sprintf("new%d@ternisle.example", i)
		pending, err := b.svc.Signup(ctx, illumicode.Request{Address: address}, illumicode.Subject(address))
		if err != nil {
			return nil, nil, err
		}
		link := <-way.links
		time.Sleep(pause)
		if i%2 == 1 {
			start := time.Now()
			if err := b.svc.ConfirmCode(ctx, pending.Ticket, "000000", nil); !errors.Is(err, illumicode.ErrWrongCode) {
				return nil, nil, fmt.Errorf("a wrong code is answered %w", err)
			}
			calls[1] = append(calls[1], time.Since(start))
			_, tok, _ := strings.Cut(link, "?t=")
			start = time.Now()
			if err := b.svc.Confirm(ctx, illumicode.Link(tok), nil); err != nil {
				return nil, nil, err
			}
			calls[4] = append(calls[4], time.Since(start))
			continue
		}
		browser := &visitor{pages: pages}
		begun := httptest.NewRecorder()
		pages.Await(begun, httptest.NewRequest("POST", "https://ferry.example/signup", nil), pending)
		waiting := browser.keep(begun)
		form := url.Values{"code": {"000000"}}
		browser.ask("GET", waiting, nil)
		browser.ask("POST", waiting+"/code", form)
		shown := browser.ask("GET", link, nil)
		browser.ask("GET", shown, nil)
		browser.ask("POST", shown, url.Values{})
		if browser.err != nil {
			return nil, nil, browser.err
		}
		for step, took := range browser.took {
			times[step] = append(times[step], took)
		}
	}
	return times, calls, nil
}

// A visitor is a browser with its cookies.
type visitor struct {
	pages   http.Handler
	cookies []*http.Cookie
	took    []time.Duration
	err     error
}

// keep takes the cookies of an answer, and returns where it leads.
func (v *visitor) keep(w *httptest.ResponseRecorder) string {
	v.cookies = append(v.cookies, w.Result().Cookies()...)
	return w.Header().Get("Location")
}

// ask asks for a page, and returns where its answer leads.
func (v *visitor) ask(method, at string, form url.Values) string {
	at = "https://ferry.example" + strings.TrimPrefix(at, "https://ferry.example")
	r := httptest.NewRequest(method, at, strings.NewReader(form.Encode()))
	if form != nil {
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		r.Header.Set("Sec-Fetch-Site", "same-origin")
	}
	for _, c := range v.cookies {
		r.AddCookie(c)
	}
	w := httptest.NewRecorder()
	start := time.Now()
	v.pages.ServeHTTP(w, r)
	v.took = append(v.took, time.Since(start))
	if w.Code >= 400 && w.Code != http.StatusUnprocessableEntity && v.err == nil {
		v.err = fmt.Errorf("%s %s was answered %d: %s", method, r.URL.Path, w.Code, w.Body)
	}
	return v.keep(w)
}
