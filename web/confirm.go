package web

import (
	"context"
	"errors"
	"net/http"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
)

// takeToken moves a link's token from the address bar into a cookie, and reports whether it did: no
// referrer and no history shows it afterwards.
func (p *Pages) takeToken(w http.ResponseWriter, r *http.Request, path string) bool {
	tok := r.URL.Query().Get("t")
	if tok == "" {
		return false
	}
	p.setCookie(w, linkCookie, tok, linkCookieLife)
	harden(w)
	http.Redirect(w, r, p.base+path, http.StatusSeeOther)
	return true
}

// showConfirm asks whether to confirm, or to sign in. It changes nothing. A HEAD is answered like a
// GET.
func (p *Pages) showConfirm(w http.ResponseWriter, r *http.Request) {
	if p.takeToken(w, r, p.confirm) {
		return
	}
	in, err := p.svc.Inspect(r.Context(), p.ticket(r), p.link(r))
	if err == nil && in.Pending.Purpose == "" { // a link that takes something back
		err = illumicode.ErrInvalid
	}
	if err != nil {
		p.refuse(w, r, err)
		return
	}
	p.render(w, r, http.StatusOK, "confirm.html", page{Address: in.Pending.Address, Purpose: in.Purpose})
}

func (p *Pages) doConfirm(w http.ResponseWriter, r *http.Request) {
	ticket, link := p.ticket(r), p.link(r)
	if p.purpose(r) == challenge.SignIn {
		who, err := p.svc.SignInLink(r.Context(), ticket, link, p.session(w, r))
		if err != nil {
			p.refuse(w, r, err)
			return
		}
		p.signedIn(w, r, who)
		return
	}
	counts := false
	if err := p.svc.ConfirmFrom(r.Context(), ticket, link, p.apply(&counts)); err != nil {
		p.refuse(w, r, err)
		return
	}
	p.setCookie(w, linkCookie, "", 0)
	if !counts {
		p.refuse(w, r, illumicode.ErrFrozen)
		return
	}
	p.done(w, r, "")
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
func (p *Pages) doResendLink(w http.ResponseWriter, r *http.Request) {
	_, err := p.svc.ResendForReader(r.Context(), p.link(r))
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
		p.refuse(w, r, err)
	}
}

// showTakeBack asks whether to end a challenge that somebody else began, or to take a change of
// address back, as the link says. It changes nothing.
func (p *Pages) showTakeBack(w http.ResponseWriter, r *http.Request) {
	if p.takeToken(w, r, p.takeBack) {
		return
	}
	in, err := p.svc.Inspect(r.Context(), "", p.link(r))
	v := page{What: "not_me", Address: in.Disowned.Address}
	switch in.Purpose {
	case challenge.Undo:
		c := in.Change
		v = page{What: "undo", Address: c.Old, Stopped: c.Stopped, Made: c.Made}
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
		p.refuse(w, r, err)
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
func (p *Pages) doTakeBack(w http.ResponseWriter, r *http.Request) {
	link := p.link(r)
	r.Body = http.MaxBytesReader(w, r.Body, maxForm)
	var v page
	var err error
	switch purpose := p.purpose(r); {
	case purpose == challenge.NotMe && r.PostFormValue("browsers") != "":
		err = p.svc.RevokeByLink(r.Context(), link)
		v = page{What: "not_me", Message: "browsers_done"}
	case purpose == challenge.Undo:
		var c illumicode.Change
		c, err = p.svc.Undo(r.Context(), link, p.opts.Undo)
		if errors.Is(err, illumicode.ErrUsed) { // by another who was faster
			p.showTakeBack(w, r)
			return
		}
		v = page{What: "undo", Message: undone(c), Address: c.Old, Stopped: c.Stopped}
	default:
		v, err = p.notMe(r.Context(), link)
	}
	if err != nil {
		p.refuse(w, r, err)
		return
	}
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
