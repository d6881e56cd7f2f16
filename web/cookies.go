package web

import (
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/illumicode/illumicode/message"
)

// The cookies. All are HttpOnly and SameSite; on https they carry the __Host- prefix, so that
// no neighbouring subdomain can plant one. Of tickets and links there is one for each, named by its
// mark: what a page shows is what its form acts on, whatever other tabs have opened since.
const (
	ticketCookie  = "illumicode_ticket_"
	linkCookie    = "illumicode_link_"
	browserCookie = "illumicode_browser"
	doneCookie    = "illumicode_done" // this browser has proven an address just now
)

// mostKept is how many tickets, and how many links, a browser keeps; the oldest gives way.
const mostKept = 4

// maxToken bounds what is kept of a link, in bytes: the longest that we make has some four hundred.
const maxToken = 1 << 10

// mark returns what names a token where it must not stand itself: in paths and in the names of cookies.
func mark(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:8])
}

// whose returns what tells the tickets of a browser apart by the address that was typed; "" for no address.
func whose(address string) string {
	a, err := message.ParseRecipient(address)
	if err != nil {
		return ""
	}
	return mark(a.Mailbox())
}

// A kept is a token as a cookie keeps it.
type kept struct {
	mark  string
	at    int64  // when it was kept, in ms since 1970
	whose string // the mark of its mailbox; "" of a link
	link  string // of a ticket that a letter let begin: the mark of its link
	token string
}

// keep sets the cookie of a token, and deletes the oldest of the same kind if there are too many.
func (p *Pages) keep(w http.ResponseWriter, r *http.Request, kind string, k kept, life time.Duration) {
	k.mark = mark(k.token)
	others := slices.DeleteFunc(p.allKept(r, kind), func(o kept) bool { return o.mark == k.mark })
	for i := mostKept - 1; i < len(others); i++ {
		p.drop(w, kind, others[i].mark)
	}
	value := strings.Join([]string{strconv.FormatInt(time.Now().UnixMilli(), 36), k.whose, k.link, k.token}, ".")
	p.setCookie(w, kind+k.mark, value, life)
}

// drop deletes the cookie of a token.
func (p *Pages) drop(w http.ResponseWriter, kind, mark string) { p.setCookie(w, kind+mark, "", 0) }

// allKept returns the tokens of a kind that the browser keeps, the latest first.
func (p *Pages) allKept(r *http.Request, kind string) []kept {
	var all []kept
	for _, c := range r.Cookies() {
		name, found := strings.CutPrefix(c.Name, p.cookieName(kind))
		at, rest, _ := strings.Cut(c.Value, ".")
		whose, rest, _ := strings.Cut(rest, ".")
		link, token, _ := strings.Cut(rest, ".")
		when, err := strconv.ParseInt(at, 36, 64)
		if found && err == nil && mark(token) == name {
			all = append(all, kept{name, when, whose, link, token})
		}
	}
	slices.SortFunc(all, func(a, b kept) int { return int(max(-1, min(1, b.at-a.at))) })
	return all
}

// keptAs returns the token of a kind that the path of a request names, or "" if this browser does not keep it.
func (p *Pages) keptAs(r *http.Request, kind string) string {
	for _, k := range p.allKept(r, kind) {
		if k.mark == r.PathValue("mark") {
			return k.token
		}
	}
	return ""
}

func (p *Pages) cookieName(name string) string {
	if p.secure {
		return "__Host-" + name
	}
	return name
}

// setCookie sets a cookie that lives for life; 0 or less deletes it.
func (p *Pages) setCookie(w http.ResponseWriter, name, value string, life time.Duration) {
	age := int(life / time.Second)
	if age <= 0 {
		age = -1
	}
	http.SetCookie(w, &http.Cookie{Name: p.cookieName(name), Value: value, Path: "/", MaxAge: age,
		HttpOnly: true, Secure: p.secure, SameSite: http.SameSiteLaxMode})
}

func (p *Pages) cookie(r *http.Request, name string) string {
	c, err := r.Cookie(p.cookieName(name))
	if err != nil {
		return ""
	}
	return c.Value
}
