// Package exposure works out, from configuration alone, the worst that strangers can do with forms that
// send letters and take codes: [Report] is the function to read first.
//
// All figures are upper bounds, and each comes with the arithmetic that led to it. They concern what
// the rules let through; the waits of single challenges make less of it.
package exposure

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/limit"
)

// An Input is the configuration that matters.
type Input struct {
	Rules    []limit.Rule
	Policies map[string]challenge.Policy // of every purpose, with their defaults
	SMS      bool                        // a provider carries SMS
	SMSCost  float64                     // of the dearest provider, in whatever currency; 0 if not known
}

// A Figure is one line of the report.
type Figure struct {
	About   string // who can do it, and what
	Value   string
	Because string  // the arithmetic
	Number  float64 // the value, for comparing
	Warning string  // empty, or what is worse than recommended, and by whom
}

const day = 24 * time.Hour

// What is recommended, and by whom.
const (
	maxFailures = 100 // consecutive, of one account
	failuresBy  = "NIST SP 800-63B §5.2.2: at most 100 failed attempts in a row at one account"
	oddsBy      = "RFC 4226 §6 has the formula: tries times accepted values, over 10 to the digits"
	maxCodeLife = 10 * time.Minute
	sprayOdds   = 0.1 // of one guess at each of very many accounts
	codeLifeBy  = "NIST SP 800-63B §5.1.3.2: a secret sent out of band is good for 10 minutes at most"
)

// NoClaim is what must be said beside the figures.
const NoClaim = "Figures beside a recommendation claim no conformance: a code by mail is not an out-of-band " +
	"authenticator in NIST SP 800-63B (§5.1.3.1), and failures slow guessing down here without ever locking an account."

// Report returns the figures, in the order in which somebody who reviews the configuration asks.
func Report(in Input) []Figure {
	var out []Figure
	add := func(f Figure) { out = append(out, f) }
	one := in.bound(limit.Mail, limit.All, limit.Address, limit.Kind, limit.Subject, limit.Domain)
	for _, d := range []time.Duration{time.Hour, day} {
		b := one(d)
		add(b.figure("mail to one address, by any number of strangers, "+within(d),
			warnIf(b.n == judge.NoBound, "nothing bounds it: give a rule by address")))
	}
	network := in.bound(limit.Mail, limit.All, limit.Network)
	for _, d := range []time.Duration{time.Hour, day} {
		b := network(d)
		add(b.figure("mail to any addresses, by one stranger at one network, "+within(d),
			warnIf(b.n == judge.NoBound, "nothing bounds it: give a rule by network")))
	}
	fresh := in.fresh(limit.Mail)(day)
	add(fresh.figure("mail to addresses that nobody has confirmed, by a million strangers, "+within(day),
		warnIf(fresh.n == judge.NoBound,
			"nothing bounds it: a form that anybody can fill in sends to anybody; give a rule by all with new = true")))
	if in.SMS {
		out = append(out, in.texts()...)
	}
	for _, f := range in.oneChallenge() {
		add(f)
	}
	if _, codes := in.Policies[challenge.SignIn]; codes && slices.Contains(in.purposes(), challenge.SignIn) {
		for _, f := range in.signingIn() { // of the others only who is signed in, or signs up, can begin one
			add(f)
		}
	}
	return out
}

// warnIf returns words if something is bad.
func warnIf(bad bool, words string) string {
	if bad {
		return words
	}
	return ""
}

// texts returns what bounds texts, and their cost.
func (in Input) texts() (out []Figure) {
	add := func(f Figure) { out = append(out, f) }
	for _, row := range []struct {
		about string
		by    []limit.Key
	}{
		{"texts to one number", []limit.Key{limit.All, limit.Address, limit.Kind, limit.Subject, limit.Domain}},
		{"texts to one country", []limit.Key{limit.All, limit.Domain}},
		{"texts in all", []limit.Key{limit.All}},
	} {
		b := in.bound(limit.SMS, row.by...)(day)
		add(b.figure(row.about+", by a million strangers, "+within(day),
			warnIf(b.n == judge.NoBound, "nothing bounds it: an open form is an open bill")))
		if row.about != "texts in all" {
			continue
		}
		money := Figure{About: "money for texts, " + within(day), Value: "not known",
			Because: "no provider that carries SMS has a cost",
			Warning: "give the providers of SMS a cost, so that this can be said"}
		if in.SMSCost > 0 && b.n != judge.NoBound {
			sum := float64(b.n) * in.SMSCost
			money = Figure{About: money.About, Value: fmt.Sprintf("%.2f", sum), Number: sum,
				Because: fmt.Sprintf("%s texts × %.4g for one", count(b.n), in.SMSCost)}
		}
		add(money)
	}
	return out
}

