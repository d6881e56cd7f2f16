package web

import "net/http"

// showUnsubscribe asks whether to end the notices that a link is about. It changes nothing.
func (p *Pages) showUnsubscribe(w http.ResponseWriter, r *http.Request) {
	address, category, err := p.svc.Unsubscription(r.URL.Query().Get("u"))
	if err != nil {
		p.refuse(w, r, err)
		return
	}
	p.render(w, r, http.StatusOK, "unsubscribe.html", page{Address: address, Category: category, Sealed: r.URL.Query().Get("u")})
}

// doUnsubscribe ends them. Asking for them again is a wish of the person's, on the same page.
func (p *Pages) doUnsubscribe(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	address, category, err := p.svc.Unsubscription(r.URL.Query().Get("u"))
	wanted := r.PostFormValue("wanted") == "yes"
	if err == nil {
		err = p.svc.Prefer(r.Context(), address, category, wanted)
	}
	if err != nil {
		p.refuse(w, r, err)
		return
	}
	message := "unsubscribed"
	if wanted {
		message = "subscribed"
	}
	p.render(w, r, http.StatusOK, "unsubscribe.html", page{Address: address, Category: category, Sealed: r.URL.Query().Get("u"), Message: message})
}
