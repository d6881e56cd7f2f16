package web

import (
	"bytes"
	"cmp"
	"context"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/words"
)

//go:embed pages
var files embed.FS

var book = words.MustLoad(files, "pages/words.toml")

// Options are what the pages need of the application. The zero Options serve signups.
type Options struct {
	// Apply makes the application's own writes when an address is confirmed, in the same commit:
	// of a signup, of a change of address, or for a purpose of the application's own
	// (Proof.Purpose). Nil means that there are none.
	Apply func(ctx context.Context, tx illumicode.Tx, p illumicode.Proof) error

	// SignedIn makes the application's session in the commit that accepts a sign-in, and sets its
	// cookie. It must not write a body. Nil means that the application does not sign in by code.
	SignedIn func(w http.ResponseWriter, r *http.Request, tx illumicode.Tx, who illumicode.SignedIn) error

	// Correct, NotMe and Undo make the application's own writes when an address that was mistyped
	// gets another in its place, when somebody says that they did not begin a challenge, and when
	// the holder of an old address takes a change back. Nil means that there are none.
	Correct func(ctx context.Context, tx illumicode.Tx, to illumicode.Holding) error
	NotMe   func(ctx context.Context, tx illumicode.Tx, d illumicode.Disowned) error
	Undo    func(ctx context.Context, tx illumicode.Tx, c illumicode.Change) error

	SignIn string // where the application signs people in, for links; empty means no link
	After  string // where a browser goes that has signed in; empty means the base path

	// Failed is told of what was answered with 500, beside the log. Nil means nobody.
	Failed func(r *http.Request, f Fault)

	// Templates replace the default ones, file by file: confirm.html, done.html, frame.html,
	// sorry.html, takeback.html, unsubscribe.html, wait.html. Nil means the default ones.
	Templates fs.FS

	// Origins are those of the application's other hosts whose pages may POST here, such as
	// https://app.ferry.example. Requests of every other origin are refused.
	Origins []string

	// Client returns where a request came from, behind the proxies that the application trusts; see
	// [Behind]. Nil means the address of the connection.
	Client func(r *http.Request) netip.Addr
}

// A Fault is a request that was answered with 500.
type Fault struct {
	ID  string // shown on the page, and in the log
	Err error  // of the application's callback, or of the database
}

// Pages serves the default pages of the flows:
//
//	/confirm          asks, and confirms or signs in on POST (the path is Site.ConfirmPath)
//	/confirm/done     says that it worked
//	/proof            takes the code, sends the letter again, corrects a mistyped address
//	/not-me           asks, and ends a challenge or takes a change of address back on POST (Site.NotMePath)
//	/unsubscribe      asks, and ends a category of notices on POST; mail programs POST to it directly
//	                  (RFC 8058; the path is Site.UnsubscribePath)
//
// Paths are below the path of the site's base URL. Pages is safe for concurrent use.
type Pages struct {
	svc       *illumicode.Service
	opts      Options
	templates *template.Template
	base      string // path of the base URL
	confirm   string
	takeBack  string
	secure    bool // the site is https
	handler   http.Handler
}

// basePath returns the path of a site's base URL, without a slash at its end.
func basePath(baseURL string) string {
	_, rest, _ := strings.Cut(baseURL, "://")
	_, path, found := strings.Cut(rest, "/")
	if !found {
		return ""
	}
	return "/" + path
}

// NewPages returns the pages of a service. The error is about Options.Templates or Options.Origins.
func NewPages(svc *illumicode.Service, o Options) (*Pages, error) {
	site := flow.Of(svc).Site
	p := &Pages{svc: svc, opts: o, secure: strings.HasPrefix(site.BaseURL, "https:"), confirm: site.ConfirmPath,
		takeBack: site.NotMePath}
	p.base = basePath(site.BaseURL)
	p.opts.After = cmp.Or(o.After, p.base+"/")
	var err error
	if p.templates, err = p.readTemplates(o.Templates); err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	at := func(pattern string, h http.HandlerFunc) {
		method, path, _ := strings.Cut(pattern, " ")
		mux.HandleFunc(method+" "+p.base+path, h)
	}
	at("GET "+p.confirm, p.showConfirm)
	at("POST "+p.confirm, p.doConfirm)
	at("POST "+p.confirm+"/resend", p.doResendLink)
	at("GET "+p.confirm+"/done", func(w http.ResponseWriter, r *http.Request) {
		p.render(w, r, http.StatusOK, "done.html", page{})
	})
	at("GET /proof", p.showProof)
	at("POST /proof/code", p.doCode)
	at("POST /proof/resend", p.doResend)
	at("POST /proof/correct", p.doCorrect)
	for _, static := range []string{"style.css", "count.js"} {
		at("GET /proof/"+static, func(w http.ResponseWriter, r *http.Request) {
			http.ServeFileFS(w, r, files, "pages/"+static)
		})
	}
	at("GET "+p.takeBack, p.showTakeBack)
	at("POST "+p.takeBack, p.doTakeBack)
	at("GET "+site.UnsubscribePath, p.showUnsubscribe)
	at("POST "+site.UnsubscribePath, p.doUnsubscribe)
	protection := http.NewCrossOriginProtection()
	for _, origin := range o.Origins {
		if err := protection.AddTrustedOrigin(origin); err != nil {
			return nil, fmt.Errorf("web: Options.Origins: %w", err)
		}
	}
	// One click comes from the reader's mail service, which is another origin. What it needs to know
	// stands sealed in the link, and all it can do is end notices.
	protection.AddInsecureBypassPattern("POST " + p.base + site.UnsubscribePath)
	p.handler = protection.Handler(mux)
	return p, nil
}

