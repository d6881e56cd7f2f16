package model

import (
	"fmt"
	"slices"
	"time"
)

// A proof says that somebody has shown control of an address. It is good for a quarter of an hour.
type proof struct {
	challenge int
	here      bool // by the browser that began
	at        time.Duration
	browser   int
}

const proofLife = 15 * time.Minute

// prove is somebody who types a code.
func (m *Model) prove(call Call) string {
	n := m.ticketOf(call.Browser)
	if n < 0 {
		return "invalid"
	}
	c := m.challenges[n]
	switch {
	case c.tampered:
		return "invalid"
	case over(c) != "":
		return over(c)
	case c.link:
		return "invalid"
	case m.Now >= c.ends:
		return "expired"
	case c.burnt():
		return "no tries"
	}
	own := m.ownTry(c.known)
	if !own && c.tried != never && m.Now < c.tried+m.pause(c.address) {
		m.meet("a pause between tries")
		return tooSoon(c.tried + m.pause(c.address))
	}
	c.tries, c.tried = c.tries+1, m.Now
	if l := m.typed(call, n); l != nil {
		if slices.Contains(m.good(c), l.generation) {
			return m.proven(n, call.Browser, true)
		}
		return "expired"
	}
	if !own {
		m.addWrong(c.address, 1)
	}
	return fmt.Sprintf("wrong code, %d tries left", c.allowed-c.tries)
}

// typed returns the letter whose code is typed, if it is one of a challenge; nil for a code that fits nothing.
func (m *Model) typed(call Call, n int) *letter {
	if call.Letter < 0 || m.letters[call.Letter].challenge != n || !m.letters[call.Letter].code {
		return nil
	}
	return m.letters[call.Letter]
}

// proveLink is somebody who opens a link.
func (m *Model) proveLink(call Call) string {
	l := m.letters[call.Letter]
	c := m.challenges[l.challenge]
	here := m.ticketOf(call.Browser) == l.challenge
	switch {
	case c.tampered:
		return "invalid"
	case over(c) == "used" && c.purpose == "reverify" && m.frozen(c.account):
		return "frozen"
	case over(c) != "":
		return over(c)
	case m.Now >= m.linkEnds(c):
		return "expired"
	case c.purpose == "signin" && !here:
		return "other browser"
	}
	return m.proven(l.challenge, call.Browser, here)
}

func (m *Model) proven(n, browser int, here bool) string {
	m.proofs = append(m.proofs, proof{n, here, m.Now, browser})
	return fmt.Sprintf("proof %d of %s", len(m.proofs)-1, m.challenges[n].purpose)
}

// accept makes a proof effective, in a transaction of the application's.
func (m *Model) accept(call Call) string {
	p := m.proofs[call.Proof]
	c := m.challenges[p.challenge]
	if c.purpose == "signin" && !p.here {
		return "other browser"
	}
	if c.sealed && m.holders[c.address] != 0 {
		return "taken"
	}
	if m.Now > p.at+proofLife {
		return "expired"
	}
	switch {
	case c.state == "accepted":
		return "used"
	case c.tampered, c.state != "open", m.frozen(c.account) && c.purpose != "reverify":
		return "called off"
	case (c.purpose == "signin" || c.purpose == "stepup") && !m.holds(c.account, c.address):
		return "called off"
	}
	return map[string]func(Call, proof, *challenge) string{
		"signup": m.acceptSignup, "signin": m.acceptSignIn, "reverify": m.acceptReverify, "own": m.acceptOwn,
		"stepup": func(call Call, _ proof, c *challenge) string {
			if call.End == Commit {
				c.state, c.accepted = "accepted", m.Now
			}
			return ended(call, "ok")
		},
	}[c.purpose](call, p, c)
}

// ended is the answer of a transaction: how it ended, or what came of it.
func ended(call Call, answer string) string {
	if call.End == Commit {
		return answer
	}
	return string(call.End)
}

func (m *Model) acceptSignup(call Call, p proof, c *challenge) string {
	account := c.account
	contested := !p.here
	if c.sealed {
		account = call.Account
	} else {
		r := m.registered[account]
		contested = contested || r.contested || r.by != p.challenge
	}
	switch {
	case m.taken(account, c.address):
		return "taken"
	case m.holders[c.address] == account:
		return "used"
	case call.End != Commit:
		return string(call.End)
	}
	m.confirm(account, c.address)
	c.state, c.accepted = "accepted", m.Now
	if c.sealed {
		c.account = account
		for _, other := range m.challenges {
			if other.sealed && !other.decoy && other.address == c.address {
				m.callOff(other)
			}
		}
	}
	return fmt.Sprintf("confirmed for account %d, contested %t", account, contested)
}

func (m *Model) acceptSignIn(call Call, p proof, c *challenge) string {
	switch {
	case m.taken(c.account, c.address):
		return "taken"
	case call.End != Commit:
		return string(call.End)
	}
	id := m.keep(p.challenge, c.known, c.account, c.address)
	m.browsers[p.browser].known = id
	m.confirm(c.account, c.address)
	c.state, c.accepted = "accepted", m.Now
	return fmt.Sprintf("signed in to account %d", c.account)
}

func (m *Model) notMe(call Call) string {
	l := m.letters[call.Letter]
	c := m.challenges[l.challenge]
	if c.tampered {
		return "invalid"
	}
	if m.Now >= c.ends+7*day {
		return "expired"
	}
	was := c.state
	ended := m.callOff(c)
	for id, k := range m.known {
		if k.account == c.account && (id == c.known || k.challenge == l.challenge) {
			k.gone = true
		}
	}
	switch {
	case ended:
		m.addWrong(c.address, 15)
		return "ended"
	case was == "accepted":
		return "it had been accepted"
	}
	return "void already"
}

func (m *Model) revoke(c Call) string {
	n := 0
	for _, k := range m.known {
		if k.account == c.Account && !k.gone {
			k.gone = true
			n++
		}
	}
	return fmt.Sprintf("%d revoked", n)
}
