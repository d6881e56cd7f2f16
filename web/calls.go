package web

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/desk"
)

// A call is one operation of the [API]: what serves it, and what describes it.
type call struct {
	method, path string
	summary      string
	keyed        bool
	in, out      any // zero values; in is nil where there is no body
	status       int
	do           http.HandlerFunc
}

// What calls take. Every field is described by its tag.
type (
	person struct {
		Address string `json:"address" is:"required" about:"as typed: an address, or a phone number with country code"`
		Name    string `json:"name" about:"display name for the letter"`
		Locale  string `json:"locale" about:"BCP 47 tags or an Accept-Language value"`
		Zone    string `json:"zone" about:"the reader's time zone, such as Europe/Oslo"`
	}
	vouched struct {
		Vouched bool `json:"vouched" about:"you vouch for who asks, by a password or a puzzle; with your key alone"`
	}
	signupIn struct {
		Subject string `json:"subject" is:"required" about:"of whichever account has the address, new or not"`
		person
		Ticket illumicode.Ticket `json:"ticket" about:"of an earlier signup in this browser, which goes on"`
		vouched
	}
	signInIn struct {
		person
		Ticket  illumicode.Ticket `json:"ticket" about:"of an earlier sign-in in this browser, which ends"`
		Browser string            `json:"browser" about:"what an earlier sign-in gave this browser"`
		Device  string            `json:"device" about:"what the browser calls itself, for the list of known ones"`
		vouched
	}
	reverifyIn struct {
		Subject string `json:"subject" is:"required" about:"your own identifier of the account"`
		Old     string `json:"old" is:"required" about:"to be replaced; it is told, and can take the change back"`
		person
	}
	stepUpIn struct {
		Subject string `json:"subject" is:"required" about:"your own identifier of the account"`
		person
		Action string `json:"action" is:"required" about:"what is to happen; the proof is good for nothing else"`
		Words  string `json:"words" is:"required" about:"the same for the person, in the letter"`
	}
	ticketIn struct {
		Ticket illumicode.Ticket `json:"ticket" is:"required" about:"what the challenge gave the browser that began"`
	}
	correctIn struct {
		Ticket illumicode.Ticket `json:"ticket" is:"required" about:"what the challenge gave the browser that began"`
		person
	}
	codeIn struct {
		Ticket illumicode.Ticket `json:"ticket" is:"required" about:"what the challenge gave the browser that began"`
		Code   string            `json:"code" is:"required" about:"as the person typed it"`
	}
	actionIn struct {
		codeIn
		Action string `json:"action" is:"required" about:"exactly what is about to happen"`
	}
	linkIn struct {
		Link   illumicode.Link   `json:"link" is:"required" about:"the token of the link"`
		Ticket illumicode.Ticket `json:"ticket" about:"if this browser has one"`
	}
	elsewhereIn struct {
		linkIn
		Device string `json:"device" about:"what the browser calls itself, for the list of known ones"`
		Locale string `json:"locale" about:"BCP 47 tags or an Accept-Language value"`
	}
	takeBackIn struct {
		Link illumicode.Link `json:"link" is:"required" about:"the token of the link"`
	}
)

// counts is called with a proof that counts: a frozen account's does not yet.
func (o *confirmedOut) counts(_ context.Context, _ illumicode.Tx, p illumicode.Proof) error {
	o.Confirmed, o.Contested = true, p.Contested()
	return nil
}

