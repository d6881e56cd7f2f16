package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"path"
	"strings"
	"time"

	"golang.org/x/net/html"
)

// A browser is one passenger's: an HTTP client with cookies and a language, which reads pages and
// submits the forms it finds on them.
type browser struct {
	ctx    context.Context
	client *http.Client
	lang   string
	page   *pageSeen
}

// A pageSeen is what the browser shows.
type pageSeen struct {
	URL    *url.URL
	Status int
	Title  string // the first heading
	Note   string // the message above the content, if any
	forms  map[string]bool
}

func newBrowser(ctx context.Context, lang string) *browser {
	jar, err := cookiejar.New(nil)
	if err != nil {
		panic(err) // only a bad public suffix list, and there is none
	}
	return &browser{ctx: ctx, lang: lang, client: &http.Client{Jar: jar, Timeout: 20 * time.Second}}
}

func (b *browser) open(address string) error { return b.do(http.MethodGet, address, nil) }

// submit fills in the form of the page that is shown whose action matches a pattern (path.Match), and sends it: it must
// be there.
func (b *browser) submit(pattern string, values url.Values) error {
	action, found := b.form(pattern)
	if !found {
		return fmt.Errorf("the page %q has no form for %s", b.page.Title, pattern)
	}
	target, err := b.page.URL.Parse(action)
	if err != nil {
		return err
	}
	return b.do(http.MethodPost, target.String(), values)
}

// form returns the action of the form that matches a pattern, if the page has one.
func (b *browser) form(pattern string) (action string, found bool) {
	for action := range b.page.forms {
		if match, _ := path.Match(pattern, action); match {
			return action, true
		}
	}
	return "", false
}

// do sends one request and reads the page that is shown at the end of its redirects.
func (b *browser) do(method, address string, values url.Values) error {
	req, err := http.NewRequestWithContext(b.ctx, method, address, strings.NewReader(values.Encode()))
	if err != nil {
		return err
	}
	req.Header.Set("Accept-Language", b.lang)
	if values != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	if method == http.MethodPost && b.page != nil {
		req.Header.Set("Origin", b.page.URL.Scheme+"://"+b.page.URL.Host)
	}
	resp, err := b.client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	doc, err := html.Parse(io.LimitReader(resp.Body, 1<<20))
	if err != nil {
		return err
	}
	b.page = &pageSeen{URL: resp.Request.URL, Status: resp.StatusCode, forms: make(map[string]bool)}
	for n := range doc.Descendants() {
		switch {
		case n.Type != html.ElementNode:
		case n.Data == "h1" && b.page.Title == "":
			b.page.Title = textOf(n)
		case n.Data == "p" && (attr(n, "role") == "status" || attr(n, "role") == "alert"):
			b.page.Note = textOf(n)
		case n.Data == "form" && strings.EqualFold(attr(n, "method"), "post"):
			b.page.forms[attr(n, "action")] = true
		}
	}
	return nil
}

func attr(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}

func textOf(n *html.Node) string {
	var b strings.Builder
	for d := range n.Descendants() {
		if d.Type == html.TextNode {
			b.WriteString(d.Data)
		}
	}
	return strings.Join(strings.Fields(b.String()), " ")
}

// A mail is a letter as the inbox tells programs of it.
type mail struct {
	Subject string
	Text    string
	HTML    string
	Link    string
	Code    string
}

// lettersFor asks the inbox for the letters to an address until there are n, for at most a quarter
// of a minute.
func lettersFor(ctx context.Context, inboxURL, to string, n int) ([]mail, error) {
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, inboxURL+"/letters.json?to="+url.QueryEscape(to),
			nil)
		if err != nil {
			return nil, err
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return nil, err
		}
		var got []mail
		err = json.NewDecoder(resp.Body).Decode(&got)
		resp.Body.Close()
		if err != nil {
			return nil, err
		}
		if len(got) >= n {
			return got, nil
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil, fmt.Errorf("letter %d did not arrive within 15 s; %d did", n, len(got))
		}
	}
}
