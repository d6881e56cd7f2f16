package web

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/core/event"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/store"
)

// API serves the signup as JSON, for an application that runs elsewhere and begins flows from
// its own server. Calls that name a subject carry the application's key as a bearer token (RFC
// 6750); calls that carry a ticket or a link prove themselves.
//
//	POST /v1/signup            subject, address, name, locale  (key)  -> a ticket
//	POST /v1/signup/resend     ticket, or subject (key)
//	POST /v1/signup/code       ticket, code
//	POST /v1/signup/link       link: the token of the link
//	GET  /v1/subjects/{subject}                                (key)  -> confirmed or not
//	POST /v1/events            CloudEvents 1.0, one or a batch (key)  -> 202: all are taken
//
// Errors are problem details (RFC 9457).
type API struct {
	svc *illumicode.Service
	key [sha256.Size]byte
	mux *http.ServeMux
}

// NewAPI returns the JSON interface of a service. key is the application's, and long and random.
func NewAPI(svc *illumicode.Service, key string) *API {
	a := &API{svc: svc, key: sha256.Sum256([]byte(key)), mux: http.NewServeMux()}
	a.mux.HandleFunc("POST /v1/signup", a.keyed(a.signup))
	a.mux.HandleFunc("POST /v1/signup/resend", a.resend)
	a.mux.HandleFunc("POST /v1/signup/code", a.code)
	a.mux.HandleFunc("POST /v1/signup/link", a.link)
	a.mux.HandleFunc("GET /v1/subjects/{subject}", a.keyed(a.subject))
	a.mux.HandleFunc("POST /v1/events", a.keyed(a.events))
	return a
}

// ServeHTTP implements [http.Handler].
func (a *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	a.mux.ServeHTTP(w, r)
}

// hasKey compares digests, so that the time taken tells nothing, not even a length.
func (a *API) hasKey(r *http.Request) bool {
	given, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	sum := sha256.Sum256([]byte(given))
	return subtle.ConstantTimeCompare(sum[:], a.key[:]) == 1 && ok
}

func (a *API) keyed(h http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !a.hasKey(r) {
			w.Header().Set("WWW-Authenticate", `Bearer realm="illumicode"`)
			problem(w, http.StatusUnauthorized, "no-key", "this call needs the application's key as a bearer token", nil)
			return
		}
		h(w, r)
	}
}

// pendingJSON is a [illumicode.Pending] on the wire.
type pendingJSON struct {
	Ticket      string    `json:"ticket,omitempty"`
	ResendAfter time.Time `json:"resend_after"`
	Ends        time.Time `json:"ends"`
}

func (a *API) signup(w http.ResponseWriter, r *http.Request) {
	var in struct{ Subject, Address, Name, Locale string }
	if !read(w, r, &in) {
		return
	}
	if in.Subject == "" {
		problem(w, http.StatusUnprocessableEntity, "no-subject", `"subject" is empty; it is your own identifier of the account`, nil)
		return
	}
	p, err := a.svc.Signup(r.Context(), illumicode.Request{Address: in.Address, Name: in.Name, Locale: in.Locale},
		illumicode.Subject(in.Subject))
	a.answer(w, http.StatusCreated, p, err)
}

func (a *API) resend(w http.ResponseWriter, r *http.Request) {
	var in struct{ Ticket, Subject string }
	if !read(w, r, &in) {
		return
	}
	if in.Subject == "" {
		p, err := a.svc.Resend(r.Context(), in.Ticket)
		a.answer(w, http.StatusAccepted, p, err)
		return
	}
	a.keyed(func(w http.ResponseWriter, r *http.Request) {
		p, err := a.svc.ResendTo(r.Context(), in.Subject)
		a.answer(w, http.StatusAccepted, p, err)
	})(w, r)
}

func (a *API) answer(w http.ResponseWriter, status int, p illumicode.Pending, err error) {
	if err != nil {
		a.fail(w, err)
		return
	}
	write(w, status, pendingJSON{Ticket: p.Ticket, ResendAfter: p.ResendAfter, Ends: p.Ends})
}

func (a *API) code(w http.ResponseWriter, r *http.Request) {
	var in struct{ Ticket, Code string }
	if read(w, r, &in) {
		a.confirmed(w, a.svc.ConfirmCode(r.Context(), in.Ticket, in.Code, nil))
	}
}

func (a *API) link(w http.ResponseWriter, r *http.Request) {
	var in struct{ Link string }
	if read(w, r, &in) {
		a.confirmed(w, a.svc.Confirm(r.Context(), in.Link, nil))
	}
}

func (a *API) confirmed(w http.ResponseWriter, err error) {
	if err != nil {
		a.fail(w, err)
		return
	}
	write(w, http.StatusOK, map[string]bool{"confirmed": true})
}

