package model

import (
	"fmt"
	"time"
)

// A letter is a delivery: what waits, is tried, and ends.
type letter struct {
	kind       string
	to         int // the address
	challenge  int // whose proof it carries; -1 for none
	change     int // that it tells of, from 1; 0 for none
	generation int
	account    int // that a notice is for; its address is found at the first try
	key        int
	code       bool // it had a code when it left

	state    string // waiting, sent, failed, cancelled, expired, suppressed or unknown
	due      time.Duration
	ends     time.Duration // when it is not worth delivering any more; never for no end
	attempts int
	unsure   bool // a try got no answer
	out      bool // a copy is in a mailbox
	recalled bool // a recall holds it
}

func (l *letter) waits() bool { return l.state == "waiting" }

func (m *Model) addLetter(l letter) {
	l.state = "waiting"
	if l.due == 0 {
		l.due = m.Now
	}
	m.letters = append(m.letters, &l)
}

// notify writes to an account, at the address that it has when the letter leaves.
func (m *Model) notify(c Call) string {
	m.addLetter(letter{kind: "trial", to: -1, challenge: -1, account: c.Account, key: c.Key, ends: never})
	return "ok"
}

func (m *Model) cancel(c Call) string {
	all := m.lettersWith(func(l *letter) bool { return l.key == c.Key && l.waits() })
	for _, n := range all {
		m.letters[n].state = "cancelled"
	}
	return fmt.Sprintf("%d cancelled", len(all))
}

// Due are the letters that a worker may try now.
func (m *Model) Due() []int {
	return m.lettersWith(func(l *letter) bool { return l.waits() && l.due <= m.Now })
}

// deliver is a worker's try at one letter.
func (m *Model) deliver(c Call) string {
	l := m.letters[c.Letter]
	if m.recalled[l.to] {
		return l.state
	}
	to := l.to
	if l.account != 0 && l.attempts == 0 { // it finds its address now
		switch to = m.relied(l.account); {
		case m.frozen(l.account):
			l.state = "held"
			return l.state
		case to < 0:
			l.end("cancelled")
			return l.state
		case m.recalled[to] && !m.suppressed[to]:
			l.to = to
			m.meet("a recall meets a letter that finds its address")
			return l.state
		}
	}
	switch {
	case m.suppressed[to]:
		l.end("suppressed")
		return l.state
	case l.ends != never && m.Now >= l.ends:
		l.end("expired")
		return l.state
	case l.change > 0:
		says := map[string]string{"address-change": "pending", "address-changed": "made"}[l.kind]
		if m.changes[l.change-1].state != says {
			l.end("cancelled")
			return l.state
		}
	case l.challenge >= 0:
		if why := m.unneeded(c.Letter); why != "" {
			l.end(why)
			return l.state
		}
		if m.challenges[l.challenge].tampered {
			m.meet("a letter whose challenge was written to")
			l.end("failed")
			return l.state
		}
	}
	l.to = to
	return m.try(c, l)
}

// end ends a letter. One that may have been sent does not count as failed.
func (l *letter) end(state string) {
	if l.unsure && (state == "failed" || state == "expired") {
		state = "unknown"
	}
	l.state = state
}

// unneeded returns how the letter of a challenge ends that is not needed any more.
func (m *Model) unneeded(n int) string {
	l := m.letters[n]
	c := m.challenges[l.challenge]
	for _, later := range m.letters[n+1:] {
		if later.challenge == l.challenge {
			m.meet("a letter gives way to a later one")
			return "cancelled"
		}
	}
	switch {
	case c.state != "open":
		return "cancelled"
	case !m.alive(c):
		return "expired"
	}
	return ""
}

// try hands a letter to the provider. A decoy's goes to nobody, and costs the same.
func (m *Model) try(c Call, l *letter) string {
	l.attempts++
	var ch *challenge
	if l.challenge >= 0 {
		ch = m.challenges[l.challenge]
		l.code = !ch.link && !ch.burnt()
		if ch.decoy {
			return m.withhold(c, l, ch)
		}
	}
	m.lastFate = c.Fate
	switch c.Fate {
	case Takes, Loses:
		l.out = true
		if ch != nil {
			m.handedOver(ch, l.generation)
		}
		if c.Fate == Takes {
			l.state, l.unsure = "sent", false
			return l.state
		}
		l.unsure = true
		return m.later(c, l)
	case Rejects:
		l.end("failed")
		return l.state
	}
	return m.later(c, l)
}

// withhold does for a decoy's letter what is done for one that leaves, and ends as the provider's last try did.
func (m *Model) withhold(c Call, l *letter, ch *challenge) string {
	l.code = false
	if m.lastFate == Later {
		m.meet("a decoy's letter waits as others do")
		return m.later(c, l)
	}
	m.handedOver(ch, l.generation)
	l.state = "cancelled"
	return l.state
}

// later puts a letter off that a provider did not take for good. A challenge's letter that could not be tried again in
// time has expired.
func (m *Model) later(c Call, l *letter) string {
	if c.Due == never {
		if l.ends == never || l.ends-m.Now > 4*time.Hour {
			return "given up, though there was time"
		}
		l.end("expired")
		return l.state
	}
	if c.Due <= m.Now || c.Due > m.Now+4*time.Hour || l.ends != never && c.Due >= l.ends {
		return fmt.Sprintf("put off until %v, which cannot be", c.Due)
	}
	l.due = c.Due
	return l.state
}
