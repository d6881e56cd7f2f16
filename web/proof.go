package web

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/near"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/message"
)

// findProof leads to the page of the challenge that this browser has begun last.
func (p *Pages) findProof(w http.ResponseWriter, r *http.Request) {
	all := p.allKept(r, ticketCookie)
	if len(all) == 0 {
		p.refuseTicket(w, r, illumicode.Pending{}, illumicode.ErrInvalid)
		return
	}
	http.Redirect(w, r, p.base+"/proof/"+all[0].mark, http.StatusSeeOther)
}

// withTicket returns a handler for the ticket that the path names, if this browser has it.
func (p *Pages) withTicket(do func(http.ResponseWriter, *http.Request, illumicode.Ticket)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		ticket := p.keptAs(r, ticketCookie)
		if ticket == "" {
			p.refuseTicket(w, r, illumicode.Pending{}, illumicode.ErrInvalid)
			return
		}
		do(w, r, illumicode.Ticket(ticket))
	}
}

// showProof is where the browser that began waits for the proof.
func (p *Pages) showProof(w http.ResponseWriter, r *http.Request, ticket illumicode.Ticket) {
	pending, err := p.svc.Pending(r.Context(), ticket)
	if err != nil {
		p.refuseTicket(w, r, pending, err)
		return
	}
	if pending.Confirmed {
		p.done(w, r, pending.Purpose, isPhone(pending.Address))
		return
	}
	p.wait(w, r, http.StatusOK, pending, page{})
}

// wait renders the waiting page with a message, which is a key of words or empty.
func (p *Pages) wait(w http.ResponseWriter, r *http.Request, status int, pending illumicode.Pending, v page) {
	v.Address, v.Purpose = pending.Address, pending.Purpose
	v.Here = p.base + "/proof/" + mark(string(pending.Ticket))
	v.Phone = isPhone(pending.Address)
	v.HasCode, v.HasLink = pending.Forms.Has(challenge.Code), pending.Forms.Has(challenge.Link)
	v.Closed = v.HasCode && pending.TriesLeft == 0 || v.Message == "no_tries"
	if v.Closed && (v.Message == "" || v.Message == "no_tries") {
		v.Message = v.closedFor()
	}
	v.Wrong = status == http.StatusUnprocessableEntity
	v.CanCorrect = pending.Purpose == challenge.Signup || pending.Purpose == challenge.Reverify
	if now := p.svc.Now(); v.Seconds == 0 && now.Before(pending.ResendAfter) {
		v.Seconds = secondsUntil(pending.ResendAfter, now)
	}
	p.render(w, r, status, "wait.html", v)
}

// closedFor returns the words for a code whose tries are used up: what is left. The change of an address has one
// challenge.
func (p page) closedFor() string {
	switch {
	case p.Purpose == challenge.Reverify && p.HasLink:
		return "only_link"
	case p.Purpose == challenge.Reverify:
		return "only_code"
	case p.HasLink:
		return "no_tries"
	}
	return "no_tries_code"
}

// isPhone reports whether an address, as it was typed, is a phone number.
func isPhone(typed string) bool {
	a, err := message.ParseRecipient(typed)
	return err == nil && a.IsPhone()
}

func (p *Pages) doCode(w http.ResponseWriter, r *http.Request, ticket illumicode.Ticket) {
	code := r.PostFormValue("code")
	counts := false
	pending, err := p.svc.Pending(r.Context(), ticket)
	switch {
	case err != nil:
	case pending.Purpose == challenge.SignIn:
		var who illumicode.SignedIn
		if who, err = p.svc.SignInCode(r.Context(), ticket, code, p.session(w, r)); err == nil {
			p.signedIn(w, r, ticket, who)
			return
		}
	case pending.Registered:
		counts = true
		err = p.svc.RegisterCode(r.Context(), ticket, code, p.create(w, r))
	default:
		err = p.svc.ConfirmCode(r.Context(), ticket, code, p.apply(&counts))
	}
	wrong, isWrong := errors.AsType[*illumicode.WrongCodeError](err)
	soon, isSoon := errors.AsType[*illumicode.TooSoonError](err)
	switch {
	case err == nil && !counts:
		p.refuse(w, r, illumicode.ErrFrozen)
	case err == nil, errors.Is(err, illumicode.ErrUsed) && pending.Purpose != challenge.SignIn:
		p.done(w, r, pending.Purpose, isPhone(pending.Address))
	case isWrong && wrong.TriesLeft > 0:
		p.wait(w, r, http.StatusUnprocessableEntity, pending, page{Message: "wrong_code", Tries: wrong.TriesLeft})
	case isWrong, errors.Is(err, illumicode.ErrNoTries):
		p.wait(w, r, http.StatusUnprocessableEntity, pending, page{Message: "no_tries"})
	case isSoon:
		p.wait(w, r, http.StatusTooManyRequests, pending, page{Message: "code_too_soon", Count: p.tooSoon(w, soon)})
	case errors.Is(err, illumicode.ErrNotACode):
		p.wait(w, r, http.StatusUnprocessableEntity, pending, page{Message: "not_a_code"})
	case errors.Is(err, illumicode.ErrExpired) && pending.Ends.After(p.svc.Now()):
		p.wait(w, r, http.StatusGone, pending, page{Message: "code_expired"})
	default:
		p.refuseTicket(w, r, pending, err)
	}
}

