package demo

import (
	"bytes"
	"context"
	"database/sql"
	"embed"
	"errors"
	"html/template"
	"net/http"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/words"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/web"
)

//go:embed pages
var files embed.FS

var (
	templates = template.Must(template.ParseFS(files, "pages/*.html"))
	book      = words.MustLoad(files, "pages/words.toml")
)

// A ferry is the site.
type ferry struct {
	svc   *illumicode.Service
	db    *sql.DB
	pages *web.Pages
}

// newFerry returns the site's handler: its own pages, and those of the confirmation.
func newFerry(ctx context.Context, svc *illumicode.Service) (http.Handler, error) {
	f := &ferry{svc: svc, db: svc.Store().DB()}
	var err error
	f.pages, err = web.NewPages(svc, web.Options{Apply: confirmPassenger, SignedIn: f.codeSession,
		Correct: correctPassenger, Undo: undoChange, NotMe: disown, SignIn: "/signin",
		After: map[string]string{challenge.Signup: "/signin", challenge.SignIn: "/account"}})
	if err != nil {
		return nil, err
	}
	if _, err := f.db.ExecContext(ctx, schema); err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", f.home)
	mux.HandleFunc("GET /register", f.show("register.html"))
	mux.HandleFunc("POST /register", f.register)
	mux.HandleFunc("GET /signin", f.show("signin.html"))
	mux.HandleFunc("POST /signin", f.signIn)
	mux.HandleFunc("POST /signin/code", f.signInByCode)
	mux.HandleFunc("GET /signin/unconfirmed", f.unconfirmed)
	mux.HandleFunc("POST /signin/again", f.again)
	mux.HandleFunc("GET /account", f.account)
	mux.HandleFunc("POST /account/address", f.changeAddress)
	mux.HandleFunc("POST /signout", f.signOut)
	mux.Handle("/", f.pages)
	return http.NewCrossOriginProtection().Handler(mux), nil
}

// A view is what a page is given.
type view struct {
	Lang      string
	Words     map[string]string
	Message   string // a key of words
	Detail    string
	Passenger passenger
	Email     string
	Name      string
	Seconds   int
}

func (v view) W(key string) string { return v.Words[key] }

