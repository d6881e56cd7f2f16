package model

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// A Model is the state of the world in one history. People, browsers, addresses and accounts are numbers from 0 on; an
// account of 0 is none. Times are since the beginning of the history.
type Model struct {
	Now time.Duration

	browsers   []browser
	admissions []admission
	challenges []*challenge
	changes    []*change
	proofs     []proof
	known      []*known
	letters    []*letter

	addresses  map[holding]*standing
	holders    map[int]int // of a mailbox: the account
	registered map[int]registration
	wrong      map[int]wrong // wrong codes at a mailbox
	lag        map[int]wrong // the same before calls that are made at once; nil where there are none
	spent      map[string]time.Duration
	suppressed map[int]bool
	recalled   map[int]bool // addresses that letters are called back from

	lastFate Fate // of the last letter that a provider was given

	Covered map[string]int // which situations were met, by their names
	Done    int            // calls
}

// never is no time.
const never = time.Duration(-1)

// How many there are.
const (
	Browsers  = 3
	Addresses = 4
	Accounts  = 3 // from 1 on
)

// A browser is where somebody sits: its cookies.
type browser struct {
	ticket int // the challenge whose ticket it has; -1 for none
	known  int // the known browser that it says it is; -1 for none
}

type holding struct{ account, address int }

// A standing is how an address stands for an account.
type standing struct {
	is    string // unconfirmed, confirmed, stale or bounced
	since time.Duration
	grace time.Duration // until when it works nevertheless; never for no grace
	asked time.Duration
	taken bool // in doubt since a change was taken back
}

// A registration says which browser has registered an account, and whether another has.
type registration struct {
	by        int // the challenge whose ticket it had
	contested bool
}

// wrong is how many wrong codes there were, each counting half after an hour.
type wrong struct {
	count float64
	at    time.Duration
}

// New returns a world in which nothing has happened.
func New() *Model {
	m := &Model{addresses: map[holding]*standing{}, holders: map[int]int{}, registered: map[int]registration{},
		wrong: map[int]wrong{}, spent: map[string]time.Duration{}, suppressed: map[int]bool{}, recalled: map[int]bool{},
		Covered: map[string]int{}}
	for range Browsers {
		m.browsers = append(m.browsers, browser{-1, -1})
	}
	return m
}

// meet counts a situation.
func (m *Model) meet(situation string) { m.Covered[situation]++ }

// State returns what of the world everybody agrees on: what an application, an operator or a reader can see.
func (m *Model) State() []string {
	var out []string
	for account := 1; account <= Accounts; account++ {
		out = append(out, m.account(account)...)
	}
	for address := range Addresses {
		if holder := m.holders[address]; holder != 0 {
			out = append(out, fmt.Sprintf("address %d is held by account %d", address, holder))
		}
	}
	for i, c := range m.challenges {
		out = append(out, fmt.Sprintf("challenge %d is %s, %d tries spent, rung %d, code %d", i, c.state, c.tries,
			c.resends, c.generation))
	}
	for i, l := range m.letters {
		out = append(out, fmt.Sprintf("letter %d, %s to address %d: %s after %d tries", i, l.kind, l.to, l.state,
			l.attempts))
	}
	return out
}

func (m *Model) account(account int) (out []string) {
	relied := "none"
	if a := m.relied(account); a >= 0 {
		relied = fmt.Sprint(a)
	}
	browsers := 0
	for _, k := range m.known {
		if k.account == account && !k.gone {
			browsers++
		}
	}
	var has []string
	for address := range Addresses {
		if s := m.addresses[holding{account, address}]; s != nil {
			has = append(has, fmt.Sprintf("%d %s", address, s.is))
		}
	}
	if len(has) > 0 || browsers > 0 {
		out = append(out, fmt.Sprintf("account %d has %s; works: %s; known browsers: %d", account,
			strings.Join(has, ", "), relied, browsers))
	}
	for _, c := range m.changes {
		if c.account == account {
			out = append(out, fmt.Sprintf("account %d: change from %d to %d is %s", account, c.old, c.new, c.state))
		}
	}
	return out
}

// relied returns the address of an account that works: the latest that is confirmed, or in its time of grace. -1 is
// none, as for a frozen account.
func (m *Model) relied(account int) int {
	best := -1
	if m.frozen(account) {
		return best
	}
	for address := range Addresses {
		s := m.addresses[holding{account, address}]
		if s == nil || s.is != "confirmed" && s.grace <= m.Now {
			continue
		}
		if best < 0 || s.since > m.addresses[holding{account, best}].since {
			best = address
		}
	}
	return best
}

// frozen reports whether a change of an account's address was taken back after it was made, and nobody has decided.
func (m *Model) frozen(account int) bool {
	return slices.ContainsFunc(m.changes, func(c *change) bool { return c.account == account && c.state == "frozen" })
}

// holds reports whether an account has an address that it has once proven.
func (m *Model) holds(account, address int) bool {
	return m.addresses[holding{account, address}] != nil && !m.is(account, address, "unconfirmed")
}

// owner returns the account that may sign in with an address, 0 for none.
func (m *Model) owner(address int) int {
	holder := m.holders[address]
	if holder == 0 || !m.holds(holder, address) || m.frozen(holder) {
		return 0
	}
	return holder
}

// confirm makes an address an account's.
func (m *Model) confirm(account, address int) {
	m.holders[address] = account
	m.addresses[holding{account, address}] = &standing{is: "confirmed", since: m.Now, grace: never, asked: never}
}

// taken reports whether another account holds an address.
func (m *Model) taken(account, address int) bool {
	return m.holders[address] != 0 && m.holders[address] != account
}

// takeUnconfirmed takes an address from an account that has not confirmed it.
func (m *Model) takeUnconfirmed(account, address int) {
	if m.is(account, address, "unconfirmed") {
		delete(m.addresses, holding{account, address})
	}
}

// is reports whether an account has an address that stands so.
func (m *Model) is(account, address int, how string) bool {
	s := m.addresses[holding{account, address}]
	return s != nil && s.is == how
}

// endAll ends what is open of an account: at one address, or at all, which is -1.
func (m *Model) endAll(account, address int) {
	for _, c := range m.challenges {
		if c.account == account && (address < 0 || c.address == address) {
			m.callOff(c)
		}
	}
}

// letGo lets others hold a mailbox, unless the account has the address again.
func (m *Model) letGo(account, address int) {
	if m.holders[address] == account && !m.holds(account, address) {
		delete(m.holders, address)
	}
}
