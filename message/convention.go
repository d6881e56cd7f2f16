package message

import (
	"slices"
	"strings"
)

// A Convention says which spellings before the @ reach one mailbox at a domain. It is for counting: who holds an
// address, and where a letter goes, is the address as it was given.
type Convention struct {
	IgnoresDots bool
	Signs       string   // characters of which the first begins a sub-address (RFC 5233); empty means "+"
	Same        []string // other domains of the same mailboxes
}

// conventions are those that are widely known. Others are the application's to say.
var conventions = map[string]Convention{
	"gmail.com": {IgnoresDots: true, Same: []string{"googlemail.com"}},
	"yahoo.com": {Signs: "-"},
}

// Canonical returns the form under which limits count: the mailbox without a sub-address and, where the convention of
// its domain says so, without dots. own are the application's conventions by domain, beside those that are widely
// known; nil for none. Letters go to the address as it was given.
func (a Address) Canonical(own map[string]Convention) string {
	mailbox := a.Mailbox()
	if a.IsPhone() {
		return mailbox
	}
	local, domain, _ := strings.Cut(mailbox, "@")
	domain, how := conventionOf(domain, own)
	signs := how.Signs
	if signs == "" {
		signs = "+"
	}
	if i := strings.IndexAny(local, signs); i > 0 {
		local = local[:i]
	}
	if how.IgnoresDots {
		local = strings.ReplaceAll(local, ".", "")
	}
	return local + "@" + domain
}

// conventionOf returns the convention of a domain, and the domain under which its mailboxes count.
func conventionOf(domain string, own map[string]Convention) (string, Convention) {
	for _, all := range []map[string]Convention{own, conventions} {
		if how, found := all[domain]; found {
			return domain, how
		}
		for first, how := range all {
			if slices.Contains(how.Same, domain) {
				return first, how
			}
		}
	}
	return domain, Convention{}
}
