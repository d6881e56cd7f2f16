package model

import (
	"fmt"
	"time"
)

// A policy is how long the proofs of a purpose live (docs/signup.md, "Lives").
type policy struct{ link, cap time.Duration }

var (
	ladder   = []time.Duration{30 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour}
	policies = map[string]policy{"signup": {day, 3 * day}, "reverify": {day, 3 * day},
		"signin": {10 * time.Minute, time.Hour}, "stepup": {10 * time.Minute, time.Hour},
		"own": {10 * time.Minute, time.Hour}}
)

const (
	codeLife = 10 * time.Minute
	renew    = 3 * time.Minute  // a resend with less left of a code brings another
	grain    = 30 * time.Second // lives begin at whole half minutes after the letter was asked for
	place    = 15 * time.Minute // how long a sign-in takes its place
	places   = 3
)

func rung(n int) time.Duration { return ladder[min(n, len(ladder)-1)] }

// A challenge is one request to prove control of an address.
type challenge struct {
	purpose string
	account int
	address int
	decoy   bool
	sealed  bool // its account is made when it is proven
	link    bool // its letter has a link alone

	state string // open, accepted, ended or lapsed

	begun, ends, sent time.Duration
	linkFrom          time.Duration
	codeFrom          time.Duration
	previousUntil     time.Duration
	generation        int

	tries, allowed int
	tried          time.Duration

	resends     int
	resendAfter time.Duration

	superseded bool
	tampered   bool // somebody has written to its row
	origin     int  // the challenge whose letter let it begin, from 1; 0 for none
	known      int  // the known browser that began it; -1 for none
	accepted   time.Duration
}

// begin adds a challenge and its letter, and returns its number.
func (m *Model) begin(c challenge, kind string) int {
	c.state, c.begun, c.sent, c.ends = "open", m.Now, m.Now, m.Now+policies[c.purpose].cap
	c.linkFrom, c.codeFrom, c.previousUntil, c.tried = never, never, never, never
	c.generation, c.resendAfter = 1, m.Now+rung(c.resends)
	if c.allowed == 0 {
		c.allowed = 5
	}
	m.challenges = append(m.challenges, &c)
	n := len(m.challenges) - 1
	if c.account != 0 && !c.sealed && (c.purpose == "signup" || c.purpose == "reverify" && !c.link) {
		if m.addresses[holding{c.account, c.address}] == nil {
			m.addresses[holding{c.account, c.address}] = &standing{is: "unconfirmed", since: m.Now, grace: never,
				asked: never}
		}
	}
	m.addLetter(letter{kind: kind, to: c.address, challenge: n, generation: 1, ends: c.ends})
	return n
}

// pending is what the browser that waits is told of a challenge.
func (m *Model) pending(n int) string {
	c := m.challenges[n]
	return fmt.Sprintf("ok: challenge %d, %d tries left, again after %v, ends %v", n, c.allowed-c.tries, c.resendAfter,
		c.ends)
}

func (m *Model) linkEnds(c *challenge) time.Duration {
	if c.linkFrom == never {
		return c.ends
	}
	return min(c.ends, c.linkFrom+policies[c.purpose].link)
}

func (m *Model) codeEnds(c *challenge) time.Duration {
	if c.codeFrom == never {
		return c.ends
	}
	return min(c.ends, c.codeFrom+codeLife)
}

// good are the generations of its code that are good now.
func (m *Model) good(c *challenge) (all []int) {
	if m.Now < m.codeEnds(c) {
		all = append(all, c.generation)
	}
	if m.Now < c.previousUntil && m.Now < c.ends {
		all = append(all, c.generation-1)
	}
	return all
}

// over returns why a challenge cannot be proven any more; "" if it can, as far as its state goes.
func over(c *challenge) string {
	return map[string]string{"accepted": "used", "ended": "called off", "lapsed": "expired"}[c.state]
}

func (c *challenge) burnt() bool { return !c.link && c.tries >= c.allowed }

// alive reports whether any form of its proof is still good.
func (m *Model) alive(c *challenge) bool {
	return c.state == "open" && (m.Now < m.linkEnds(c) || !c.link && len(m.good(c)) > 0)
}

// callOff ends an open challenge, and the change that it is for.
func (m *Model) callOff(c *challenge) bool {
	if c.state != "open" {
		return false
	}
	c.state = "ended"
	if c.purpose == "reverify" {
		for _, ch := range m.changes {
			if m.challenges[ch.challenge] == c && ch.state == "pending" {
				ch.state = "stopped"
			}
		}
	}
	return true
}

