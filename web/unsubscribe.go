package web

import (
	"net/http"
	"slices"

	"github.com/illumicode/illumicode"
)

// showUnsubscribe asks whether to end the notices that a link is about, or says that they have ended. It
// changes nothing.
func (p *Pages) showUnsubscribe(w http.ResponseWriter, r *http.Request) {
	about, err := p.svc.Unsubscription(r.URL.Query().Get("u"))
	var said []illumicode.Preference
	if err == nil {
		said, err = p.svc.Preferences(r.Context(), about.Address)
	}
	if err != nil {
		p.refuse(w, r, err)
		return
	}
	v := page{Address: about.Address, Sealed: r.URL.Query().Get("u")}
	if slices.Contains(said, about) {
		v.Message = "unsubscribed"
	}
	p.render(w, r, http.StatusOK, "unsubscribe.html", v)
}

// doUnsubscribe ends them. Asking for them again is a wish of the person's, on the same page.
func (p *Pages) doUnsubscribe(w http.ResponseWriter, r *http.Request) {
	about, err := p.svc.Unsubscription(r.URL.Query().Get("u"))
	wanted := r.PostFormValue("wanted") == "yes"
	if err == nil {
		err = p.svc.Prefer(r.Context(), illumicode.Preference{Address: about.Address, Category: about.Category,
			Wanted: wanted})
	}
	if err != nil {
		p.refuse(w, r, err)
		return
	}
	message := "unsubscribed"
	if wanted {
		message = "subscribed"
	}
	p.render(w, r, http.StatusOK, "unsubscribe.html", page{Address: about.Address,
		Sealed: r.URL.Query().Get("u"), Message: message})
}
