package web

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// kinds are the problems (RFC 9457) that the calls answer with, in alphabetical order. Their types are
// stable: urn:illumicode:problem:KIND.
var kinds = []string{"address", "body", "called-off", "content-type", "different", "event", "expired", "foreign",
	"frozen", "held", "internal", "invalid", "method", "missing", "no-call", "no-key", "no-tries", "not-a-code",
	"not-confirmed", "other-action", "other-browser", "purpose", "too-soon", "undoable", "used", "wrong-code", "zone"}

// fail answers with the problem that an error of the service is. Its own text is shown only
// where it was written for the caller.
func (a *API) fail(w http.ResponseWriter, r *http.Request, err error) {
	if soon, ok := errors.AsType[*illumicode.TooSoonError](err); ok {
		later(w.Header(), soon, a.svc.Now())
		more := map[string]any{"at": soon.At}
		if soon.Rule != "" {
			more["rule"], more["limit"], more["vouch"] = soon.Rule, soon.Limit, soon.Vouch
		}
		problem(w, http.StatusTooManyRequests, "too-soon", "it is too soon; what was sent before is still good", more)
		return
	}
	if wrong, ok := errors.AsType[*illumicode.WrongCodeError](err); ok {
		problem(w, http.StatusUnprocessableEntity, "wrong-code", "the code does not fit",
			map[string]any{"tries_left": wrong.TriesLeft})
		return
	}
	for _, known := range []struct {
		err    error
		status int
		kind   string
		detail string // empty for the error's own text, which is for the caller
	}{
		{message.ErrAddress, http.StatusUnprocessableEntity, "address", ""},
		{illumicode.ErrNotACode, http.StatusUnprocessableEntity, "not-a-code",
			"a code has digits only; no try was spent"},
		{illumicode.ErrNoTries, http.StatusUnprocessableEntity, "no-tries",
			"no tries are left for a code; the link, if the letter has one, still works"},
		{illumicode.ErrNotConfirmed, http.StatusConflict, "not-confirmed",
			"the subject has not confirmed this address"},
		{illumicode.ErrOtherAction, http.StatusConflict, "other-action", "the proof is for another action"},
		{illumicode.ErrOtherBrowser, http.StatusConflict, "other-browser",
			"this link signs in only the browser that asked for it"},
		{illumicode.ErrPurpose, http.StatusConflict, "purpose", "the proof is for another purpose"},
		{illumicode.ErrCalledOff, http.StatusGone, "called-off", "the challenge was ended"},
		{illumicode.ErrExpired, http.StatusGone, "expired", "the proof has expired"},
		{illumicode.ErrUsed, http.StatusConflict, "used", "it has been done already"},
		{illumicode.ErrZone, http.StatusUnprocessableEntity, "zone",
			"the zone is no time zone of the IANA database, such as Europe/Oslo"},
		{illumicode.ErrUndoable, http.StatusConflict, "undoable",
			"a change of the account's address can still be taken back; say that it is closed nevertheless"},
		{illumicode.ErrFrozen, http.StatusConflict, "frozen",
			"the proof is kept, and counts when the change that was taken back is settled"},
		{illumicode.ErrTaken, http.StatusConflict, "held", "another subject holds this address"},
		{illumicode.ErrOccupied, http.StatusConflict, "held", "an account has this address"},
		{illumicode.ErrInvalid, http.StatusNotFound, "invalid", "there is nothing pending for this"},
		{illumicode.ErrNothingPending, http.StatusNotFound, "invalid", "there is nothing pending for this"},
	} {
		if errors.Is(err, known.err) {
			detail := known.detail
			if detail == "" {
				detail = err.Error()
			}
			problem(w, known.status, known.kind, detail, nil)
			return
		}
	}
	a.fault(w, r, err)
}

// fault answers with a fault of ours.
func (a *API) fault(w http.ResponseWriter, r *http.Request, err error) {
	status, more := faultStatus(err), map[string]any{"request": logFault(a.svc, r, err)}
	if status == http.StatusServiceUnavailable { // the log says that once a minute, and not of each request
		more = nil
	}
	problem(w, status, "internal", "the fault is on this side; try again", more)
}

// faultStatus returns the status of a fault of ours: 503 where the database fails, and not for what it was asked.
func faultStatus(err error) int {
	if errors.Is(err, rows.ErrDatabase) && !errors.Is(err, rows.ErrData) {
		return http.StatusServiceUnavailable
	}
	return http.StatusInternalServerError
}

// logFault logs what was answered with 500, and returns what names the request in the log and in the answer.
func logFault(svc *illumicode.Service, r *http.Request, err error) string {
	var b [4]byte
	rand.Read(b[:]) // never fails
	id := hex.EncodeToString(b[:])
	flow.Of(svc).Log.Error("a request failed", "request", id, "method", r.Method, "path", r.URL.Path, "error", err)
	return id
}

// later says when to come back (RFC 9110 §10.2.3) and, where a limit refused, which one
// (draft-ietf-httpapi-ratelimit-headers). The fields go with refusals only: what is left of an
// address's allowance would tell a stranger whether anybody has used it.
func later(h http.Header, soon *illumicode.TooSoonError, now time.Time) {
	wait := secondsUntil(soon.At, now)
	h.Set("Retry-After", strconv.Itoa(wait))
	if soon.Rule == "" {
		return
	}
	policy := strconv.Quote(soon.Rule) // names have neither quotes nor backslashes
	h.Set("RateLimit", fmt.Sprintf("%s;r=0;t=%d", policy, wait))
	if soon.Times > 0 {
		policy += fmt.Sprintf(";q=%d;w=%d", soon.Times, int(soon.Window/time.Second))
	}
	h.Set("RateLimit-Policy", policy)
}

// secondsUntil rounds up, so that nobody comes too soon, and is never 0.
func secondsUntil(at, now time.Time) int {
	return max(1, int((at.Sub(now)+time.Second-1)/time.Second))
}

// problemType is what every type of problem begins with.
const problemType = "urn:illumicode:problem:"

// problem writes problem details (RFC 9457). The type is stable and means the same everywhere.
func problem(w http.ResponseWriter, status int, kind, detail string, more map[string]any) {
	body := map[string]any{"type": problemType + kind, "title": http.StatusText(status), "status": status,
		"detail": detail}
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