// handedOver begins the lives of what a letter carries.
func (m *Model) handedOver(c *challenge, generation int) {
	from := m.Now
	if since := m.Now - c.sent; since > 0 {
		from = c.sent + (since+grain-1)/grain*grain
	}
	if c.linkFrom == never {
		c.linkFrom = from
	}
	if c.codeFrom == never && generation == c.generation {
		c.codeFrom = from
	}
}

// again writes the resend of a challenge.
func (m *Model) again(n int) {
	c := m.challenges[n]
	if c.codeFrom != never && m.codeEnds(c)-m.Now < renew {
		c.previousUntil = m.codeEnds(c)
		c.generation++
		c.codeFrom = never
		m.meet("another code")
	}
	if m.Now >= m.linkEnds(c) {
		c.linkFrom = never
		m.meet("another life of a link")
	}
	c.resends++
	c.resendAfter, c.sent = m.Now+rung(c.resends), m.Now
	m.addLetter(letter{kind: c.letter(), to: c.address, challenge: n, generation: c.generation, ends: c.ends})
}

// letter is the kind of letter that carries its proof.
func (c *challenge) letter() string {
	switch {
	case c.decoy && c.purpose == "signup":
		return "account-exists"
	case c.decoy:
		return "no-account"
	case c.link:
		return "recheck"
	}
	return map[string]string{"signup": "confirm", "reverify": "reverify", "signin": "signin",
		"stepup": "stepup", "own": "confirm"}[c.purpose]
}

// ticketOf returns the challenge of a browser's ticket, -1 for none.
func (m *Model) ticketOf(b int) int {
	if b < 0 {
		return -1
	}
	return m.browsers[b].ticket
}

// resend is what a browser presses.
func (m *Model) resend(call Call) string {
	n := m.ticketOf(call.Browser)
	if n < 0 {
		return "invalid"
	}
	if m.challenges[n].tampered {
		return "invalid"
	}
	if c := m.challenges[n]; c.burnt() && c.state == "open" && m.Now < c.ends {
		return m.anew(call.Browser, n)
	}
	return m.resendOf(n)
}

// resendOf sends the letter of a challenge again.
func (m *Model) resendOf(n int) string {
	c := m.challenges[n]
	switch {
	case over(c) != "":
		return over(c)
	case m.Now >= c.ends:
		return "expired"
	case m.Now < c.resendAfter:
		return tooSoon(c.resendAfter)
	}
	name := ofAddress(c.address)
	switch {
	case c.purpose == "stepup":
		name = ofAccount(c.account, c.address)
	case c.known >= 0 && !m.known[c.known].gone:
		name = m.counted(c.known, c.address)
	}
	if at, ok := m.spend(name); !ok {
		return tooSoon(at)
	}
	m.again(n)
	return m.pending(n)
}

// anew begins a challenge beside one whose tries are used up.
func (m *Model) anew(b, n int) string {
	c := *m.challenges[n]
	switch {
	case c.purpose == "reverify":
		return "no tries"
	case m.Now < c.resendAfter:
		return tooSoon(c.resendAfter)
	}
	id := -1
	if c.known >= 0 && !m.known[c.known].gone && m.Now <= m.known[c.known].used+knownFor {
		id = c.known
	}
	m.meet("anew: " + c.purpose)
	if c.purpose == "signin" {
		return m.beginSignIn(asking{browser: b, address: c.address, known: id, resends: c.resends + 1, beside: true})
	}
	name := ofAddress(c.address)
	if c.purpose == "stepup" {
		name = ofAccount(c.account, c.address)
	}
	if at, ok := m.spend(name); !ok {
		return tooSoon(at)
	}
	next := challenge{purpose: c.purpose, account: c.account, address: c.address, decoy: c.decoy, sealed: c.sealed,
		resends: c.resends + 1, known: -1}
	at := len(m.challenges)
	switch {
	case c.decoy:
	case c.sealed:
		next.decoy = m.holders[c.address] != 0
	case c.purpose == "signup" && m.note(c.account, at, n, c.address):
		next.account, next.decoy = 0, true
	}
	m.browsers[b].ticket = m.begin(next, next.letter())
	return m.pending(at)
}

// note says that a browser has registered an account, and reports whether the address has a holder. The browser gets
// the ticket of challenge by; it had that of challenge before, or none, which is -1.
func (m *Model) note(account, by, before, address int) (held bool) {
	r, any := m.registered[account]
	switch {
	case !any:
		r.contested = len(m.AddressesOf(account)) > 0
	case before < 0 && r.by != by, before >= 0 && r.by != before:
		r.contested = true
	}
	r.by = by
	m.registered[account] = r
	return m.holders[address] != 0
}
