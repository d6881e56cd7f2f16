package model

import (
	"time"
)

// An admission is a request that was checked, and may begin one challenge within a minute.
type admission struct {
	browser, address int
	ticket           int // that the browser had
	until            time.Duration
	used             bool
	custom           bool // for a purpose of the application's own
	refunded         bool
}

func (m *Model) admit(c Call) string {
	at, ok := m.spend(ofAddress(c.Address))
	if !ok {
		return tooSoon(at)
	}
	m.admissions = append(m.admissions, admission{browser: c.Browser, address: c.Address,
		ticket: m.ticketOf(c.Browser), until: m.Now + time.Minute})
	return "ok"
}

// beginSignup registers an account's address with an admission, in a transaction of the application's.
func (m *Model) beginSignup(call Call) string {
	a := &m.admissions[call.Admission]
	if m.Now >= a.until {
		return "expired"
	}
	waits := m.waiting(a.ticket, call.Account, a.address, false)
	held := m.holders[a.address] != 0
	switch {
	case call.End != Commit:
		if (waits < 0 || m.challenges[waits].decoy != held) && a.used {
			return "admission used"
		}
		return string(call.End)
	case waits >= 0 && m.challenges[waits].decoy == held:
		m.note(call.Account, waits, waits, a.address)
		a.used = true
		m.goOn(waits)
		m.browsers[a.browser].ticket = waits
		return m.pending(waits)
	case a.used:
		return "admission used"
	}
	a.used = true
	at := len(m.challenges)
	m.note(call.Account, at, a.ticket, a.address)
	next := challenge{purpose: "signup", account: call.Account, address: a.address, decoy: held, known: -1}
	if held {
		next.account = 0
	}
	m.browsers[a.browser].ticket = m.begin(next, next.letter())
	return m.pending(at)
}

// waiting returns the challenge of a ticket if it is for the same account and address, or a decoy there, and waits; -1
// if not.
func (m *Model) waiting(ticket, account, address int, sealed bool) int {
	if ticket < 0 {
		return -1
	}
	c := m.challenges[ticket]
	if c.tampered || c.purpose != "signup" || c.address != address || c.state != "open" || c.burnt() ||
		m.Now >= c.ends ||
		!c.decoy && c.account != account || sealed && !c.sealed {
		return -1
	}
	return ticket
}

// goOn sends the letter of a challenge again if its wait is over.
func (m *Model) goOn(n int) {
	if m.Now >= m.challenges[n].resendAfter {
		m.again(n)
	}
}

// register begins a signup whose account is made when it is proven.
func (m *Model) register(c Call) string {
	ticket := m.ticketOf(c.Browser)
	at, ok := m.spend(ofAddress(c.Address))
	if !ok {
		return tooSoon(at)
	}
	held := m.holders[c.Address] != 0
	if waits := m.waiting(ticket, 0, c.Address, true); waits >= 0 && m.challenges[waits].decoy == held {
		m.goOn(waits)
		return m.pending(waits)
	}
	next := challenge{purpose: "signup", address: c.Address, decoy: held, sealed: true, known: -1}
	n := m.begin(next, next.letter())
	m.browsers[c.Browser].ticket = n
	return m.pending(n)
}

// asking is a browser that asks to sign in.
type asking struct {
	browser, address, known, resends int
	beside                           bool // its earlier challenge stays
}

func (m *Model) signIn(c Call) string {
	return m.beginSignIn(asking{browser: c.Browser, address: c.Address, known: m.knownAt(c.Browser, c.Address)})
}

// beginSignIn begins a sign-in, where there is a place: three for all unknown browsers, three for each known one. The
// browser's earlier one makes way, after the wait that a resend has.
func (m *Model) beginSignIn(a asking) string {
	name := m.counted(a.known, a.address)
	at, ok := m.spend(name)
	if !ok {
		return tooSoon(at)
	}
	owner := m.owner(a.address)
	id := -1
	if a.known >= 0 && m.known[a.known].account == owner {
		id = a.known
	}
	earlier, taken, free := -1, 0, never
	for i, c := range m.challenges {
		switch {
		case c.purpose != "signin" || c.address != a.address || m.Now >= c.ends || c.superseded:
		case i == m.ticketOf(a.browser) && c.state == "open" && !a.beside:
			earlier = i
		case c.origin == 0 && c.known == id && m.Now < m.placeEnds(c):
			taken++
			if free == never || m.placeEnds(c) < free {
				free = m.placeEnds(c)
			}
		}
	}
	if earlier >= 0 && m.Now < m.challenges[earlier].resendAfter {
		m.refund(name)
		return tooSoon(m.challenges[earlier].resendAfter)
	}
	if taken >= places {
		m.refund(name)
		m.meet("no place for a sign-in")
		return tooSoon(free)
	}
	next := challenge{purpose: "signin", account: owner, address: a.address, decoy: owner == 0, known: id,
		resends: a.resends}
	if earlier >= 0 {
		next.resends = m.challenges[earlier].resends + 1
		m.callOff(m.challenges[earlier])
		m.challenges[earlier].superseded = true
	}
	if id < 0 {
		next.allowed = m.triesAt(a.address)
	}
	n := m.begin(next, next.letter())
	m.browsers[a.browser].ticket = n
	return m.pending(n)
}

// placeEnds is until when a sign-in takes its place.
func (m *Model) placeEnds(c *challenge) time.Duration { return min(c.sent+place, c.ends) }

func (m *Model) stepUp(c Call) string {
	if !m.is(c.Account, c.Address, "confirmed") {
		return "not confirmed"
	}
	if at, ok := m.spend(ofAccount(c.Account, c.Address)); !ok {
		return tooSoon(at)
	}
	n := m.begin(challenge{purpose: "stepup", account: c.Account, address: c.Address, known: -1},
		"stepup")
	m.browsers[c.Browser].ticket = n
	return m.pending(n)
}
