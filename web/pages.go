package web

import (
	"bytes"
	"context"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/illumicode/illumicode"
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

	// Create makes the account of a signup that [illumicode.Service.Register] has begun, in the commit that confirms
	// its address, and returns its subject. Where r has no secret, another browser registered: let this one choose its
	// credentials, bound to it by a cookie that Create sets. It must not write a body.
	Create func(w http.ResponseWriter, r *http.Request, tx illumicode.Tx, p illumicode.Proof,
		made illumicode.Registration) (subject string, err error)

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

	// After is where a browser goes on, by the purpose of what it has proven: a path of the site or an
	// http(s) URL. A purpose that is not named leads nowhere, but for sign-ins, which go to the base path.
	After map[string]string

	// Puzzle answers a request that a rule for everybody has refused and that would pass if the application vouched
	// for it (Request.Vouched): with a puzzle, say. Nil means the page that counts down.
	Puzzle func(w http.ResponseWriter, r *http.Request)

	// Failed is told of what was answered with 500, beside the log. Nil means nobody.
	Failed func(r *http.Request, f Fault)

	// Templates replace the default ones, file by file: confirm.html, done.html, elsewhere.html,
	// frame.html, sorry.html, takeback.html, unsubscribe.html, wait.html. Nil means the default ones.
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
//	/confirm          takes a link, and leads to /confirm/MARK (the path is Site.ConfirmPath)
//	/confirm/MARK     asks, and confirms or signs in on POST
//	/confirm/done     says that it worked, to the browser for which it has
//	/proof            leads to /proof/MARK of the challenge that the browser has begun last
//	/proof/MARK       takes the code, sends the letter again, corrects a mistyped address
//	/not-me           takes a link, and leads to /not-me/MARK (the path is Site.NotMePath)
//	/not-me/MARK      asks, and ends a challenge or takes a change of address back on POST
//	/unsubscribe      asks, and ends a category of notices on POST; mail programs POST to it directly
//	                  (RFC 8058; the path is Site.UnsubscribePath)
//
// MARK is a digest of the link or the ticket, which is in a cookie of its own: a form acts on what its page
// showed. Paths are below the path of the site's base URL. Pages is safe for concurrent use.
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

// NewPages returns the pages of a service. The error is about Options.Templates, Options.Origins or
// Options.After.
func NewPages(svc *illumicode.Service, o Options) (*Pages, error) {
	site := flow.Of(svc).Site
	p := &Pages{svc: svc, opts: o, secure: strings.HasPrefix(site.BaseURL, "https:"), confirm: site.ConfirmPath,
		takeBack: site.NotMePath}
	p.base = basePath(site.BaseURL)
	flow.Of(svc).Here(context.Background())
	if err := p.checkAfter(); err != nil {
		return nil, err
	}
	var err error
	if p.templates, err = p.readTemplates(o.Templates); err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	at := func(pattern string, h http.HandlerFunc) {
		method, path, _ := strings.Cut(pattern, " ")
		mux.HandleFunc(method+" "+p.base+path, h)
	}
	at("GET "+p.confirm, p.takeToken(p.confirm))
	at("GET "+p.confirm+"/{mark}", p.withLink(p.showConfirm))
	at("POST "+p.confirm+"/{mark}", p.withLink(p.doConfirm))
	at("POST "+p.confirm+"/{mark}/resend", p.withLink(p.doResendLink))
	at("POST "+p.confirm+"/{mark}/elsewhere", p.withLink(p.doElsewhere))
	at("GET "+p.confirm+"/done", p.showDone)
	at("GET /proof", p.findProof)
	at("GET /proof/{mark}", p.withTicket(p.showProof))
	at("POST /proof/{mark}/code", p.withTicket(p.doCode))
	at("POST /proof/{mark}/resend", p.withTicket(p.doResend))
	at("POST /proof/{mark}/correct", p.withTicket(p.doCorrect))
	for _, static := range []string{"style.css", "count.js"} {
		at("GET /proof/"+static, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("X-Content-Type-Options", "nosniff")
			w.Header().Set("Cache-Control", "public, max-age=3600")
			http.ServeFileFS(w, r, files, "pages/"+static)
		})
	}
	at("GET "+p.takeBack, p.takeToken(p.takeBack))
	at("GET "+p.takeBack+"/{mark}", p.withLink(p.showTakeBack))
	at("POST "+p.takeBack+"/{mark}", p.withLink(p.doTakeBack))
	at("GET "+site.UnsubscribePath, p.showUnsubscribe)
	at("POST "+site.UnsubscribePath, p.doUnsubscribe)
	protection := http.NewCrossOriginProtection()
	// A proxy may have rewritten Host, which a browser without Sec-Fetch-Site is judged by.
	for _, origin := range append([]string{originOf(site.BaseURL)}, o.Origins...) {
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
	if !readable(w, r) {
		return
	}
	p.handler.ServeHTTP(w, r.WithContext(from(r, p.opts.Client)))
}

// readable reads the form of a request and reports whether it could: a form as pages send them, that is not too
// long and holds no NUL, which no person types; if not, it has answered.
func readable(w http.ResponseWriter, r *http.Request) bool {
	if r.Method != http.MethodPost {
		return true
	}
	r.Body = http.MaxBytesReader(w, r.Body, maxForm)
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	var err error
	switch kind {
	case "application/x-www-form-urlencoded":
		err = r.ParseForm()
	case "multipart/form-data": // as some mail services do for one click (RFC 8058 §3.1)
		err = r.ParseMultipartForm(maxForm)
	default:
		if n, _ := io.ReadFull(r.Body, make([]byte, 1)); n > 0 {
			http.Error(w, "This page takes forms only.", http.StatusUnsupportedMediaType)
			return false
		}
	}
	for _, all := range r.PostForm {
		for _, value := range all {
			if strings.ContainsRune(value, 0) {
				err = errors.New("a NUL")
			}
		}
	}
	if err != nil {
		http.Error(w, "The form cannot be read.", http.StatusBadRequest)
	}
	return err == nil
}

// Request returns what somebody asks for at this browser, with where they are and what its cookies know:
// for [illumicode.Service.Signup], [illumicode.Service.SignIn] and the like.
func (p *Pages) Request(r *http.Request, address string) illumicode.Request {
	return illumicode.Request{Address: address, Locale: r.Header.Get("Accept-Language"),
		Client: clientOf(r, p.opts.Client), Ticket: p.ticketOf(r, address), Browser: p.cookie(r, browserCookie),
		Device: device(r.UserAgent())}
}

// ticketOf returns the latest ticket that this browser has for an address, or "".
func (p *Pages) ticketOf(r *http.Request, address string) illumicode.Ticket {
	for _, k := range p.allKept(r, ticketCookie) {
		if k.whose != "" && k.whose == whose(address) {
			return illumicode.Ticket(k.token)
		}
	}
	return ""
}

// Await remembers in this browser that it began the challenge, and sends it to the page that waits
// for the proof. Call it after [illumicode.Service.Signup], [illumicode.Service.SignIn] and the like,
// whatever the address was: the answer must not tell whether it is known.
func (p *Pages) Await(w http.ResponseWriter, r *http.Request, pending illumicode.Pending) {
	p.await(w, r, pending, "")
}

// await is Await for a challenge that a letter may have let begin: link is the mark of its link.
func (p *Pages) await(w http.ResponseWriter, r *http.Request, pending illumicode.Pending, link string) {
	to := p.base + "/proof"
	if ticket := string(pending.Ticket); ticket != "" {
		p.keep(w, r, ticketCookie, kept{token: ticket, whose: whose(pending.Address), link: link},
			time.Until(pending.Ends)+p.skew())
		to += "/" + mark(ticket)
	}
	http.Redirect(w, r, to, http.StatusSeeOther)
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

// linkCookieLife is how long a person may look at the page that asks.
const linkCookieLife = 20 * time.Minute

// maxForm bounds a form in bytes.
const maxForm = 4 << 10

// tooSoon says when to come back, and returns in how many seconds.
func (p *Pages) tooSoon(w http.ResponseWriter, soon *illumicode.TooSoonError) int {
	later(w.Header(), soon, p.svc.Now())
	return secondsUntil(soon.At, p.svc.Now())
}

// TooSoon answers a request that [illumicode.Service.SignIn], Signup and the like have refused with
// [illumicode.ErrTooSoon]: with 429, when to come back, and a page that counts down and offers what was
// sent before; or as Options.Puzzle does. It reports false, and does nothing, for any other error.
func (p *Pages) TooSoon(w http.ResponseWriter, r *http.Request, err error) bool {
	soon, ok := errors.AsType[*illumicode.TooSoonError](err)
	if !ok {
		return false
	}
	if soon.Vouch && p.opts.Puzzle != nil {
		p.opts.Puzzle(w, r)
		return true
	}
	v := page{Title: "busy_title", Message: "busy", Count: p.tooSoon(w, soon)}
	for _, k := range p.allKept(r, ticketCookie) {
		pending, err := p.svc.Pending(r.Context(), illumicode.Ticket(k.token))
		if err == nil && !pending.Confirmed {
			v.Waiting, v.Here = true, p.base+"/proof/"+k.mark
			break
		}
	}
	p.render(w, r, http.StatusTooManyRequests, "sorry.html", v)
	return true
}

// refuse shows why there is nothing to do here.
func (p *Pages) refuse(w http.ResponseWriter, r *http.Request, err error) {
	p.refuseAs(w, r, err, page{})
}

// refuseAs is refuse with a page that has something filled in.
func (p *Pages) refuseAs(w http.ResponseWriter, r *http.Request, err error, v page) {
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
		{illumicode.ErrOccupied, http.StatusConflict, "held"},
		{illumicode.ErrFrozen, http.StatusOK, "frozen"},
	} {
		if errors.Is(err, known.err) {
			status, key = known.status, known.key
			break
		}
	}
	v.Message, v.Title = key, key+"_title"
	if status == http.StatusInternalServerError {
		id := logFault(p.svc, r, err)
		if status = faultStatus(err); status == http.StatusInternalServerError {
			v.Request = id // where the database is away the log says so once a minute, and not of each request
		}
		if p.opts.Failed != nil {
			p.opts.Failed(r, Fault{ID: id, Err: err})
		}
	}
	if errors.Is(err, illumicode.ErrExpired) && !v.CanResend {
		v.Message = "expired_for_good"
	}
	p.render(w, r, status, "sorry.html", v)
}

// A page is what a template is given besides its words.
type page struct {
	Lang   string
	Dir    string // ltr or rtl
	Words  map[string]string
	Site   flow.Site
	Base   string
	SignIn string
	Here   string // the path of the page, which its forms POST to or below
	Next   string // where to go on; empty for nowhere

	Title   string // a key of words
	Message string // a key of words
	Request string // what names the request in the log, where it has failed
	Purpose string
	Phone   bool // it is about a phone number
	Address string
	Seconds int // until the letter may be sent again; 0 for now
	Count   int // seconds until the code may be tried again; 0 if not to be told
	Tries   int // left; 0 if not to be told

	HasCode, HasLink bool   // what the letter carries
	Closed           bool   // no try is left for a code
	Wrong            bool   // what was typed is not accepted
	CanResend        bool   // the link at hand can be had anew
	Waiting          bool   // this browser has a challenge that waits for its code
	CanCorrect       bool   // a mistyped address can be corrected
	Typed            string // what was typed instead

	What     string   // undo or not_me
	Stopped  []string // new addresses of the changes that are taken back
	Made     bool
	Browsers bool // known browsers can be forgotten

	Sealed string // what an unsubscribe link carries
}

func (p *Pages) render(w http.ResponseWriter, r *http.Request, status int, name string, v page) {
	v = p.dress(v, p.svc.Locale(r.Header.Get("Accept-Language")))
	var b bytes.Buffer
	if err := p.templates.ExecuteTemplate(&b, name, v); err != nil {
		http.Error(w, "The page could not be made.", http.StatusInternalServerError)
		return
	}
	p.harden(w)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Language", v.Lang)
	w.Header().Set("Vary", "Accept-Language, Cookie")
	w.WriteHeader(status)
	w.Write(b.Bytes())
}

// harden sets the headers of every page. With Referrer-Policy no-referrer a form's POST would
// carry "Origin: null" and be refused as foreign; same-origin tells other sites as little.
func (p *Pages) harden(w http.ResponseWriter) {
	h := w.Header()
	if p.secure {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	h.Set("Content-Security-Policy",
		"default-src 'none'; style-src 'self'; script-src 'self'; form-action 'self'; frame-ancestors 'none'; "+
			"base-uri 'none'")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Robots-Tag", "noindex")
}
