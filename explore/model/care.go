package model

import ()

// care is what a worker does because time has passed (docs/signup.md, docs/reverify.md).
func (m *Model) care(Call) string {
	for _, c := range m.challenges {
		if c.state == "open" && m.Now >= c.ends {
			m.lapse(c)
		}
	}
	for address := range Addresses {
		for account := 1; account <= Accounts; account++ {
			if s := m.addresses[holding{account, address}]; s != nil && s.grace != never && s.grace <= m.Now {
				s.grace = never
				m.meet("a time of grace ends")
			}
		}
	}
	for _, ch := range m.changes {
		if ch.state == "made" && ch.undoEnds <= m.Now {
			ch.state = "settled"
			m.letGo(ch.account, ch.old)
			m.meet("a change can no longer be taken back")
		}
	}
	m.askAgain()
	for i := range m.admissions {
		if a := &m.admissions[i]; !a.used && !a.refunded && m.Now >= a.until {
			a.refunded = true
			m.refund(ofAddress(a.address))
		}
	}
	return "ok"
}

// lapse closes a challenge that nobody has proven. An account whose last hope it was loses the address.
func (m *Model) lapse(c *challenge) {
	m.callOff(c)
	c.state = "lapsed"
	for _, o := range m.challenges {
		if o.state == "open" && o.account == c.account && o.address == c.address {
			return // a later letter can still be answered
		}
	}
	m.takeUnconfirmed(c.account, c.address)
}

// askAgain asks addresses that are in doubt, each once a week in its time of grace.
func (m *Model) askAgain() {
	for address := range Addresses {
		for account := 1; account <= Accounts; account++ {
			s := m.addresses[holding{account, address}]
			if s == nil || s.is == "confirmed" || s.is == "unconfirmed" || s.grace <= m.Now ||
				s.asked != never && s.asked+7*day > m.Now {
				continue
			}
			s.asked = m.Now
			m.begin(challenge{purpose: "reverify", account: account, address: address, link: true, known: -1},
				"recheck")
			m.meet("an address is asked again")
		}
	}
}
