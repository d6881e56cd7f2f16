package web

import (
	"bytes"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/words"
)

//go:embed pages
var files embed.FS

var templates = template.Must(template.ParseFS(files, "pages/*.html"))

var book = words.MustLoad(files, "pages/words.toml")

// Options are what the pages need of the application.
type Options struct {
	// Apply makes the application's own writes when an address is confirmed, in the same commit.
	// Nil means that there are none.
	Apply func(tx *sql.Tx, p illumicode.Proof) error

	SignIn string // where the application signs people in, for links; empty means no link
}

// Pages serves the default pages of a signup:
//
//	/confirm          asks, and confirms on POST (the path is Site.ConfirmPath)
//	/confirm/done     says that it worked
//	/signup/wait      takes the code, and sends the letter again on request
//	/signup/style.css
//	/unsubscribe      asks, and ends a category of notices on POST; mail programs POST to it directly
//	                  (RFC 8058; the path is Site.UnsubscribePath)
//
// Paths are below the path of the site's base URL. Pages is safe for concurrent use.
type Pages struct {
	svc     *illumicode.Service
	opts    Options
	base    string // path of the base URL
	confirm string
	secure  bool // the site is https
	handler http.Handler
}

// NewPages returns the pages of a service.
func NewPages(svc *illumicode.Service, o Options) *Pages {
	site := svc.Site()
	p := &Pages{svc: svc, opts: o, secure: strings.HasPrefix(site.BaseURL, "https:"), confirm: site.ConfirmPath}
	_, rest, _ := strings.Cut(site.BaseURL, "://")
	if i := strings.IndexByte(rest, '/'); i >= 0 {
		p.base = rest[i:]
	}
	mux := http.NewServeMux()
	at := func(pattern string, h http.HandlerFunc) {
		method, path, _ := strings.Cut(pattern, " ")
		mux.HandleFunc(method+" "+p.base+path, h)
	}
	at("GET "+p.confirm, p.showConfirm)
	at("POST "+p.confirm, p.doConfirm)
	at("GET "+p.confirm+"/done", func(w http.ResponseWriter, r *http.Request) { p.render(w, r, http.StatusOK, "done.html", page{}) })
	at("GET /signup/wait", p.showWait)
	at("POST /signup/code", p.doCode)
	at("POST /signup/resend", p.doResend)
	at("GET /signup/style.css", func(w http.ResponseWriter, r *http.Request) {
		http.ServeFileFS(w, r, files, "pages/style.css")
	})
	at("GET "+site.UnsubscribePath, p.showUnsubscribe)
	at("POST "+site.UnsubscribePath, p.doUnsubscribe)
	protection := http.NewCrossOriginProtection()
	// One click comes from the reader's mail service, which is another origin. What it needs to know
	// stands sealed in the link, and all it can do is end notices.
	protection.AddInsecureBypassPattern("POST " + p.base + site.UnsubscribePath)
	p.handler = protection.Handler(mux)
	return p
}

// ServeHTTP implements [http.Handler].
func (p *Pages) ServeHTTP(w http.ResponseWriter, r *http.Request) { p.handler.ServeHTTP(w, r) }

// Await remembers in this browser that it began the signup, and sends it to the page that waits
// for the proof. Call it after [illumicode.Service.Signup], whatever the address was: the
// answer must not tell whether it is known.
func (p *Pages) Await(w http.ResponseWriter, r *http.Request, pending illumicode.Pending) {
	if pending.Ticket != "" {
		p.setCookie(w, ticketCookie, pending.Ticket, time.Until(pending.Ends)+p.skew())
	}
	http.Redirect(w, r, p.base+"/signup/wait", http.StatusSeeOther)
}

// skew is how far the service's clock is behind the wall clock, by which browsers keep cookies.
func (p *Pages) skew() time.Duration { return time.Since(p.svc.Now()) }

// The cookies. Both are HttpOnly and SameSite; on https they carry the __Host- prefix, so that
// no neighbouring subdomain can plant one.
const (
	ticketCookie = "illumicode_ticket"
	linkCookie   = "illumicode_link"
)

// linkCookieLife is how long a person may look at the page that asks.
const linkCookieLife = 20 * time.Minute

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

// showConfirm asks whether to confirm. It changes nothing. A HEAD is answered like a GET.
func (p *Pages) showConfirm(w http.ResponseWriter, r *http.Request) {
	if tok := r.URL.Query().Get("t"); tok != "" {
		p.setCookie(w, linkCookie, tok, linkCookieLife)
		harden(w)
		http.Redirect(w, r, p.base+p.confirm, http.StatusSeeOther)
		return
	}
	pending, err := p.svc.Inspect(r.Context(), p.cookie(r, ticketCookie), p.cookie(r, linkCookie))
	if err != nil {
		p.refuse(w, r, err)
		return
	}
	p.render(w, r, http.StatusOK, "confirm.html", page{Address: pending.Address})
}

func (p *Pages) doConfirm(w http.ResponseWriter, r *http.Request) {
	if err := p.svc.Confirm(r.Context(), p.cookie(r, linkCookie), p.opts.Apply); err != nil {
		p.refuse(w, r, err)
		return
	}
	p.setCookie(w, linkCookie, "", 0)
	http.Redirect(w, r, p.base+p.confirm+"/done", http.StatusSeeOther)
}

// showWait is where the browser that began waits for the proof.
func (p *Pages) showWait(w http.ResponseWriter, r *http.Request) {
	pending, err := p.svc.Pending(r.Context(), p.cookie(r, ticketCookie))
	if err != nil {
		p.refuse(w, r, err)
		return
	}
	if pending.Confirmed {
		http.Redirect(w, r, p.base+p.confirm+"/done", http.StatusSeeOther)
		return
	}
	p.wait(w, r, http.StatusOK, pending, "")
}