// What calls answer.
type (
	pendingOut struct {
		Ticket      illumicode.Ticket `json:"ticket,omitempty" about:"for the browser that began, and nobody else"`
		Purpose     string            `json:"purpose" about:"signup, reverify, signin, stepup, or one of your own"`
		Forms       challenge.Forms   `json:"forms" about:"what the letter carries: both, code or link"`
		ResendAfter time.Time         `json:"resend_after"`
		Ends        time.Time         `json:"ends"`
		TriesLeft   int               `json:"tries_left" about:"of a code"`
		Confirmed   bool              `json:"confirmed" about:"it has been accepted"`
	}
	confirmedOut struct {
		Confirmed bool `json:"confirmed" about:"false while the account is frozen: it counts when that ends"`
		Contested bool `json:"contested" about:"others may have registered it: void password and sessions"`
	}
	subjectOut struct {
		Subject   string `json:"subject"`
		Confirmed bool   `json:"confirmed"`
		Address   string `json:"address" about:"the confirmed one; empty if there is none"`
	}
	signedInOut struct {
		Subject string `json:"subject"`
		Browser string `json:"browser" about:"of a known browser; keep it in a cookie and give it to later sign-ins"`
	}
	doneOut struct {
		Done bool `json:"done"`
	}
	undoneOut struct {
		Change  string   `json:"change" about:"its id, for settling it"`
		Subject string   `json:"subject"`
		Frozen  bool     `json:"frozen" about:"one was in effect: nobody signs in until you settle it"`
		Stopped []string `json:"stopped" about:"new addresses of the changes taken back, later ones too"`
	}
	settleIn struct {
		Change string      `json:"change" is:"required" about:"its id, as taking it back has told it"`
		Keep   string      `json:"keep" is:"required" about:"stays with the subject; the others in doubt are taken"`
		Reason desk.Reason `json:"reason" about:"on whose word, and why: for the trail"`
	}
	browsersOut struct {
		Browsers []browserOut `json:"browsers" about:"the one that has signed in last first"`
	}
	browserOut struct {
		ID    string    `json:"id"`
		Name  string    `json:"name" about:"what it called itself"`
		Since time.Time `json:"since"`
		Used  time.Time `json:"used" about:"when it has last signed in"`
	}
	revokedOut struct {
		Revoked int `json:"revoked" about:"how many browsers are not known any more"`
	}
	closeIn struct {
		Undoable bool `json:"undoable" about:"even while a change of its address can be taken back"`
	}
	takenOut struct {
		Taken      int `json:"taken" about:"events"`
		Recipients int `json:"recipients,omitempty" about:"of a list that followed its event in lines"`
	}
)

// calls returns all operations.
func (a *API) calls() []call {
	return slices.Concat(a.beginnings(), a.proofs(), a.decisions(), a.browsers())
}

// beginnings are the calls that begin something, and those that take codes for what only the application may do.
func (a *API) beginnings() []call {
	svc := a.svc
	const created, ok = http.StatusCreated, http.StatusOK
	return []call{
		serve(a, call{method: "POST", path: "/v1/signup", status: created, keyed: true,
			summary: "Begin a signup: add a challenge for an account of yours, and send its letter"},
			func(r *http.Request, in signupIn) (pendingOut, error) {
				q := in.request()
				q.Ticket, q.Vouched = in.Ticket, in.Vouched
				return pending(svc.Signup(r.Context(), q, illumicode.Subject(in.Subject)))
			}),
		serve(a, call{method: "POST", path: "/v1/signin", status: created,
			summary: "Send a code to who holds an address; the answer is the same if nobody does"},
			func(r *http.Request, in signInIn) (pendingOut, error) {
				q := in.request()
				q.Ticket, q.Browser, q.Device = in.Ticket, in.Browser, in.Device
				q.Vouched = in.Vouched && a.hasKey(r)
				return pending(svc.SignIn(r.Context(), q))
			}),
		serve(a, call{method: "POST", path: "/v1/signin/code", status: ok, keyed: true,
			summary: "Sign in with a code: you make the session"},
			func(r *http.Request, in codeIn) (signedInOut, error) {
				return signedIn(svc.SignInCode(r.Context(), in.Ticket, in.Code, nil))
			}),
		serve(a, call{method: "POST", path: "/v1/signin/link", status: ok, keyed: true,
			summary: "Sign in with a link, in the browser that began"},
			func(r *http.Request, in linkIn) (signedInOut, error) {
				return signedIn(svc.SignInLink(r.Context(), in.Ticket, in.Link, nil))
			}),
		serve(a, call{method: "POST", path: "/v1/signin/elsewhere", status: created,
			summary: "Begin a sign-in in another browser, by the link of its letter: a new code goes to the same " +
				"address"},
			func(r *http.Request, in elsewhereIn) (pendingOut, error) {
				return pending(svc.SignInElsewhere(r.Context(), in.Link, illumicode.Request{Ticket: in.Ticket,
					Device: in.Device, Locale: in.Locale}))
			}),
		serve(a, call{method: "POST", path: "/v1/reverify", status: created, keyed: true,
			summary: "Begin the change of an address: the old one works until the new one is proven, and can take " +
				"the change back"},
			func(r *http.Request, in reverifyIn) (pendingOut, error) {
				return pending(svc.ChangeAddress(r.Context(), illumicode.Holding{Subject: in.Subject, Address: in.Old},
					in.request()))
			}),
		serve(a, call{method: "POST", path: "/v1/stepup", status: created, keyed: true,
			summary: "Ask a subject to prove an address once more, for one action"},
			func(r *http.Request, in stepUpIn) (pendingOut, error) {
				return pending(svc.StepUp(r.Context(), in.Subject, in.request(),
					illumicode.Action{Exact: []byte(in.Action), Words: in.Words}))
			}),
		serve(a, call{method: "POST", path: "/v1/stepup/code", status: ok, keyed: true,
			summary: "Accept the code of a step-up for the action that you are about to do"},
			func(r *http.Request, in actionIn) (confirmedOut, error) {
				err := svc.ActionCode(r.Context(), in.Ticket, in.Code, illumicode.Action{Exact: []byte(in.Action)}, nil)
				return confirmedOut{Confirmed: err == nil}, err
			}),
	}
}

