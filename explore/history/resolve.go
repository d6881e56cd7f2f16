package history

import (
	"fmt"
	"slices"

	"github.com/illumicode/illumicode/explore/model"
)

// resolve returns what a step comes to in the world as it is; not ok where it comes to nothing.
func resolve(m *model.Model, s Step) (model.Call, bool) {
	c := model.Call{Verb: s.Verb, Browser: pick(s.A, model.Browsers), Account: 1 + pick(s.B, model.Accounts),
		Address: pick(s.C, model.Addresses), Letter: -1, End: s.End, Fate: s.Fate, For: s.For}
	ok := true
	among := func(all []int, n int) int {
		if len(all) == 0 {
			ok = false
			return -1
		}
		return all[pick(n, len(all))]
	}
	switch s.Verb {
	case model.BeginSignup:
		c.Admission = among(m.Admissions(), s.D)
		if ok {
			c.Browser = m.BrowserOf(c.Admission)
		}
	case model.Prove:
		if fits := m.Fitting(c.Browser); len(fits) > 0 && s.D%4 != 0 {
			c.Letter = fits[pick(s.D, len(fits))]
		} else if all := m.WithCode(); len(all) > 0 && s.D%3 != 0 {
			c.Letter = all[pick(s.D, len(all))]
		}
	case model.ProveLink:
		c.Letter = among(m.WithLink(), s.D)
		if s.B%5 == 0 {
			c.Browser = -1
		}
	case model.Accept:
		if c.Proof = among(m.Proofs(), s.D); ok {
			c.Browser = m.ProvenIn(c.Proof)
		}
	case model.Undo:
		c.Letter = among(m.TellingOfChange(), s.D)
	case model.NotMe, model.RevokeByLink:
		c.Letter = among(m.WithChallenge(), s.D)
	case model.ResendByLink:
		c.Letter = among(m.WithLink(), s.D)
	case model.Tamper:
		c.Challenge, c.Undoable = among(m.Open(), s.D), s.C%2 == 0
	case model.EndRecall:
		c.Address = among(m.Recalled(), s.C)
	case model.Recall:
		ok = !slices.Contains(m.Recalled(), c.Address)
	case model.Elsewhere:
		c.Letter = among(m.SignIns(), s.D)
	case model.Deliver:
		c.Letter = among(m.Due(), s.D)
	case model.Notify, model.Cancel, model.Move:
		c.Key = 1 + pick(s.D, 2)
	}
	prefer(m, s, &c)
	return c, ok
}

// prefer has most steps be about what is there: an account's own address, a frozen account.
func prefer(m *model.Model, s Step, c *model.Call) {
	switch s.Verb {
	case model.StepUp, model.Change, model.Stale, model.Decide:
		if all := m.AddressesOf(c.Account); len(all) > 0 && s.D%5 != 0 {
			c.Address = all[pick(s.D, len(all))]
		}
		c.Other = pick(s.C, model.Addresses)
		if c.Other == c.Address {
			c.Other = pick(c.Address+1, model.Addresses)
		}
	case model.Steal:
		c.Other = pick(s.D, model.Browsers)
	case model.Release:
		c.Undoable = s.D%2 == 0
	}
}

func pick(n, of int) int {
	if n == latest {
		return of - 1
	}
	return n % of
}

// Say returns a call in words.
func Say(c model.Call) string {
	b, a := fmt.Sprintf("browser %d", c.Browser), fmt.Sprintf("account %d", c.Account)
	if c.Browser < 0 {
		b = "a browser that knows nothing"
	}
	switch c.Verb {
	case model.Pass:
		return fmt.Sprintf("%v pass", c.For)
	case model.Admit:
		return fmt.Sprintf("%s asks to register address %d", b, c.Address)
	case model.BeginSignup:
		return fmt.Sprintf("the application registers %s with admission %d, and %s", a, c.Admission, c.End)
	case model.Register:
		return fmt.Sprintf("%s registers address %d, for an account to be made", b, c.Address)
	case model.SignIn:
		return fmt.Sprintf("%s asks to sign in with address %d", b, c.Address)
	case model.StepUp:
		return fmt.Sprintf("%s of %s asks for a step-up at address %d", b, a, c.Address)
	case model.Prove:
		if c.Letter < 0 {
			return b + " types a code of no letter"
		}
		return fmt.Sprintf("%s types the code of letter %d", b, c.Letter)
	case model.ProveLink:
		return fmt.Sprintf("%s opens the link of letter %d", b, c.Letter)
	case model.Accept:
		return fmt.Sprintf("the application accepts proof %d, and %s", c.Proof, c.End)
	case model.Resend:
		return b + " asks for its letter again"
	case model.Change:
		return fmt.Sprintf("%s of %s asks to change address %d to %d", b, a, c.Address, c.Other)
	case model.Steal:
		return fmt.Sprintf("%s gets the cookies of browser %d", b, c.Other)
	case model.Correct:
		return fmt.Sprintf("%s corrects the address to %d", b, c.Address)
	case model.Elsewhere:
		return fmt.Sprintf("%s begins a sign-in with the link of letter %d", b, c.Letter)
	case model.Custom:
		return fmt.Sprintf("%s is asked to prove address %d of %s for a purpose of the application's, which %s", b,
			c.Address, a, c.End)
	}
	return sayWithoutBrowser(c, a)
}

// sayWithoutBrowser says what nobody does in a browser.
func sayWithoutBrowser(c model.Call, a string) string {
	switch c.Verb {
	case model.Undo:
		return fmt.Sprintf("the reader of letter %d takes the change back", c.Letter)
	case model.Decide:
		return fmt.Sprintf("an operator decides that %s keeps address %d", a, c.Address)
	case model.Release:
		return fmt.Sprintf("the application closes %s (even if a change can be taken back: %t), and %s", a, c.Undoable,
			c.End)
	case model.NotMe:
		return fmt.Sprintf("the reader of letter %d says that it was somebody else", c.Letter)
	case model.Revoke:
		return a + " forgets its browsers"
	case model.Stale:
		return fmt.Sprintf("the application doubts address %d of %s", c.Address, a)
	case model.Notify:
		return fmt.Sprintf("the application writes to %s under key %d", a, c.Key)
	case model.Cancel:
		return fmt.Sprintf("the application cancels key %d", c.Key)
	case model.ResendByLink:
		return fmt.Sprintf("the reader of letter %d asks for it again", c.Letter)
	case model.RevokeByLink:
		return fmt.Sprintf("the reader of letter %d makes all browsers unknown", c.Letter)
	case model.Suppress:
		return fmt.Sprintf("an operator keeps letters from address %d", c.Address)
	case model.Restore:
		return fmt.Sprintf("an operator lets letters go to address %d again", c.Address)
	case model.Tamper:
		return fmt.Sprintf("somebody writes to the row of challenge %d", c.Challenge)
	case model.Recall:
		return fmt.Sprintf("an operator calls letters to address %d back", c.Address)
	case model.EndRecall:
		return fmt.Sprintf("an operator lets recalled letters go to address %d", c.Address)
	case model.Vouch:
		return fmt.Sprintf("an operator confirms address %d for %s", c.Address, a)
	case model.Move:
		return fmt.Sprintf("the application moves key %d to %v later", c.Key, c.For)
	case model.Deliver:
		return fmt.Sprintf("a worker tries letter %d, and the provider %s", c.Letter, c.Fate)
	case model.Care:
		return "a worker does what time asks for"
	}
	return "an operator rotates the keys"
}
