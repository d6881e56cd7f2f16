package web

import (
	"context"
	"errors"
	"net/http"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/message"
)

// showProof is where the browser that began waits for the proof.
func (p *Pages) showProof(w http.ResponseWriter, r *http.Request) {
	pending, err := p.svc.Pending(r.Context(), p.ticket(r))
	if err != nil {
		p.refuseTicket(w, r, err)
		return
	}
	if pending.Confirmed {
		p.done(w, r, pending.Purpose)
		return
	}
	p.wait(w, r, http.StatusOK, pending, page{})
}

// wait renders the waiting page with a message, which is a key of words or empty.
func (p *Pages) wait(w http.ResponseWriter, r *http.Request, status int, pending illumicode.Pending, v page) {
	v.Address, v.Purpose = pending.Address, pending.Purpose
	v.Closed = pending.TriesLeft == 0 || v.Message == "no_tries"
	if v.Closed && v.Message == "" {
		v.Message = "no_tries"
	}
	v.HasCode, v.HasLink = pending.Forms.Has(challenge.Code), pending.Forms.Has(challenge.Link)
	v.CanCorrect = pending.Purpose == challenge.Signup || pending.Purpose == challenge.Reverify
	if now := p.svc.Now(); v.Seconds == 0 && now.Before(pending.ResendAfter) {
		v.Seconds = secondsUntil(pending.ResendAfter, now)
	}
	p.render(w, r, status, "wait.html", v)
}

func (p *Pages) doCode(w http.ResponseWriter, r *http.Request) {
	ticket := p.ticket(r)
	r.Body = http.MaxBytesReader(w, r.Body, maxForm)
	code := r.PostFormValue("code")
	counts := false
	pending, err := p.svc.Pending(r.Context(), ticket)
	switch {
	case err != nil:
	case pending.Purpose == challenge.SignIn:
		var who illumicode.SignedIn
		if who, err = p.svc.SignInCode(r.Context(), ticket, code, p.session(w, r)); err == nil {
			p.signedIn(w, r, who)
			return
		}
	default:
		err = p.svc.ConfirmCode(r.Context(), ticket, code, p.apply(&counts))
	}
	wrong, isWrong := errors.AsType[*illumicode.WrongCodeError](err)
	soon, isSoon := errors.AsType[*illumicode.TooSoonError](err)
	switch {
	case err == nil && !counts:
		p.refuse(w, r, illumicode.ErrFrozen)
	case err == nil, errors.Is(err, illumicode.ErrUsed) && pending.Purpose != challenge.SignIn:
		p.done(w, r, pending.Purpose)
	case isWrong && wrong.TriesLeft > 0:
		p.wait(w, r, http.StatusUnprocessableEntity, pending, page{Message: "wrong_code", Tries: wrong.TriesLeft})
	case isWrong, errors.Is(err, illumicode.ErrNoTries):
		p.wait(w, r, http.StatusUnprocessableEntity, pending, page{Message: "no_tries"})
	case isSoon:
		p.wait(w, r, http.StatusTooManyRequests, pending, page{Message: "code_too_soon", Count: p.tooSoon(w, soon)})
	case errors.Is(err, illumicode.ErrNotACode):
		p.wait(w, r, http.StatusUnprocessableEntity, pending, page{Message: "not_a_code"})
	case errors.Is(err, illumicode.ErrExpired):
		p.wait(w, r, http.StatusGone, pending, page{Message: "code_expired"})
	default:
		p.refuseTicket(w, r, err)
	}
}

func (p *Pages) doResend(w http.ResponseWriter, r *http.Request) {
	pending, err := p.svc.ResendForBrowser(r.Context(), p.ticket(r))
	soon, isSoon := errors.AsType[*illumicode.TooSoonError](err)
	switch {
	case err == nil:
		p.wait(w, r, http.StatusOK, pending, page{Message: "sent_again"})
	case isSoon:
		p.wait(w, r, http.StatusTooManyRequests, pending, page{Message: "too_soon", Seconds: p.tooSoon(w, soon)})
	case errors.Is(err, illumicode.ErrUsed):
		p.done(w, r, pending.Purpose)
	default:
		p.refuseTicket(w, r, err)
	}
}

// doCorrect puts another address in the place of a mistyped one.
func (p *Pages) doCorrect(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, maxForm)
	ticket, address := p.ticket(r), r.PostFormValue("address")
	pending, err := p.svc.Pending(r.Context(), ticket)
	if err != nil {
		p.refuseTicket(w, r, err)
		return
	}
	var apply func(ctx context.Context, tx illumicode.Tx, subject string) error
	if p.opts.Correct != nil {
		apply = func(ctx context.Context, tx illumicode.Tx, subject string) error {
			return p.opts.Correct(ctx, tx, illumicode.Holding{Subject: subject, Address: address})
		}
	}
	corrected, err := p.svc.Correct(r.Context(), ticket,
		illumicode.Request{Address: address, Locale: r.Header.Get("Accept-Language")}, apply)
	soon, isSoon := errors.AsType[*illumicode.TooSoonError](err)
	switch {
	case err == nil:
		p.Await(w, r, corrected)
	case errors.Is(err, message.ErrAddress):
		p.wait(w, r, http.StatusUnprocessableEntity, pending, page{Message: "bad_address", Typed: address})
	case isSoon:
		p.wait(w, r, http.StatusTooManyRequests, pending, page{Message: "too_soon", Seconds: p.tooSoon(w, soon),
			Typed: address})
	case errors.Is(err, illumicode.ErrUsed):
		p.done(w, r, pending.Purpose)
	default:
		p.refuseTicket(w, r, err)
	}
}

// refuseTicket is refuse for what only the browser can do that began.
func (p *Pages) refuseTicket(w http.ResponseWriter, r *http.Request, err error) {
	if errors.Is(err, illumicode.ErrInvalid) {
		p.render(w, r, http.StatusNotFound, "sorry.html", page{Title: "no_ticket_title", Message: "no_ticket"})
		return
	}
	p.refuse(w, r, err)
}

// done sends the browser to the page that says so; one that has signed in goes on.
func (p *Pages) done(w http.ResponseWriter, r *http.Request, purpose string) {
	to := p.base + p.confirm + "/done"
	if purpose == challenge.SignIn {
		to = p.opts.After
	}
	http.Redirect(w, r, to, http.StatusSeeOther)
}

// session returns what makes the application's session, in the commit that accepts a sign-in.
func (p *Pages) session(w http.ResponseWriter, r *http.Request) func(context.Context, illumicode.Tx,
	illumicode.SignedIn) error {
	if p.opts.SignedIn == nil {
		return nil
	}
	return func(ctx context.Context, tx illumicode.Tx, who illumicode.SignedIn) error {
		return p.opts.SignedIn(w, r, tx, who)
	}
}

// signedIn makes the browser known and lets it go on.
func (p *Pages) signedIn(w http.ResponseWriter, r *http.Request, who illumicode.SignedIn) {
	p.setCookie(w, browserCookie, who.Browser, flow.KnownFor)
	p.setCookie(w, ticketCookie, "", 0)
	p.setCookie(w, linkCookie, "", 0)
	p.done(w, r, challenge.SignIn)
}
