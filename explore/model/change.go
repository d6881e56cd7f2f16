package model

import (
	"fmt"
	"slices"
	"time"
)

// A change is a change of an account's address. Its old address can take it back for seven days.
type change struct {
	account, old, new int
	challenge         int
	state             string // pending, made, stopped, frozen or settled
	made, undoEnds    time.Duration
	undone            time.Duration // when it was taken back
}

const undoFor = 7 * day

func (m *Model) change(c Call) string {
	if !m.is(c.Account, c.Address, "confirmed") {
		return "not confirmed"
	}
	old := ofAccount(c.Account, c.Address)
	if at, ok := m.spend(old); !ok {
		return tooSoon(at)
	}
	if at, ok := m.spend(ofAddress(c.Other)); !ok {
		m.refund(old)
		return tooSoon(at)
	}
	for _, ch := range m.changes {
		if ch.account == c.Account && ch.state == "pending" {
			m.callOff(m.challenges[ch.challenge])
			ch.state = "stopped"
		}
	}
	n := m.begin(challenge{purpose: "reverify", account: c.Account, address: c.Other, known: -1}, "reverify")
	m.browsers[c.Browser].ticket = n
	m.changes = append(m.changes, &change{account: c.Account, old: c.Address, new: c.Other, challenge: n,
		state: "pending", made: m.Now, undoEnds: m.Now + undoFor, undone: never})
	m.tell(len(m.changes)-1, "address-change", m.Now)
	return m.pending(n)
}

// tell adds a letter that tells the old address of a change.
func (m *Model) tell(n int, kind string, due time.Duration) {
	ch := m.changes[n]
	m.addLetter(letter{kind: kind, to: ch.old, challenge: -1, change: n + 1, due: due, ends: ch.undoEnds})
}

// acceptReverify makes the change that a proof is for, or notes that an address was proven anew.
func (m *Model) acceptReverify(call Call, p proof, c *challenge) string {
	if m.frozen(c.account) {
		if call.End == Commit {
			c.state, c.accepted = "accepted", m.Now
			m.meet("a proof that does not count")
		}
		return ended(call, "kept, and does not count")
	}
	at := slices.IndexFunc(m.changes, func(ch *change) bool { return ch.challenge == p.challenge })
	if at >= 0 && (m.changes[at].state != "pending" || !m.holds(c.account, m.changes[at].old)) {
		return "called off"
	}
	switch {
	case m.taken(c.account, c.address):
		return "taken"
	case call.End != Commit:
		return string(call.End)
	}
	c.state, c.accepted = "accepted", m.Now
	if at >= 0 {
		m.make(at)
	}
	m.confirm(c.account, c.address)
	return fmt.Sprintf("confirmed for account %d", c.account)
}

// make makes a change. Challenges of the account at the old address end. Its holder is told, now and a day later.
func (m *Model) make(n int) {
	ch := m.changes[n]
	ch.state = "made"
	m.endAll(ch.account, ch.old)
	delete(m.addresses, holding{ch.account, ch.old})
	for _, due := range []time.Duration{m.Now, m.Now + day} {
		if due < ch.undoEnds {
			m.tell(n, "address-changed", due)
		}
	}
}

// after are the changes of the same account from one on that can be taken back.
func (m *Model) after(ch *change) (all []*change) {
	for _, o := range m.changes {
		if o.account == ch.account && o.made >= ch.made && (o.state == "pending" || o.state == "made") {
			all = append(all, o)
		}
	}
	return all
}

func (m *Model) undo(c Call) string {
	ch := m.changes[m.letters[c.Letter].change-1]
	live := m.after(ch)
	switch {
	case ch.state == "settled" || m.Now >= ch.undoEnds:
		return "expired"
	case ch.undone != never || len(live) == 0:
		return "used"
	}
	for _, o := range live {
		if o.state == "pending" {
			m.callOff(m.challenges[o.challenge])
		}
	}
	var made []*change
	for _, o := range live {
		o.undone = m.Now
		if o.state == "made" {
			o.state, made = "frozen", append(made, o)
		} else {
			o.state = "stopped"
		}
	}
	if ch.undone == never {
		ch.undone = m.Now
	}
	if len(made) > 0 {
		m.freeze(made)
	}
	for _, o := range live {
		m.takeUnconfirmed(o.account, o.new)
	}
	return fmt.Sprintf("taken back, with %d; in effect %t", len(live), len(made) > 0)
}