func (a *API) subject(w http.ResponseWriter, r *http.Request) {
	yes, err := a.svc.Confirmed(r.Context(), r.PathValue("subject"))
	if err != nil {
		a.fail(w, err)
		return
	}
	write(w, http.StatusOK, map[string]any{"subject": r.PathValue("subject"), "confirmed": yes})
}

// maxEvents bounds a batch of events, in bytes.
const maxEvents = 4 << 20

func (a *API) events(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxEvents))
	if err != nil {
		problem(w, http.StatusRequestEntityTooLarge, "body", "the body cannot be read, or has more than 4 MiB; send smaller batches", nil)
		return
	}
	contentType := r.Header.Get("Content-Type")
	if contentType == "" {
		contentType = "none"
	}
	all, err := event.Parse(contentType, body)
	if err == nil {
		err = a.svc.Receive(r.Context(), all...)
	}
	switch {
	case err == nil:
		write(w, http.StatusAccepted, map[string]int{"taken": len(all)})
	case errors.Is(err, illumicode.ErrDifferent):
		problem(w, http.StatusConflict, "different", err.Error(), nil)
	case errors.Is(err, store.ErrDatabase) && !errors.Is(err, store.ErrData):
		a.fail(w, err)
	default: // the event's own fault, in words for who sent it
		problem(w, http.StatusUnprocessableEntity, "event", err.Error(), nil)
	}
}

// fail answers with the problem that an error of the service is. Its own text is shown only
// where it was written for the caller.
func (a *API) fail(w http.ResponseWriter, err error) {
	soon, isSoon := errors.AsType[*illumicode.TooSoonError](err)
	wrong, isWrong := errors.AsType[*illumicode.WrongCodeError](err)
	switch {
	case errors.Is(err, message.ErrAddress):
		problem(w, http.StatusUnprocessableEntity, "address", err.Error(), nil)
	case isSoon:
		wait := int((soon.At.Sub(a.svc.Now()) + time.Second - 1) / time.Second)
		w.Header().Set("Retry-After", strconv.Itoa(max(1, wait)))
		problem(w, http.StatusTooManyRequests, "too-soon", "the letter is on its way; the code in an earlier one is the same", map[string]any{"at": soon.At})
	case isWrong:
		problem(w, http.StatusUnprocessableEntity, "wrong-code", "the code does not fit", map[string]any{"tries_left": wrong.TriesLeft})
	case errors.Is(err, illumicode.ErrNotACode):
		problem(w, http.StatusUnprocessableEntity, "not-a-code", "a code has digits only; no try was spent", nil)
	case errors.Is(err, illumicode.ErrNoTries):
		problem(w, http.StatusUnprocessableEntity, "no-tries", "no tries are left for a code; the link still works", nil)
	case errors.Is(err, illumicode.ErrExpired):
		problem(w, http.StatusGone, "expired", "the proof has expired", nil)
	case errors.Is(err, illumicode.ErrUsed):
		problem(w, http.StatusConflict, "used", "the address is confirmed already", nil)
	case errors.Is(err, illumicode.ErrHeld):
		problem(w, http.StatusConflict, "held", "another subject holds this address", nil)
	case errors.Is(err, illumicode.ErrInvalid), errors.Is(err, illumicode.ErrNothingPending):
		problem(w, http.StatusNotFound, "nothing-pending", "there is no pending signup for this", nil)
	default:
		problem(w, http.StatusInternalServerError, "internal", "the fault is on this side; try again", nil)
	}
}

// maxBody bounds a request in bytes: the longest, a signup, has a few hundred.
const maxBody = 16 << 10

// read decodes a JSON body into in and reports whether it could; if not, it has answered.
func read(w http.ResponseWriter, r *http.Request, in any) bool {
	dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody))
	dec.DisallowUnknownFields()
	if err := dec.Decode(in); err != nil {
		problem(w, http.StatusBadRequest, "body", "the body is not the JSON object this call takes: "+plain(err), nil)
		return false
	}
	return true
}

// plain says what is wrong with a body without repeating what it holds.
func plain(err error) string {
	if field, ok := strings.CutPrefix(err.Error(), "json: unknown field "); ok && len(field) < 40 {
		return "unknown field " + field
	}
	if wrong, ok := errors.AsType[*json.UnmarshalTypeError](err); ok {
		return "field " + wrong.Field + " has the wrong type"
	}
	return "it cannot be read"
}

// problem writes problem details (RFC 9457). The type is stable and means the same everywhere.
func problem(w http.ResponseWriter, status int, kind, detail string, more map[string]any) {
	body := map[string]any{"type": "urn:illumicode:problem:" + kind, "title": http.StatusText(status), "status": status, "detail": detail}
	for k, v := range more {
		body[k] = v
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(body) // a client that has gone is nobody to tell
}

func write(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(body)
}
