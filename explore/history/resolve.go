package history

import (
	"slices"

	"github.com/illumicode/illumicode/explore/model"
)

// resolve returns the call that a step is in the present state; not ok if there is nothing for it to choose.
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