func within(d time.Duration) string {
	if d == time.Hour {
		return "in an hour"
	}
	return "in 24 hours"
}

// purposes returns those whose letters carry codes, sorted.
func (in Input) purposes() []string {
	var all []string
	for name, p := range in.Policies {
		if p.Forms.Has(challenge.Code) {
			all = append(all, name)
		}
	}
	slices.Sort(all)
	return all
}

// A bound is the most that rules let through, and which of them say so.
type bound struct {
	n     int64
	rules []limit.Rule
	d     time.Duration
}

func (b bound) figure(about, warning string) Figure {
	f := Figure{About: about, Value: "any number", Number: math.Inf(1), Because: "no rule", Warning: warning}
	if b.n == judge.NoBound {
		return f
	}
	var why []string
	for _, r := range b.rules {
		why = append(why, fmt.Sprintf("%s (%s) lets %s through", r.Name, r, count(judge.Most(r, b.d))))
	}
	f.Value, f.Number, f.Because = count(b.n), float64(b.n), strings.Join(why, "; together they make the sum")
	return f
}

// bound returns a function for the most letters that rules by some keys let through in a time, of all
// purposes and stages together.
func (in Input) bound(m limit.Medium, by ...limit.Key) func(d time.Duration) bound {
	return func(d time.Duration) bound { return in.most(m, d, in.allPurposes(), by, false) }
}

// fresh is bound for letters to addresses that nobody need have confirmed.
func (in Input) fresh(m limit.Medium) func(d time.Duration) bound {
	return func(d time.Duration) bound {
		all := slices.DeleteFunc(in.allPurposes(), func(p string) bool {
			return p == challenge.SignIn ||
				p == challenge.StepUp
		})
		return in.most(m, d, all, []limit.Key{limit.All}, true)
	}
}

func (in Input) allPurposes() []string {
	var all []string
	for name := range in.Policies {
		all = append(all, name)
	}
	slices.Sort(all)
	return all
}

// most is the smallest of what rules say that cover all purposes, and of the sum of what they say of
// each.
func (in Input) most(m limit.Medium, d time.Duration, purposes []string, by []limit.Key, fresh bool) bound {
	tightest := func(purposes []string, stages ...limit.Stage) bound {
		best := bound{n: judge.NoBound, d: d}
		for _, r := range in.Rules {
			covers := !r.Observe && slices.Contains(by, r.By) && (r.Medium == "" || r.Medium == m) &&
				(!r.New || fresh) && (r.Stage == "" || len(stages) == 1 && r.Stage == stages[0])
			for _, p := range purposes {
				covers = covers && (len(r.On) == 0 || slices.Contains(r.On, p))
			}
			if n := judge.Most(r, d); covers && n < best.n {
				best.n, best.rules = n, []limit.Rule{r}
			}
		}
		return best
	}
	best := tightest(purposes)
	sum := bound{d: d}
	for _, p := range purposes {
		part := tightest([]string{p})
		if apart := plus(tightest([]string{p}, limit.First), tightest([]string{p}, limit.Again)); apart.n < part.n {
			part = apart
		}
		sum = plus(sum, part)
	}
	if sum.n < best.n {
		return sum
	}
	return best
}

// plus adds two bounds; that of nothing plus anything is the latter.
func plus(a, b bound) bound {
	if a.n == judge.NoBound || b.n == judge.NoBound {
		return bound{n: judge.NoBound, d: b.d}
	}
	out := bound{n: a.n + b.n, rules: slices.Clone(a.rules), d: b.d}
	for _, r := range b.rules {
		if !slices.ContainsFunc(out.rules, func(o limit.Rule) bool { return o.Name == r.Name }) {
			out.rules = append(out.rules, r)
		}
	}
	return out
}

// guessed returns the chance of so many guesses, each of which is compared with two codes at most.
func guessed(p challenge.Policy, about string, guesses int64, because, warning string) Figure {
	chance := 1 - math.Pow(1-2/math.Pow10(p.Digits), float64(guesses))
	return Figure{About: about, Value: percent(chance), Number: chance, Because: because, Warning: warning}
}