// freeze puts an account's addresses in doubt: those of changes that were made, and what was confirmed since.
func (m *Model) freeze(made []*change) {
	account := made[0].account
	m.endAll(account, -1)
	var doubtful []int
	for _, ch := range made {
		doubtful = append(doubtful, ch.old, ch.new)
	}
	for address := range Addresses {
		if s := m.addresses[holding{account, address}]; m.holds(account, address) && s.since >= made[0].made {
			doubtful = append(doubtful, address)
		}
	}
	var asked []int
	for _, address := range doubtful {
		if slices.Contains(asked, address) {
			continue
		}
		asked = append(asked, address)
		m.addresses[holding{account, address}] = &standing{is: "stale", since: m.Now, grace: never, asked: never,
			taken: true}
		m.begin(challenge{purpose: "reverify", account: account, address: address, link: true, known: -1}, "recheck")
	}
}

// decide settles a frozen account.
func (m *Model) decide(c Call) string {
	at := slices.IndexFunc(m.changes, func(ch *change) bool { return ch.account == c.Account && ch.state == "frozen" })
	if at < 0 {
		return "nothing pending"
	}
	first := m.changes[at]
	var settled []*change
	frozen := time.Duration(0)
	var doubtful []int
	for address := range Addresses {
		if s := m.addresses[holding{c.Account, address}]; s != nil && s.taken {
			doubtful = append(doubtful, address)
		}
	}
	for _, ch := range m.changes {
		if ch.account == c.Account && (ch.state == "frozen" || ch.state == "made" && ch.made >= first.made) {
			settled = append(settled, ch)
			doubtful = append(doubtful, ch.old, ch.new)
			frozen = max(frozen, ch.undone)
		}
	}
	proven := slices.ContainsFunc(m.challenges, func(o *challenge) bool {
		return o.account == c.Account && o.address == c.Address && o.state == "accepted" && o.accepted > frozen
	})
	switch {
	case !slices.Contains(doubtful, c.Address) || !proven:
		return "not confirmed"
	case m.taken(c.Account, c.Address):
		return "taken"
	}
	for _, ch := range m.changes {
		if ch.account == c.Account && (slices.Contains(settled, ch) || ch.state == "stopped") {
			ch.state = "settled"
		}
	}
	m.endAll(c.Account, -1)
	for _, address := range doubtful {
		if address != c.Address {
			delete(m.addresses, holding{c.Account, address})
			m.letGo(c.Account, address)
		}
	}
	m.confirm(c.Account, c.Address)
	for _, l := range m.letters {
		if l.account == c.Account && l.state == "held" && !l.recalled {
			l.state = "waiting"
		}
	}
	m.meet("a frozen account was settled")
	return "ok"
}

// release closes an account: everything that says who it is goes.
func (m *Model) release(c Call) string {
	if m.frozen(c.Account) {
		return "frozen"
	}
	var undoable []int
	for i, ch := range m.changes {
		if ch.account == c.Account && ch.state == "made" && m.Now < ch.undoEnds {
			undoable = append(undoable, i)
		}
	}
	switch {
	case len(undoable) > 0 && !c.Undoable:
		return "undoable"
	case c.End != Commit:
		return string(c.End)
	}
	m.endAll(c.Account, -1)
	for _, i := range undoable {
		m.addLetter(letter{kind: "account-closed", to: m.changes[i].old, challenge: -1, ends: never})
	}
	for _, ch := range m.changes {
		if ch.account == c.Account {
			ch.state = "settled"
		}
	}
	delete(m.registered, c.Account)
	for _, k := range m.known {
		k.gone = k.gone || k.account == c.Account
	}
	for address := range Addresses {
		delete(m.addresses, holding{c.Account, address})
		m.letGo(c.Account, address)
	}
	for _, l := range m.letters {
		if l.account == c.Account && l.account != 0 && l.waits() {
			l.state = "cancelled"
		}
	}
	return "ok"
}

// stale says that an address that works is not to be relied on: it works for two weeks more, and is asked again.
func (m *Model) stale(c Call) string {
	s := m.addresses[holding{c.Account, c.Address}]
	if s != nil && s.is != "stale" && (s.is == "confirmed" || s.is == "bounced" && s.grace != never) {
		*s = standing{is: "stale", since: m.Now, grace: m.Now + 14*day, asked: never}
	}
	return "ok"
}
