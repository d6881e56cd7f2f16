package model

import (
	"fmt"
	"math"
	"time"
)

// The one rule of the explorer's service (docs/limits.md): five letters of an address at once, and one more every ten
// minutes.
const (
	Every = 10 * time.Minute
	Burst = 5
)

// spend takes a letter's allowance under a name, or says when there is one.
func (m *Model) spend(name string) (at time.Duration, ok bool) {
	next := max(m.spent[name], m.Now) + Every
	if over := next - Burst*Every; over > m.Now {
		return over, false
	}
	m.spent[name] = next
	return 0, true
}

// refund gives an allowance back.
func (m *Model) refund(name string) { m.spent[name] -= Every }

// Strangers to an account share what an address has. An account that has signed in has its own, at each address, and a
// known browser one letter a day of its own (docs/signin.md).
func ofAddress(address int) string { return fmt.Sprintf("address %d", address) }
func ofAccount(account, address int) string {
	return fmt.Sprintf("account %d at %d", account, address)
}

// A known browser is one that has signed in.
type known struct {
	account, address int
	challenge        int // by which it has last signed in
	used             time.Duration
	letter           time.Duration // when its own letter of the day was spent
	tries            int
	triesFrom        time.Duration
	gone             bool
}

const (
	day       = 24 * time.Hour
	knownFor  = 180 * day
	ownTries  = 3
	allTries  = 20
	mostKnown = 10
)

// counted returns what a letter of a known browser counts under; -1 is none. It spends the browser's own letter.
func (m *Model) counted(id, address int) string {
	if id < 0 {
		return ofAddress(address)
	}
	k := m.known[id]
	if k.letter == never || k.letter+day <= m.Now {
		k.letter = m.Now
		return fmt.Sprintf("browser %d at %d", id, address)
	}
	return ofAccount(k.account, address)
}

// ownTry spends a try of a known browser, its own or one of those that its account's browsers share.
func (m *Model) ownTry(id int) bool {
	if id < 0 || m.known[id].gone {
		return false
	}
	k := m.known[id]
	if k.triesFrom == never || k.triesFrom+day <= m.Now {
		k.tries, k.triesFrom = 1, m.Now
		return true
	}
	beyond := 0
	for _, o := range m.known {
		if o.account == k.account && !o.gone && o.tries > ownTries && o.triesFrom+day > m.Now {
			beyond += o.tries - ownTries
		}
	}
	if k.tries >= ownTries && beyond >= allTries {
		return false
	}
	k.tries++
	return true
}

// keep remembers a browser that has signed in by a challenge, and forgets the one of the account that has not for
// longest beyond ten.
func (m *Model) keep(challenge, id, account, address int) int {
	if id < 0 || m.known[id].gone { // what was revoked is never known again
		m.known = append(m.known, &known{account: account, address: address, letter: never, triesFrom: never})
		id = len(m.known) - 1
	}
	k := m.known[id]
	k.challenge, k.used = challenge, m.Now
	for {
		n, oldest := 0, -1
		for i, o := range m.known {
			if o.account != account || o.gone {
				continue
			}
			n++
			if oldest < 0 || o.used < m.known[oldest].used {
				oldest = i
			}
		}
		if n <= mostKnown {
			return id
		}
		m.known[oldest].gone = true
	}
}

// knownAt returns the known browser that a browser is at an address; -1 for none.
func (m *Model) knownAt(b, address int) int {
	if b < 0 || m.browsers[b].known < 0 {
		return -1
	}
	id := m.browsers[b].known
	if k := m.known[id]; k.gone || k.address != address || m.Now > k.used+knownFor {
		return -1
	}
	return id
}

// wrongCodes returns how many wrong codes there were at an address: half after an hour, kept to a thousandth.
func (m *Model) wrongCodes(address int) float64 {
	w, any := m.wrong[address]
	if !any {
		return 0
	}
	return w.count * math.Exp2(-float64(m.Now-w.at)/float64(time.Hour))
}

func (m *Model) addWrong(address, n int) {
	m.wrong[address] = wrong{math.Floor((m.wrongCodes(address)+float64(n))*1000) / 1000, m.Now}
}

// pause is how long a challenge waits after its last try: nothing for five wrong codes, then a second, doubling to 30.
func (m *Model) pause(address int) time.Duration {
	over := m.wrongCodes(address) - 5
	if m.lag != nil {
		over = (&Model{Now: m.Now, wrong: m.lag}).wrongCodes(address) - 5
	}
	if over < 0 {
		return 0
	}
	return min(time.Duration(math.Exp2(min(over, 10)))*time.Second, 30*time.Second)
}

// triesAt is how many tries a new sign-in of an unknown browser has: five, three after ten wrong codes, one after
// thirty.
func (m *Model) triesAt(address int) int {
	switch n := m.wrongCodes(address); {
	case n >= 30:
		return 1
	case n >= 10:
		return 3
	}
	return 5
}