// proofs are the calls about the challenge of a ticket, which a browser may make.
func (a *API) proofs() []call {
	svc := a.svc
	const accepted, ok = http.StatusAccepted, http.StatusOK
	return []call{
		serve(a, call{method: "POST", path: "/v1/proof", status: ok,
			summary: "Tell where the challenge of a ticket stands"},
			func(r *http.Request, in ticketIn) (pendingOut, error) {
				return pending(svc.Pending(r.Context(), in.Ticket))
			}),
		serve(a, call{method: "POST", path: "/v1/proof/resend", status: accepted,
			summary: "Send the letter of a ticket's challenge again"},
			func(r *http.Request, in ticketIn) (pendingOut, error) {
				return pending(svc.ResendForBrowser(r.Context(), in.Ticket))
			}),
		serve(a, call{method: "POST", path: "/v1/proof/correct", status: accepted,
			summary: "Put another address in the place of one that was mistyped, before it is proven"},
			func(r *http.Request, in correctIn) (pendingOut, error) {
				return pending(svc.Correct(r.Context(), in.Ticket, in.request(), nil))
			}),
		serve(a, call{method: "POST", path: "/v1/proof/code", status: ok,
			summary: "Confirm with a code: a signup, a change of address, or a purpose of your own"},
			func(r *http.Request, in codeIn) (confirmedOut, error) {
				var out confirmedOut
				err := svc.ConfirmCode(r.Context(), in.Ticket, in.Code, out.counts)
				return out, err
			}),
		serve(a, call{method: "POST", path: "/v1/proof/link", status: ok,
			summary: "Confirm with a link"},
			func(r *http.Request, in linkIn) (confirmedOut, error) {
				var out confirmedOut
				err := svc.ConfirmFrom(r.Context(), in.Ticket, in.Link, out.counts)
				return out, err
			}),
	}
}

// decisions are the calls by which something ends or is settled, and those about subjects and events.
func (a *API) decisions() []call {
	svc := a.svc
	const accepted, ok = http.StatusAccepted, http.StatusOK
	return []call{
		serve(a, call{method: "POST", path: "/v1/not-me", status: ok,
			summary: "End a challenge for the reader of its letter, who did not begin it"},
			func(r *http.Request, in takeBackIn) (doneOut, error) {
				err := svc.NotMe(r.Context(), in.Link, nil)
				return doneOut{err == nil}, err
			}),
		serve(a, call{method: "POST", path: "/v1/undo", status: ok, keyed: true,
			summary: "Take a change of address back for the holder of the old one"},
			func(r *http.Request, in takeBackIn) (undoneOut, error) {
				c, err := svc.Undo(r.Context(), in.Link, nil)
				return undoneOut{c.ID, c.Subject, c.Made, c.Stopped}, err
			}),
		serve(a, call{method: "POST", path: "/v1/settle", status: ok, keyed: true,
			summary: "Decide a change of address that was taken back after it was made: you know which side is the " +
				"owner"},
			func(r *http.Request, in settleIn) (doneOut, error) {
				err := desk.New(svc).Decide(r.Context(),
					desk.Decision{Change: in.Change, Keep: in.Keep, Reason: in.Reason}, nil)
				return doneOut{err == nil}, err
			}),
		serve(a, call{method: "GET", path: "/v1/subjects/{subject}", status: ok, keyed: true,
			summary: "Tell whether a subject has a confirmed address"},
			func(r *http.Request, _ nothing) (subjectOut, error) {
				subject := r.PathValue("subject")
				address, err := svc.Address(r.Context(), subject)
				return subjectOut{subject, address != "", address}, err
			}),
		serve(a, call{method: "POST", path: "/v1/subjects/{subject}/resend", status: accepted, keyed: true,
			summary: "Send the letter of a subject's pending signup again, whatever browser asks"},
			func(r *http.Request, _ nothing) (pendingOut, error) {
				return pending(svc.ResendForSubject(r.Context(), r.PathValue("subject")))
			}),
		serve(a, call{method: "POST", path: "/v1/subjects/{subject}/close", status: ok, keyed: true,
			summary: "Take everything from the subject of an account that you close: addresses, challenges, browsers"},
			func(r *http.Request, in closeIn) (doneOut, error) {
				what := illumicode.Closing{Subject: r.PathValue("subject"), Undoable: in.Undoable}
				err := svc.Transact(r.Context(), func(ctx context.Context, tx illumicode.Tx) error {
					return tx.Release(ctx, what)
				})
				return doneOut{err == nil}, err
			}),
		{method: "POST", path: "/v1/events", keyed: true,
			summary: "Take CloudEvents 1.0: one, a batch, or one with its recipients in lines; all or none",
			in:      cloudEvent{}, out: takenOut{}, status: accepted, do: a.events},
	}
}