func (p *Pages) doResend(w http.ResponseWriter, r *http.Request, ticket illumicode.Ticket) {
	pending, err := p.svc.ResendForBrowser(r.Context(), ticket)
	soon, isSoon := errors.AsType[*illumicode.TooSoonError](err)
	switch {
	case err == nil && pending.Ticket != ticket: // a new challenge: no try was left
		p.Await(w, r, pending)
	case err == nil:
		p.wait(w, r, http.StatusOK, pending, page{Message: "sent_again"})
	case errors.Is(err, illumicode.ErrNoTries):
		p.wait(w, r, http.StatusUnprocessableEntity, pending, page{Message: "no_tries"})
	case isSoon:
		p.wait(w, r, http.StatusTooManyRequests, pending, page{Message: "too_soon", Seconds: p.tooSoon(w, soon)})
	case errors.Is(err, illumicode.ErrUsed):
		p.done(w, r, pending.Purpose, isPhone(pending.Address))
	default:
		p.refuseTicket(w, r, pending, err)
	}
}

// doCorrect puts another address in the place of a mistyped one.
func (p *Pages) doCorrect(w http.ResponseWriter, r *http.Request, ticket illumicode.Ticket) {
	address := r.PostFormValue("address")
	pending, err := p.svc.Pending(r.Context(), ticket)
	if err != nil {
		p.refuseTicket(w, r, pending, err)
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
		p.drop(w, ticketCookie, mark(string(ticket)))
		p.Await(w, r, corrected)
	case errors.Is(err, message.ErrAddress):
		p.wait(w, r, http.StatusUnprocessableEntity, pending, page{Message: "bad_address", Typed: address})
	case isSoon:
		p.wait(w, r, http.StatusTooManyRequests, pending, page{Message: "too_soon", Seconds: p.tooSoon(w, soon),
			Typed: address})
	case errors.Is(err, illumicode.ErrUsed):
		p.done(w, r, pending.Purpose, isPhone(pending.Address))
	default:
		p.refuseTicket(w, r, pending, err)
	}
}

// refuseTicket is refuse for what only the browser can do that began. pending is what is known.
func (p *Pages) refuseTicket(w http.ResponseWriter, r *http.Request, pending illumicode.Pending, err error) {
	if errors.Is(err, illumicode.ErrInvalid) {
		p.render(w, r, http.StatusNotFound, "sorry.html", page{Title: "no_ticket_title", Message: "no_ticket"})
		return
	}
	p.refuseAs(w, r, err, page{Purpose: pending.Purpose, Phone: isPhone(pending.Address)})
}

// done sends the browser to the page that says so; one that has signed in goes on.
func (p *Pages) done(w http.ResponseWriter, r *http.Request, purpose string, phone bool) {
	to := p.base + p.confirm + "/done?of=" + url.QueryEscape(purpose)
	if phone {
		to += "&to=phone"
	}
	if purpose == challenge.SignIn {
		to = cmp.Or(p.opts.After[purpose], p.base+"/")
	}
	p.setCookie(w, doneCookie, "1", linkCookieLife)
	http.Redirect(w, r, to, http.StatusSeeOther)
}

// showDone says that it worked, to a browser for which it has, and leads on to where the application wants: what the
// query says is only looked up.
func (p *Pages) showDone(w http.ResponseWriter, r *http.Request) {
	if p.cookie(r, doneCookie) == "" {
		p.noLink(w, r)
		return
	}
	p.render(w, r, http.StatusOK, "done.html", page{Phone: r.URL.Query().Get("to") == "phone",
		Next: p.opts.After[r.URL.Query().Get("of")]})
}

// checkAfter returns what is wrong with Options.After; nil if nothing is.
func (p *Pages) checkAfter() error {
	purposes := flow.Of(p.svc).Purposes
	for purpose, to := range p.opts.After {
		if _, known := purposes[purpose]; !known {
			return fmt.Errorf("web: Options.After names %q, which is no purpose; %s", purpose,
				near.List(purpose, slices.Collect(maps.Keys(purposes))))
		}
		u, err := url.Parse(to)
		here := err == nil && u.Scheme == "" && u.Host == "" && strings.HasPrefix(to, "/")
		if !here && (err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "") {
			return fmt.Errorf("web: Options.After[%q] is %q; say a path such as /account, or a whole http(s) URL",
				purpose, to)
		}
	}
	return nil
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
func (p *Pages) signedIn(w http.ResponseWriter, r *http.Request, ticket illumicode.Ticket, who illumicode.SignedIn) {
	p.setCookie(w, browserCookie, who.Browser, flow.KnownFor)
	p.drop(w, ticketCookie, mark(string(ticket)))
	p.done(w, r, challenge.SignIn, false)
}