func (f *ferry) render(w http.ResponseWriter, r *http.Request, status int, name string, v view) {
	v.Words, v.Lang = book.In(f.svc.Locale(r.Header.Get("Accept-Language")))
	var b bytes.Buffer
	if err := templates.ExecuteTemplate(&b, name, v); err != nil {
		http.Error(w, "The page could not be made.", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	w.Write(b.Bytes())
}

func (f *ferry) show(name string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) { f.render(w, r, http.StatusOK, name, view{}) }
}

func (f *ferry) home(w http.ResponseWriter, r *http.Request) {
	p, _, err := f.session(r)
	if err != nil {
		p = passenger{}
	}
	f.render(w, r, http.StatusOK, "home.html", view{Passenger: p})
}

// minPassword is the ferry's rule, in bytes.
const minPassword = 8

func (f *ferry) register(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	email, name, password := r.PostFormValue("email"), r.PostFormValue("name"), r.PostFormValue("password")
	form := view{Email: email, Name: name}
	if len(password) < minPassword {
		form.Message = "short_password"
		f.render(w, r, http.StatusUnprocessableEntity, "register.html", form)
		return
	}
	hash, err := hashPassword(password)
	if err != nil {
		f.broken(w, r)
		return
	}
	ask := f.pages.Request(r, email)
	ask.Name = name
	pending, err := f.svc.Signup(r.Context(), ask,
		func(ctx context.Context, tx illumicode.Tx) (string, error) {
			return insertPassenger(ctx, tx.SQL(), email, name, hash)
		})
	if errors.Is(err, message.ErrAddress) {
		form.Message, form.Detail = "bad_address", err.Error()
		f.render(w, r, http.StatusUnprocessableEntity, "register.html", form)
		return
	}
	if f.pages.TooSoon(w, r, err) { // answered, with a countdown
		return
	}
	if err != nil {
		f.broken(w, r)
		return
	}
	f.pages.Await(w, r, pending)
}

func (f *ferry) signIn(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	email := r.PostFormValue("email")
	p, ok, err := byPassword(r.Context(), f.db, email, r.PostFormValue("password"))
	if err != nil {
		f.broken(w, r)
		return
	}
	if !ok {
		f.render(w, r, http.StatusUnauthorized, "signin.html", view{Message: "bad_signin", Email: email})
		return
	}
	if p.Frozen {
		f.render(w, r, http.StatusForbidden, "signin.html", view{Message: "frozen", Email: email})
		return
	}
	token, err := startSession(r.Context(), f.db, p.subject(), p.Confirmed)
	if err != nil {
		f.broken(w, r)
		return
	}
	f.setSession(w, token, sessionLife)
	next := "/account"
	if !p.Confirmed {
		next = "/signin/unconfirmed"
	}
	http.Redirect(w, r, next, http.StatusSeeOther)
}

// signInByCode sends a code to who holds the address, and answers alike if nobody does.
func (f *ferry) signInByCode(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	email := r.PostFormValue("email")
	pending, err := f.svc.SignIn(r.Context(), f.pages.Request(r, email))
	soon, tooSoon := errors.AsType[*illumicode.TooSoonError](err)
	switch {
	case tooSoon:
		f.render(w, r, http.StatusTooManyRequests, "signin.html",
			view{Message: "many_codes", Seconds: f.secondsUntil(soon.At), Email: email})
	case errors.Is(err, message.ErrAddress):
		f.render(w, r, http.StatusUnprocessableEntity, "signin.html",
			view{Message: "bad_address", Detail: err.Error(), Email: email})
	case err != nil:
		f.broken(w, r)
	default:
		f.pages.Await(w, r, pending)
	}
}

// codeSession makes the session of a sign-in by code, in the commit that accepts it.
func (f *ferry) codeSession(w http.ResponseWriter, r *http.Request, tx illumicode.Tx, who illumicode.SignedIn) error {
	token, err := startSession(r.Context(), tx.SQL(), who.Subject, true)
	if err == nil {
		f.setSession(w, token, sessionLife)
	}
	return err
}

// changeAddress begins the change of a signed-in passenger's address.
func (f *ferry) changeAddress(w http.ResponseWriter, r *http.Request) {
	p, full, err := f.session(r)
	if err != nil || !full {
		http.Redirect(w, r, "/signin", http.StatusSeeOther)
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	request := f.pages.Request(r, r.PostFormValue("email"))
	request.Name = p.Name
	pending, err := f.svc.ChangeAddress(r.Context(), illumicode.Holding{Subject: p.subject(), Address: p.Email},
		request)
	switch {
	case errors.Is(err, message.ErrAddress):
		f.render(w, r, http.StatusUnprocessableEntity, "account.html",
			view{Passenger: p, Message: "bad_address", Detail: err.Error()})
	case err != nil:
		f.broken(w, r)
	default:
		f.pages.Await(w, r, pending)
	}
}

// secondsUntil rounds up.
func (f *ferry) secondsUntil(at time.Time) int {
	return int((at.Sub(f.svc.Now()) + time.Second - 1) / time.Second)
}

// unconfirmed tells a passenger whose password was right what is still missing.
func (f *ferry) unconfirmed(w http.ResponseWriter, r *http.Request) {
	p, _, err := f.session(r)
	if err != nil {
		http.Redirect(w, r, "/signin", http.StatusSeeOther)
		return
	}
	f.render(w, r, http.StatusOK, "unconfirmed.html", view{Passenger: p})
}

// again sends the letter again to a passenger whose password was right.
func (f *ferry) again(w http.ResponseWriter, r *http.Request) {
	p, _, err := f.session(r)
	if err != nil {
		http.Redirect(w, r, "/signin", http.StatusSeeOther)
		return
	}
	pending, err := f.svc.ResendForSubject(r.Context(), p.subject())
	soon, tooSoon := errors.AsType[*illumicode.TooSoonError](err)
	switch {
	case tooSoon:
		f.render(w, r, http.StatusTooManyRequests, "unconfirmed.html",
			view{Passenger: p, Message: "too_soon", Seconds: f.secondsUntil(soon.At)})
	case errors.Is(err, illumicode.ErrNothingPending):
		http.Redirect(w, r, "/signin", http.StatusSeeOther)
	case err != nil:
		f.broken(w, r)
	case pending.Ticket != "": // a new signup began, and this browser began it
		f.pages.Await(w, r, pending)
	default:
		f.render(w, r, http.StatusOK, "unconfirmed.html", view{Passenger: p, Message: "sent_again"})
	}
}

func (f *ferry) account(w http.ResponseWriter, r *http.Request) {
	p, full, err := f.session(r)
	if err != nil || !full {
		http.Redirect(w, r, "/signin", http.StatusSeeOther)
		return
	}
	f.render(w, r, http.StatusOK, "account.html", view{Passenger: p})
}

func (f *ferry) signOut(w http.ResponseWriter, r *http.Request) {
	if c, err := r.Cookie(sessionCookie); err == nil {
		if err := endSession(r.Context(), f.db, c.Value); err != nil {
			f.broken(w, r)
			return
		}
	}
	f.setSession(w, "", -time.Second)
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

func (f *ferry) broken(w http.ResponseWriter, r *http.Request) {
	f.render(w, r, http.StatusInternalServerError, "signin.html", view{Message: "broken"})
}

const sessionCookie = "ferry_session"

func (f *ferry) setSession(w http.ResponseWriter, token string, life time.Duration) {
	http.SetCookie(w, &http.Cookie{Name: sessionCookie, Value: token, Path: "/", MaxAge: int(life / time.Second),
		HttpOnly: true, SameSite: http.SameSiteLaxMode}) // not Secure: the demo runs on http at loopback
}

func (f *ferry) session(r *http.Request) (passenger, bool, error) {
	c, err := r.Cookie(sessionCookie)
	if err != nil {
		return passenger{}, false, err
	}
	return sessionOf(r.Context(), f.db, c.Value)
}