// browsers are the calls about the known browsers of a subject.
func (a *API) browsers() []call {
	svc := a.svc
	return []call{
		serve(a, call{method: "GET", path: "/v1/subjects/{subject}/browsers", status: http.StatusOK, keyed: true,
			summary: "List the browsers that have signed in to an account"},
			func(r *http.Request, _ nothing) (browsersOut, error) {
				all, err := svc.Browsers(r.Context(), r.PathValue("subject"))
				out := browsersOut{Browsers: []browserOut{}}
				for _, b := range all {
					out.Browsers = append(out.Browsers, browserOut(b))
				}
				return out, err
			}),
		serve(a, call{method: "DELETE", path: "/v1/subjects/{subject}/browsers", status: http.StatusOK, keyed: true,
			summary: "Make all browsers of an account unknown"},
			func(r *http.Request, _ nothing) (out revokedOut, err error) {
				err = svc.Transact(r.Context(), func(ctx context.Context, tx illumicode.Tx) (err error) {
					out.Revoked, err = tx.RevokeBrowsers(ctx, r.PathValue("subject"))
					return err
				})
				return out, err
			}),
		serve(a, call{method: "DELETE", path: "/v1/subjects/{subject}/browsers/{id}", status: http.StatusOK,
			keyed: true, summary: "Make a browser of an account unknown"},
			func(r *http.Request, _ nothing) (out revokedOut, err error) {
				b := illumicode.Browser{ID: r.PathValue("id")}
				err = svc.Transact(r.Context(), func(ctx context.Context, tx illumicode.Tx) error {
					was, err := tx.RevokeBrowser(ctx, r.PathValue("subject"), b)
					if was {
						out.Revoked = 1
					}
					return err
				})
				return out, err
			}),
	}
}

// nothing is the body of a call that has none.
type nothing struct{}

// cloudEvent describes what the call for events takes, which it reads itself.
type cloudEvent struct {
	SpecVersion string `json:"specversion" is:"required" about:"1.0"`
	ID          string `json:"id" is:"required"`
	Source      string `json:"source" is:"required"`
	Type        string `json:"type" is:"required"`
	Data        any    `json:"data"`
}

// serve completes a call with a function from what it takes to what it answers.
func serve[In, Out any](a *API, c call, do func(r *http.Request, in In) (Out, error)) call {
	var in In
	c.in, c.out = in, *new(Out)
	if _, none := any(in).(nothing); none {
		c.in = nil
	}
	c.do = func(w http.ResponseWriter, r *http.Request) {
		var in In
		if c.in != nil && (!isJSON(w, r) || !read(w, r, &in) || !whole(w, in)) {
			return
		}
		out, err := do(r, in)
		if err != nil {
			a.fail(w, r, err)
			return
		}
		write(w, c.status, out)
	}
	return c
}

func (p person) request() illumicode.Request {
	return illumicode.Request{Address: p.Address, Name: p.Name, Locale: p.Locale, Zone: p.Zone}
}

func pending(p illumicode.Pending, err error) (pendingOut, error) {
	return pendingOut{p.Ticket, p.Purpose, p.Forms, p.ResendAfter, p.Ends, p.TriesLeft, p.Confirmed}, err
}

func signedIn(who illumicode.SignedIn, err error) (signedInOut, error) {
	return signedInOut{who.Subject, who.Browser}, err
}