// ServeHTTP implements [http.Handler].
func (p *Pages) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.handler.ServeHTTP(w, r.WithContext(from(r, p.opts.Client)))
}

// Request returns what somebody asks for at this browser, with where they are and what its cookies know:
// for [illumicode.Service.Signup], [illumicode.Service.SignIn] and the like.
func (p *Pages) Request(r *http.Request, address string) illumicode.Request {
	return illumicode.Request{Address: address, Locale: r.Header.Get("Accept-Language"),
		Client: clientOf(r, p.opts.Client), Ticket: p.ticket(r), Browser: p.cookie(r, browserCookie),
		Device: device(r.UserAgent())}
}

// Await remembers in this browser that it began the challenge, and sends it to the page that waits
// for the proof. Call it after [illumicode.Service.Signup], [illumicode.Service.SignIn] and the like,
// whatever the address was: the answer must not tell whether it is known.
func (p *Pages) Await(w http.ResponseWriter, r *http.Request, pending illumicode.Pending) {
	if pending.Ticket != "" {
		p.setCookie(w, ticketCookie, string(pending.Ticket), time.Until(pending.Ends)+p.skew())
	}
	http.Redirect(w, r, p.base+"/proof", http.StatusSeeOther)
}

// RequireConfirmed lets requests through to next whose subject has a confirmed address, and the
// others to otherwise, which tells people what to do. subject returns who is signed in; "" for
// nobody, who goes to otherwise too. An error of the database is answered with 503.
func RequireConfirmed(svc *illumicode.Service, subject func(r *http.Request) string, next,
	otherwise http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		who := subject(r)
		yes := false
		if who != "" {
			var err error
			if yes, err = svc.Confirmed(r.Context(), who); err != nil {
				http.Error(w, "Please try again in a minute.", http.StatusServiceUnavailable)
				return
			}
		}
		if yes {
			next.ServeHTTP(w, r)
		} else {
			otherwise.ServeHTTP(w, r)
		}
	})
}

// skew is how far the service's clock is behind the wall clock, by which browsers keep cookies.
func (p *Pages) skew() time.Duration { return time.Since(p.svc.Now()) }

// The cookies. All are HttpOnly and SameSite; on https they carry the __Host- prefix, so that
// no neighbouring subdomain can plant one.
const (
	ticketCookie  = "illumicode_ticket"
	linkCookie    = "illumicode_link"
	browserCookie = "illumicode_browser"
)

// linkCookieLife is how long a person may look at the page that asks.
const linkCookieLife = 20 * time.Minute

// maxForm bounds a form in bytes.
const maxForm = 4 << 10

func (p *Pages) cookieName(name string) string {
	if p.secure {
		return "__Host-" + name
	}
	return name
}

// setCookie sets a cookie that lives for life; 0 or less deletes it.
func (p *Pages) setCookie(w http.ResponseWriter, name, value string, life time.Duration) {
	age := int(life / time.Second)
	if age <= 0 {
		age = -1
	}
	http.SetCookie(w, &http.Cookie{Name: p.cookieName(name), Value: value, Path: "/", MaxAge: age,
		HttpOnly: true, Secure: p.secure, SameSite: http.SameSiteLaxMode})
}

func (p *Pages) cookie(r *http.Request, name string) string {
	c, err := r.Cookie(p.cookieName(name))
	if err != nil {
		return ""
	}
	return c.Value
}

// ticket returns the ticket that this browser has, or "".
func (p *Pages) ticket(r *http.Request) illumicode.Ticket {
	return illumicode.Ticket(p.cookie(r, ticketCookie))
}

// link returns the link that this browser has opened, or "".
func (p *Pages) link(r *http.Request) illumicode.Link {
	return illumicode.Link(p.cookie(r, linkCookie))
}

// purpose returns what the link of this browser is for; "" for no link of this service. It reads no row.
func (p *Pages) purpose(r *http.Request) string { return flow.Of(p.svc).LinkPurpose(string(p.link(r))) }

// tooSoon says when to come back, and returns in how many seconds.
func (p *Pages) tooSoon(w http.ResponseWriter, soon *illumicode.TooSoonError) int {
	later(w.Header(), soon, p.svc.Now())
	return secondsUntil(soon.At, p.svc.Now())
}