// wait renders the waiting page with a message, which is a key of words or empty.
func (p *Pages) wait(w http.ResponseWriter, r *http.Request, status int, pending illumicode.Pending, message string, tries ...int) {
	v := page{Address: pending.Address, Message: message}
	if left := pending.ResendAfter.Sub(p.svc.Now()); left > 0 {
		seconds := int((left + time.Second - 1) / time.Second)
		v.Wait = fmt.Sprintf("%d:%02d", seconds/60, seconds%60)
	}
	if len(tries) > 0 {
		v.Tries = tries[0]
	}
	p.render(w, r, status, "wait.html", v)
}

func (p *Pages) doCode(w http.ResponseWriter, r *http.Request) {
	ticket := p.cookie(r, ticketCookie)
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	code := r.PostFormValue("code")
	pending, err := p.svc.Pending(r.Context(), ticket)
	if err == nil {
		err = p.svc.ConfirmCode(r.Context(), ticket, code, p.opts.Apply)
	}
	wrong, isWrong := errors.AsType[*illumicode.WrongCodeError](err)
	switch {
	case err == nil, errors.Is(err, illumicode.ErrUsed):
		http.Redirect(w, r, p.base+p.confirm+"/done", http.StatusSeeOther)
	case isWrong && wrong.TriesLeft > 0:
		p.wait(w, r, http.StatusUnprocessableEntity, pending, "wrong_code", wrong.TriesLeft)
	case isWrong, errors.Is(err, illumicode.ErrNoTries):
		p.wait(w, r, http.StatusUnprocessableEntity, pending, "no_tries")
	case errors.Is(err, illumicode.ErrNotACode):
		p.wait(w, r, http.StatusUnprocessableEntity, pending, "not_a_code")
	case errors.Is(err, illumicode.ErrExpired):
		p.wait(w, r, http.StatusGone, pending, "code_expired")
	default:
		p.refuse(w, r, err)
	}
}

func (p *Pages) doResend(w http.ResponseWriter, r *http.Request) {
	pending, err := p.svc.Resend(r.Context(), p.cookie(r, ticketCookie))
	switch {
	case err == nil:
		p.wait(w, r, http.StatusOK, pending, "sent_again")
	case errors.Is(err, illumicode.ErrTooSoon):
		p.wait(w, r, http.StatusTooManyRequests, pending, "too_soon")
	case errors.Is(err, illumicode.ErrUsed):
		http.Redirect(w, r, p.base+p.confirm+"/done", http.StatusSeeOther)
	default:
		p.refuse(w, r, err)
	}
}

// showUnsubscribe asks whether to end the notices that a link is about. It changes nothing.
func (p *Pages) showUnsubscribe(w http.ResponseWriter, r *http.Request) {
	address, category, err := p.svc.Unsubscription(r.URL.Query().Get("u"))
	if err != nil {
		p.refuse(w, r, err)
		return
	}
	p.render(w, r, http.StatusOK, "unsubscribe.html", page{Address: address, Category: category, Sealed: r.URL.Query().Get("u")})
}

// doUnsubscribe ends them. Asking for them again is a wish of the person's, on the same page.
func (p *Pages) doUnsubscribe(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	address, category, err := p.svc.Unsubscription(r.URL.Query().Get("u"))
	wanted := r.PostFormValue("wanted") == "yes"
	if err == nil {
		err = p.svc.Prefer(r.Context(), address, category, wanted)
	}
	if err != nil {
		p.refuse(w, r, err)
		return
	}
	message := "unsubscribed"
	if wanted {
		message = "subscribed"
	}
	p.render(w, r, http.StatusOK, "unsubscribe.html", page{Address: address, Category: category, Sealed: r.URL.Query().Get("u"), Message: message})
}

// refuse shows why there is nothing to confirm here.
func (p *Pages) refuse(w http.ResponseWriter, r *http.Request, err error) {
	status, key := http.StatusInternalServerError, "failed"
	switch {
	case errors.Is(err, illumicode.ErrUsed):
		status, key = http.StatusOK, "used"
	case errors.Is(err, illumicode.ErrExpired):
		status, key = http.StatusGone, "expired"
	case errors.Is(err, illumicode.ErrInvalid):
		status, key = http.StatusNotFound, "invalid"
	case errors.Is(err, illumicode.ErrHeld):
		status, key = http.StatusConflict, "held"
	}
	p.render(w, r, status, "sorry.html", page{Message: key, Title: key + "_title"})
}

// A page is what a template is given besides its words.
type page struct {
	Lang    string
	Words   map[string]string
	Site    illumicode.Site
	Base    string
	Confirm string
	SignIn  string

	Title   string // a key of words
	Message string // a key of words
	Address string
	Wait    string // minutes and seconds until the letter may be sent again; empty for none
	Tries   int    // left; 0 if not to be told

	Category string // of notices
	Sealed   string // what an unsubscribe link carries
}

// W returns the words of a key.
func (p page) W(key string) string { return p.Words[key] }

func (p *Pages) render(w http.ResponseWriter, r *http.Request, status int, name string, v page) {
	v.Words, v.Lang = book.In(p.svc.Locale(r.Header.Get("Accept-Language")))
	v.Site, v.Base, v.Confirm, v.SignIn = p.svc.Site(), p.base, p.base+p.confirm, p.opts.SignIn
	var b bytes.Buffer
	if err := templates.ExecuteTemplate(&b, name, v); err != nil {
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
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
}