// oneChallenge returns what a code is worth, purposes with the same policy together.
func (in Input) oneChallenge() (out []Figure) {
	for _, purpose := range in.purposes() {
		p, warn := in.Policies[purpose], ""
		if p.CodeLife > maxCodeLife {
			warn = fmt.Sprintf("a code is good for %v; %s", p.CodeLife, codeLifeBy)
		}
		f := guessed(p, "a stranger guesses the code of one challenge", int64(p.Tries),
			fmt.Sprintf("%d tries × 2 / 10^%d (%d digits, compared with 2 codes at most; %s)", p.Tries, p.Digits,
				p.Digits, oddsBy), warn)
		same := slices.IndexFunc(out, func(o Figure) bool { return o.Because == f.Because && o.Warning == f.Warning })
		if same < 0 {
			f.About = purpose + ": " + f.About
			out = append(out, f)
		} else {
			out[same].About = purpose + ", " + out[same].About
		}
	}
	return out
}

// signingIn returns what somebody gets who guesses at sign-ins all day.
func (in Input) signingIn() (out []Figure) {
	const purpose = challenge.SignIn
	p, warn := in.Policies[purpose], ""
	odds := func(about string, guesses int64, because, warning string) Figure {
		return guessed(p, purpose+": "+about, guesses, because, warning)
	}
	firsts := in.firsts(purpose, limit.Address)
	tries := Guesses(p, firsts)
	if tries > maxFailures {
		warn = fmt.Sprintf("%s guesses a day; %s", count(tries), failuresBy)
	}
	out = append(out, odds("a stranger guesses their way into one account, in 24 hours", tries,
		fmt.Sprintf("%s challenges let %s tries, as failures leave fewer for each; × 2 / 10^%d", count(firsts),
			count(tries), p.Digits), warn))
	accounts := in.firsts(purpose, limit.Network)
	out = append(out, odds("somebody at one network gets into any account by one guess at each, in 24 hours", accounts,
		fmt.Sprintf("%s challenges from one network × 2 / 10^%d", count(accounts), p.Digits), ""))
	const networks = 1000
	many := odds("somebody with a thousand networks does", saturate(accounts, networks),
		fmt.Sprintf("%s × %s challenges × 2 / 10^%d", count(networks), count(accounts), p.Digits), "")
	if many.Number > sprayOdds {
		many.Warning = fmt.Sprintf(
			"worse than 1 in 10, which is our own recommendation: no rule can bound sign-ins in all, as whoever "+
				"used it up would lock everybody out; with digits = %d it is %s", p.Digits+2,
			percent(1-math.Pow(1-2/math.Pow10(p.Digits+2), float64(saturate(accounts, networks)))))
	}
	out = append(out, many)
	return out
}

func saturate(a, b int64) int64 {
	if a > judge.NoBound/b {
		return judge.NoBound
	}
	return a * b
}

// firsts returns how many challenges of a purpose can begin in 24 hours under one key.
func (in Input) firsts(purpose string, by limit.Key) int64 {
	n := judge.NoBound
	for _, r := range in.Rules {
		keyed := r.By == by || by == limit.Address && r.By == limit.Subject || r.By == limit.All
		if keyed && !r.Observe && !r.New && r.Stage != limit.Again && r.Medium != limit.SMS &&
			(len(r.On) == 0 || slices.Contains(r.On, purpose)) {
			n = min(n, judge.Most(r, day))
		}
	}
	if by == limit.Address { // at most so many are open at a time, each for one and a half lives of its code
		places := int64(proof.MaxOpen) * (1 + int64(day/(in.Policies[purpose].CodeLife*3/2)))
		n = min(n, places)
	}
	return n
}

// Guesses returns how many tries somebody gets in 24 hours who may begin n challenges of unknown browsers
// at one address, spreads them evenly, which lets the most failures fade, and fails in all.
func Guesses(p challenge.Policy, n int64) (tries int64) {
	var failures proof.Record
	at := time.Unix(0, 0)
	for range min(n, 100000) {
		for range proof.TriesAfter(p, failures.Count(at)) {
			failures = failures.Failed(at)
			tries++
		}
		at = at.Add(day / time.Duration(n))
	}
	return tries
}

// count writes a number with thin groups: 20,000.
func count(n int64) string {
	if n >= judge.NoBound {
		return "any number of"
	}
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// percent writes a chance as percent, and as one in so many where it is small.
func percent(p float64) string {
	switch {
	case p >= 0.01:
		return fmt.Sprintf("%.1f %%", 100*p)
	case p > 0:
		return "1 in " + count(int64(math.Round(1/p)))
	}
	return "none"
}
