package web

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"unicode/utf8"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/flow"
)

// takeToken returns what moves a link's token from the address bar into a cookie: no referrer and no history shows it
// afterwards. The page that follows is the link's own.
func (p *Pages) takeToken(path string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		tok := r.URL.Query().Get("t")
		if tok == "" || len(tok) > maxToken {
			p.refuse(w, r, illumicode.ErrInvalid)
			return
		}
		p.keep(w, r, linkCookie, kept{token: tok}, linkCookieLife)
		p.harden(w)
		http.Redirect(w, r, p.base+path+"/"+mark(tok), http.StatusSeeOther)
	}
}

// A linked is what handlers of links are given beside a request.
type linked struct {
	link    illumicode.Link
	purpose string // "" for no link of this service
	here    string // the path of its page
}

// proves reports whether a link proves an address, and takes nothing back.
func (l linked) proves() bool {
	return l.purpose != "" && l.purpose != challenge.NotMe && l.purpose != challenge.Undo
}

// withLink returns a handler for the link that the path names. Where this browser does not keep it, it says so, and how
// to go on: the cookie is short-lived, and some browsers keep none.
func (p *Pages) withLink(do func(http.ResponseWriter, *http.Request, linked)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		l := linked{link: illumicode.Link(p.keptAs(r, linkCookie))}
		if l.link == "" {
			p.noLink(w, r)
			return
		}
		path := p.confirm
		if l.purpose = flow.Of(p.svc).LinkPurpose(string(l.link)); l.purpose != "" && !l.proves() {
			path = p.takeBack
		}
		l.here = p.base + path + "/" + mark(string(l.link))
		do(w, r, l)
	}
}

// noLink says that this browser keeps no such link, and how to go on.
func (p *Pages) noLink(w http.ResponseWriter, r *http.Request) {
	p.render(w, r, http.StatusNotFound, "sorry.html", page{Title: "no_link_title", Message: "no_link"})
}

// refuseLink is refuse for a link.
func (p *Pages) refuseLink(w http.ResponseWriter, r *http.Request, l linked, err error) {
	p.refuseAs(w, r, err, page{Here: l.here, Purpose: l.purpose, CanResend: errors.Is(err, illumicode.ErrExpired) &&
		l.proves()})
}

// inspect returns what a link would do in this browser, with the ticket if the browser has begun the challenge.
func (p *Pages) inspect(r *http.Request, l linked) (in illumicode.Inspection, err error) {
	for _, k := range append(p.allKept(r, ticketCookie), kept{}) {
		if in, err = p.svc.Inspect(r.Context(), illumicode.Ticket(k.token), l.link); in.Pending.Ticket != "" {
			break
		}
	}
	return in, err
}

// showConfirm asks whether to confirm, or to sign in. It changes nothing. A HEAD is answered like a
// GET.
func (p *Pages) showConfirm(w http.ResponseWriter, r *http.Request, l linked) {
	in, err := p.inspect(r, l)
	if in.Elsewhere {
		p.render(w, r, http.StatusOK, "elsewhere.html", page{Address: masked(in.Pending.Address), Here: l.here})
		return
	}
	if err == nil && !l.proves() {
		err = illumicode.ErrInvalid
	}
	if err != nil {
		p.refuseLink(w, r, l, err)
		return
	}
	p.render(w, r, http.StatusOK, "confirm.html", page{Address: in.Pending.Address, Purpose: in.Purpose, Here: l.here})
}

func (p *Pages) doConfirm(w http.ResponseWriter, r *http.Request, l linked) {
	in, err := p.inspect(r, l)
	ticket := in.Pending.Ticket
	if err != nil {
		p.refuseLink(w, r, l, err)
		return
	}
	if l.purpose == challenge.SignIn {
		who, err := p.svc.SignInLink(r.Context(), ticket, l.link, p.session(w, r))
		if err != nil {
			p.refuseLink(w, r, l, err)
			return
		}
		p.drop(w, linkCookie, mark(string(l.link)))
		p.signedIn(w, r, ticket, who)
		return
	}
	counts := in.Pending.Registered
	if counts {
		err = p.svc.RegisterLink(r.Context(), ticket, l.link, p.create(w, r))
	} else {
		err = p.svc.ConfirmFrom(r.Context(), ticket, l.link, p.apply(&counts))
	}
	if err != nil {
		p.refuseLink(w, r, l, err)
		return
	}
	p.drop(w, linkCookie, mark(string(l.link)))
	if !counts {
		p.refuse(w, r, illumicode.ErrFrozen)
		return
	}
	p.done(w, r, l.purpose, false)
}

// masked returns an address of which only the beginning and the domain are shown.
func masked(address string) string {
	local, domain, mail := strings.Cut(address, "@")
	if !mail { // a phone number
		return "…" + local[max(0, len(local)-2):]
	}
	_, first := utf8.DecodeRuneInString(local)
	return local[:first] + "…@" + domain
}

