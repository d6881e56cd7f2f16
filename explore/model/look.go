package model

import "slices"

// What a history chooses among.

// Admissions are those for signups, used or not.
func (m *Model) Admissions() []int {
	return count(len(m.admissions), func(i int) bool { return !m.admissions[i].custom })
}

// BrowserOf is the browser that has an admission.
func (m *Model) BrowserOf(admission int) int { return m.admissions[admission].browser }

// Proofs are those that there are.
func (m *Model) Proofs() []int { return count(len(m.proofs), func(int) bool { return true }) }

// AddressesOf are the addresses of an account, confirmed or not.
func (m *Model) AddressesOf(account int) []int {
	return count(Addresses, func(address int) bool { return m.addresses[holding{account, address}] != nil })
}

// Fitting are the letters whose code is of the challenge that a browser has the ticket of.
func (m *Model) Fitting(browser int) []int {
	return m.lettersWith(func(l *letter) bool { return l.code && l.out && l.challenge == m.ticketOf(browser) })
}

// WithCode are the letters that arrived with a code.
func (m *Model) WithCode() []int {
	return m.lettersWith(func(l *letter) bool { return l.code && l.out })
}

// WithLink are the letters that arrived with a link that proves.
func (m *Model) WithLink() []int {
	return m.lettersWith(func(l *letter) bool { // that of a step-up has a code alone
		return l.challenge >= 0 && l.out && m.challenges[l.challenge].purpose != "stepup"
	})
}

// WithChallenge are the letters that arrived with a link that says "this was not me".
func (m *Model) WithChallenge() []int {
	return m.lettersWith(func(l *letter) bool { return l.challenge >= 0 && l.out })
}

// TellingOfChange are the letters that arrived with a link that takes a change back.
func (m *Model) TellingOfChange() []int {
	return m.lettersWith(func(l *letter) bool { return l.change > 0 && l.out })
}

func (m *Model) lettersWith(is func(*letter) bool) []int {
	return count(len(m.letters), func(i int) bool { return is(m.letters[i]) })
}

func count(n int, is func(int) bool) (all []int) {
	for i := range n {
		if is(i) {
			all = append(all, i)
		}
	}
	return all
}

// Interesting says which verbs go on with what there is, and how much they are worth.
func (m *Model) Interesting() map[Verb]int {
	out := map[Verb]int{SignIn: 2, Pass: 2}
	worth := func(is bool, verb Verb, n int) {
		if is {
			out[verb] += n
		}
	}
	worth(len(m.Due()) > 0, Deliver, 8)
	worth(len(m.Readers()) > 0, Prove, 12)
	worth(len(m.Waiting()) > 0, Resend, 3)
	worth(len(m.WithLink()) > 0, ProveLink, 4)
	worth(len(m.Acceptable()) > 0, Accept, 20)
	worth(len(m.TellingOfChange()) > 0, Undo, 5)
	worth(len(m.Frozen()) > 0, Decide, 6)
	worth(len(m.Frozen()) > 0, ProveLink, 6)
	worth(len(m.Frozen()) > 0, BeginSignup, 3)
	worth(len(m.Living()) > 0, Change, 4)
	worth(len(m.Living()) > 0, StepUp, 3)
	worth(len(m.Living()) > 0, Release, 1)
	worth(len(m.Living()) > 0, Stale, 1)
	worth(len(m.known) > 0, Revoke, 1)
	worth(len(m.known) > 0, RevokeByLink, 1)
	worth(len(m.SignIns()) > 0, Elsewhere, 3)
	worth(len(m.Waiting()) > 0, Correct, 2)
	worth(len(m.WithLink()) > 0, ResendByLink, 1)
	worth(len(m.Recalled()) > 0, EndRecall, 3)
	return out
}

// SignIns are the letters of sign-ins that arrived.
func (m *Model) SignIns() []int {
	return m.lettersWith(func(l *letter) bool {
		return l.challenge >= 0 && l.out && m.challenges[l.challenge].purpose == "signin"
	})
}

// Open are the challenges that are open.
func (m *Model) Open() []int {
	return count(len(m.challenges), func(i int) bool {
		return m.challenges[i].state == "open" &&
			!m.challenges[i].tampered
	})
}

// Recalled are the addresses that letters are called back from.
func (m *Model) Recalled() []int { return count(Addresses, func(a int) bool { return m.recalled[a] }) }

// Waiting are the browsers that wait for a letter, or have one.
func (m *Model) Waiting() []int {
	return count(Browsers, func(b int) bool {
		return m.ticketOf(b) >= 0 &&
			m.challenges[m.ticketOf(b)].state == "open"
	})
}

// Acceptable are the proofs whose challenges are open.
func (m *Model) Acceptable() []int {
	return count(len(m.proofs), func(i int) bool { return m.challenges[m.proofs[i].challenge].state == "open" })
}

// ProvenIn is the browser that a proof came from; -1 for none that is known.
func (m *Model) ProvenIn(proof int) int { return m.proofs[proof].browser }

// Readers are the browsers that wait and whose code has arrived.
func (m *Model) Readers() []int {
	return slices.DeleteFunc(m.Waiting(), func(b int) bool {
		return len(m.Fitting(b)) == 0 || !m.alive(m.challenges[m.ticketOf(b)])
	})
}

// Frozen are accounts with a change that was taken back, about which nobody has decided.
func (m *Model) Frozen() (all []int) {
	return slices.DeleteFunc([]int{1, 2, 3}, func(account int) bool { return !m.frozen(account) })
}

// Living are the accounts that have an address that works.
func (m *Model) Living() (all []int) {
	return slices.DeleteFunc([]int{1, 2, 3}, func(account int) bool { return m.relied(account) < 0 })
}

// Held are the addresses that an account has.
func (m *Model) Held() []int {
	return count(Addresses, func(address int) bool { return m.holders[address] != 0 })
}