// TooSoon answers a request that [illumicode.Service.SignIn], Signup and the like have refused with
// [illumicode.ErrTooSoon]: with 429, when to come back, and a page that counts down and offers what was
// sent before. It reports false, and does nothing, for any other error.
func (p *Pages) TooSoon(w http.ResponseWriter, r *http.Request, err error) bool {
	soon, ok := errors.AsType[*illumicode.TooSoonError](err)
	if !ok {
		return false
	}
	v := page{Title: "busy_title", Message: "busy", Count: p.tooSoon(w, soon)}
	pending, err := p.svc.Pending(r.Context(), p.ticket(r))
	v.Waiting = err == nil && !pending.Confirmed
	p.render(w, r, http.StatusTooManyRequests, "sorry.html", v)
	return true
}

// refuse shows why there is nothing to do here.
func (p *Pages) refuse(w http.ResponseWriter, r *http.Request, err error) {
	status, key := http.StatusInternalServerError, "failed"
	for _, known := range []struct {
		err    error
		status int
		key    string
	}{
		{illumicode.ErrUsed, http.StatusOK, "used"},
		{illumicode.ErrExpired, http.StatusGone, "expired"},
		{illumicode.ErrCalledOff, http.StatusGone, "called_off"},
		{illumicode.ErrOtherBrowser, http.StatusForbidden, "other_browser"},
		{illumicode.ErrPurpose, http.StatusNotFound, "invalid"},
		{illumicode.ErrInvalid, http.StatusNotFound, "invalid"},
		{illumicode.ErrTaken, http.StatusConflict, "held"},
		{illumicode.ErrFrozen, http.StatusOK, "frozen"},
	} {
		if errors.Is(err, known.err) {
			status, key = known.status, known.key
			break
		}
	}
	v := page{Message: key, Title: key + "_title"}
	if status == http.StatusInternalServerError {
		v.Request = logFault(p.svc, r, err)
		if p.opts.Failed != nil {
			p.opts.Failed(r, Fault{ID: v.Request, Err: err})
		}
	}
	if errors.Is(err, illumicode.ErrExpired) {
		purpose := p.purpose(r)
		if v.CanResend = purpose != "" && purpose != challenge.NotMe && purpose != challenge.Undo; !v.CanResend {
			v.Message = "expired_for_good"
		}
	}
	p.render(w, r, status, "sorry.html", v)
}

// A page is what a template is given besides its words.
type page struct {
	Lang    string
	Dir     string // ltr or rtl
	Words   map[string]string
	Site    flow.Site
	Base    string
	Confirm string
	NotMe   string
	SignIn  string

	Title   string // a key of words
	Message string // a key of words
	Request string // what names the request in the log, where it has failed
	Purpose string
	Address string
	Seconds int // until the letter may be sent again; 0 for now
	Count   int // seconds until the code may be tried again; 0 if not to be told
	Tries   int // left; 0 if not to be told

	HasCode, HasLink bool   // what the letter carries
	Closed           bool   // no try is left for a code
	CanResend        bool   // the link at hand can be had anew
	Waiting          bool   // this browser has a challenge that waits for its code
	CanCorrect       bool   // a mistyped address can be corrected
	Typed            string // what was typed instead

	What     string   // undo or not_me
	Stopped  []string // new addresses of the changes that are taken back
	Made     bool
	Browsers bool // known browsers can be forgotten

	Category string // of notices
	Sealed   string // what an unsubscribe link carries
}

// W returns the words of a key.
func (p page) W(key string) string { return p.Words[key] }

// For returns the words of a key for the purpose at hand, where it has its own, else those of the key.
func (p page) For(key string) string {
	return cmp.Or(p.Words[key+"_"+p.Purpose], p.Words[key])
}

// Clock writes seconds as minutes and seconds, and as hours before them from one on.
func (p page) Clock(seconds int) string {
	if seconds >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", seconds/3600, seconds/60%60, seconds%60)
	}
	return fmt.Sprintf("%d:%02d", seconds/60, seconds%60)
}

func (p *Pages) render(w http.ResponseWriter, r *http.Request, status int, name string, v page) {
	v = p.dress(v, p.svc.Locale(r.Header.Get("Accept-Language")))
	var b bytes.Buffer
	if err := p.templates.ExecuteTemplate(&b, name, v); err != nil {
		http.Error(w, "The page could not be made.", http.StatusInternalServerError)
		return
	}
	harden(w)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Language", v.Lang)
	w.Header().Set("Vary", "Accept-Language, Cookie")
	w.WriteHeader(status)
	w.Write(b.Bytes())
}

// harden sets the headers of every page. With Referrer-Policy no-referrer a form's POST would
// carry "Origin: null" and be refused as foreign; same-origin tells other sites as little.
func harden(w http.ResponseWriter) {
	h := w.Header()
	h.Set("Content-Security-Policy",
		"default-src 'none'; style-src 'self'; script-src 'self'; form-action 'self'; frame-ancestors 'none'; "+
			"base-uri 'none'")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
}