// doElsewhere begins a sign-in in this browser, which has the link of another one's letter.
func (p *Pages) doElsewhere(w http.ResponseWriter, r *http.Request, l linked) {
	q := p.Request(r, "")
	for _, k := range p.allKept(r, ticketCookie) { // pressed twice
		if k.link == mark(string(l.link)) {
			q.Ticket = illumicode.Ticket(k.token)
		}
	}
	pending, err := p.svc.SignInElsewhere(r.Context(), l.link, q)
	if err != nil {
		p.refuseLink(w, r, l, err)
		return
	}
	p.await(w, r, pending, mark(string(l.link)))
}

// create returns what makes an account.
func (p *Pages) create(w http.ResponseWriter, r *http.Request) func(context.Context, illumicode.Tx, illumicode.Proof,
	illumicode.Registration) (string, error) {
	return func(ctx context.Context, tx illumicode.Tx, proof illumicode.Proof, made illumicode.Registration) (string,
		error) {
		if p.opts.Create == nil {
			return "", errors.New("web: Options.Create is nil, and makes the accounts of Service.Register")
		}
		return p.opts.Create(w, r.WithContext(ctx), tx, proof, made)
	}
}

// apply returns what makes the application's writes for a proof, and says that it counts: a frozen account's
// does not yet.
func (p *Pages) apply(counts *bool) func(context.Context, illumicode.Tx, illumicode.Proof) error {
	return func(ctx context.Context, tx illumicode.Tx, proof illumicode.Proof) error {
		*counts = true
		if p.opts.Apply == nil {
			return nil
		}
		return p.opts.Apply(ctx, tx, proof)
	}
}

// doResendLink sends the letter of a link whose life is over again, to the same address.
func (p *Pages) doResendLink(w http.ResponseWriter, r *http.Request, l linked) {
	_, err := p.svc.ResendForReader(r.Context(), l.link)
	soon, isSoon := errors.AsType[*illumicode.TooSoonError](err)
	switch {
	case err == nil:
		p.render(w, r, http.StatusOK, "sorry.html", page{Title: "wait_title", Message: "sent_again"})
	case isSoon:
		p.render(w, r, http.StatusTooManyRequests, "sorry.html",
			page{Title: "wait_title", Message: "too_soon", Count: p.tooSoon(w, soon)})
	case errors.Is(err, illumicode.ErrExpired): // past the hard cap
		p.render(w, r, http.StatusGone, "sorry.html", page{Title: "expired_title", Message: "called_off"})
	default:
		p.refuseLink(w, r, l, err)
	}
}

// showTakeBack asks whether to end a challenge that somebody else began, or to take a change of
// address back, as the link says. It changes nothing.
func (p *Pages) showTakeBack(w http.ResponseWriter, r *http.Request, l linked) {
	in, err := p.svc.Inspect(r.Context(), "", l.link)
	v := page{What: "not_me", Address: in.Disowned.Address, Here: l.here}
	switch in.Purpose {
	case challenge.Undo:
		c := in.Change
		v = page{What: "undo", Address: c.Old, Stopped: c.Stopped, Made: c.Made, Here: l.here}
		if len(c.Stopped) == 0 {
			v.Stopped = []string{c.New}
		}
		if errors.Is(err, illumicode.ErrUsed) {
			v.Message, err = undone(c), nil
		}
	case challenge.NotMe:
		v.Browsers = in.Disowned.Subject != ""
		if in.Disowned.Void {
			v.Message = "not_me_done"
		}
	default:
		err = illumicode.ErrInvalid
	}
	if err != nil {
		p.refuseLink(w, r, l, err)
		return
	}
	p.render(w, r, http.StatusOK, "takeback.html", v)
}

// undone returns what a change came to that was taken back: a key of words.
func undone(c illumicode.Change) string {
	if c.Made {
		return "undo_frozen"
	}
	return "undo_stopped"
}

// doTakeBack does it. The cookie stays for its few minutes: whoever loads the page again is told the same.
func (p *Pages) doTakeBack(w http.ResponseWriter, r *http.Request, l linked) {
	var v page
	var err error
	switch {
	case l.purpose == challenge.NotMe && r.PostFormValue("browsers") != "":
		err = p.svc.RevokeByLink(r.Context(), l.link)
		v = page{What: "not_me", Message: "browsers_done"}
	case l.purpose == challenge.Undo:
		var c illumicode.Change
		c, err = p.svc.Undo(r.Context(), l.link, p.opts.Undo)
		if errors.Is(err, illumicode.ErrUsed) { // by another who was faster
			p.showTakeBack(w, r, l)
			return
		}
		v = page{What: "undo", Message: undone(c), Address: c.Old, Stopped: c.Stopped}
	default:
		v, err = p.notMe(r.Context(), l.link)
	}
	if err != nil {
		p.refuseLink(w, r, l, err)
		return
	}
	v.Here = l.here
	p.render(w, r, http.StatusOK, "takeback.html", v)
}

// notMe ends a challenge, and returns the page that says what that came to.
func (p *Pages) notMe(ctx context.Context, link illumicode.Link) (page, error) {
	v := page{What: "not_me", Message: "not_me_done", Browsers: true}
	err := p.svc.NotMe(ctx, link, func(ctx context.Context, tx illumicode.Tx, d illumicode.Disowned) error {
		if d.Done {
			v.Message = "not_me_late"
		}
		if p.opts.NotMe == nil {
			return nil
		}
		return p.opts.NotMe(ctx, tx, d)
	})
	return v, err
}
