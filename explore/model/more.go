package model

import (
	"fmt"
	"slices"
	"time"
)

// maxCorrections is how often the address of one challenge can be mistyped.
const maxCorrections = 5

// correct puts another address into the place of one that was mistyped, for the browser that began.
func (m *Model) correct(call Call) string {
	n := m.ticketOf(call.Browser)
	if n < 0 {
		return "invalid"
	}
	c := m.challenges[n]
	switch {
	case c.tampered, c.purpose != "signup" && c.purpose != "reverify":
		return "invalid"
	case over(c) != "":
		return over(c)
	case m.Now >= c.ends:
		return "expired"
	case c.resends >= maxCorrections:
		return tooSoon(c.ends)
	case c.resends > 0 && m.Now < c.resendAfter:
		return tooSoon(c.resendAfter)
	}
	if at, ok := m.spend(ofAddress(call.Address)); !ok {
		return tooSoon(at)
	}
	changing := slices.IndexFunc(m.changes, func(ch *change) bool { return ch.challenge == n && ch.state == "pending" })
	c.state = "ended"
	m.takeUnconfirmed(c.account, c.address)
	next := challenge{purpose: c.purpose, account: c.account, address: call.Address, decoy: c.decoy && c.account == 0,
		sealed: c.sealed, resends: c.resends + 1, known: -1}
	at := len(m.challenges)
	switch {
	case next.decoy:
	case c.sealed:
		next.decoy = m.holders[call.Address] != 0
	case c.purpose == "signup" && m.holders[call.Address] != 0:
		next.decoy = true // of its account, which lapses as others do
	case c.purpose == "signup":
		m.note(c.account, at, n, call.Address)
	}
	m.browsers[call.Browser].ticket = m.begin(next, next.letter())
	if changing >= 0 {
		m.changes[changing].challenge, m.changes[changing].new = at, call.Address
		m.tell(changing, "address-change", m.Now)
	}
	return m.pending(at)
}

// elsewhere begins a sign-in for a browser that has the link of a sign-in's letter and not its ticket.
func (m *Model) elsewhere(call Call) string {
	n := m.letters[call.Letter].challenge
	c := m.challenges[n]
	switch {
	case c.tampered, c.purpose != "signin" || c.origin > 0:
		return "invalid"
	case c.state == "accepted":
		return "used"
	case c.state == "ended" && !c.superseded:
		return "called off"
	case m.Now >= c.begun+time.Hour:
		return "expired"
	case m.owner(c.address) != c.account:
		return "called off"
	}
	begun := 0
	for i, o := range m.challenges {
		if o.origin != n+1 {
			continue
		}
		if m.ticketOf(call.Browser) == i && o.state == "open" {
			return m.pending(i)
		}
		begun++
	}
	if begun >= 2 {
		return "other browser"
	}
	at := m.begin(challenge{purpose: "signin", account: c.account, address: c.address, origin: n + 1, known: -1},
		"signin")
	m.browsers[call.Browser].ticket = at
	m.meet("a way in by any letter")
	return m.pending(at)
}

// resendByLink is somebody who has a link of the letter, such as one whose life is over.
func (m *Model) resendByLink(call Call) string {
	n := m.letters[call.Letter].challenge
	c := m.challenges[n]
	switch {
	case c.tampered:
		return "invalid"
	case over(c) == "used" && c.purpose == "reverify" && m.frozen(c.account):
		return "frozen"
	case over(c) != "":
		return over(c)
	}
	return m.resendOf(n)
}

// revokeByLink makes all browsers of an account unknown, for the reader of a letter.
func (m *Model) revokeByLink(call Call) string {
	c := m.challenges[m.letters[call.Letter].challenge]
	if c.tampered {
		return "invalid"
	}
	if m.Now >= c.ends+7*day {
		return "expired"
	}
	m.revoke(Call{Account: c.account})
	return "ok"
}

// suppress keeps all letters from an address; restore lets them go again.
func (m *Model) suppress(c Call) string {
	m.suppressed[c.Address] = true
	return "ok"
}

func (m *Model) restore(c Call) string {
	was := m.suppressed[c.Address]
	delete(m.suppressed, c.Address)
	return fmt.Sprintf("restored %t", was)
}

// vouch is an operator who confirms an address without a proof.
func (m *Model) vouch(c Call) string {
	if m.taken(c.Account, c.Address) {
		return "taken"
	}
	m.confirm(c.Account, c.Address)
	return "ok"
}

// move moves what is written under a key and waits.
func (m *Model) move(c Call) string {
	all := m.lettersWith(func(l *letter) bool { return l.key == c.Key && (l.waits() || l.state == "held") })
	for _, n := range all {
		m.letters[n].due = m.Now + c.For
	}
	return fmt.Sprintf("%d moved", len(all))
}

// custom begins a challenge for a purpose of the application's own.
func (m *Model) custom(c Call) string {
	at, ok := m.spend(ofAddress(c.Address))
	if !ok {
		return tooSoon(at)
	}
	m.admissions = append(m.admissions, admission{browser: c.Browser, address: c.Address, ticket: -1,
		until: m.Now + time.Minute, custom: true, used: c.End == Commit})
	if c.End != Commit {
		return string(c.End)
	}
	n := m.begin(challenge{purpose: "own", account: c.Account, address: c.Address, known: -1}, "confirm")
	m.browsers[c.Browser].ticket = n
	return m.pending(n)
}

// acceptOwn accepts a proof for a purpose of the application's own: the address is then confirmed.
func (m *Model) acceptOwn(call Call, _ proof, c *challenge) string {
	switch {
	case m.taken(c.account, c.address):
		return "taken"
	case call.End != Commit:
		return string(call.End)
	}
	m.confirm(c.account, c.address)
	c.state, c.accepted = "accepted", m.Now
	return fmt.Sprintf("confirmed for account %d", c.account)
}

// recall calls back what goes to an address, now and later. When it has returned none of it begins to leave.
func (m *Model) recall(c Call) string {
	m.recalled[c.Address] = true
	for _, n := range m.lettersWith(func(l *letter) bool { return m.recalled[l.to] && l.waits() }) {
		m.letters[n].state, m.letters[n].recalled = "held", true
		m.meet("a letter is called back")
	}
	return "ok"
}

// endRecall lets go what a recall holds.
func (m *Model) endRecall(c Call) string {
	delete(m.recalled, c.Address)
	all := m.lettersWith(func(l *letter) bool { return l.to == c.Address && l.recalled && l.state == "held" })
	for _, n := range all {
		m.letters[n].state, m.letters[n].recalled = "waiting", false
	}
	return fmt.Sprintf("%d released", len(all))
}

// tamper writes to what a challenge was bound to at its beginning, such as whether it is a decoy. It opens nothing any
// more.
func (m *Model) tamper(c Call) string {
	o := m.challenges[c.Challenge]
	o.tampered, o.decoy = true, o.decoy != c.Undoable
	return "ok"
}

// steal gives a browser the cookies of another.
func (m *Model) steal(c Call) string {
	m.browsers[c.Browser] = m.browsers[c.Other]
	return "ok"
}
