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

	// What all providers of SMS together take in a day, in all and to one country; 0 for no cap.
	SMSDay, SMSCountry int
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
	add(in.allKinds())
	out = append(out, in.doors()...)
	for _, f := range in.oneChallenge() {
		add(f)
	}
	if f, any := in.confirmingOthers(); any {
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
		f := b.figure(row.about+", by a million strangers, "+within(day), "")
		most := in.SMSDay
		if row.about == "texts to one country" {
			most = in.SMSCountry
		}
		// a day of the calendar can be used up on both sides of midnight
		if at := int64(2 * most); most > 0 && at < b.n {
			b.n = at
			f.Value, f.Number = count(at), float64(at)
			f.Because = fmt.Sprintf("the providers' caps let %d through in a day, which strangers do not notice", most)
		}
		f.Warning = warnIf(b.n == judge.NoBound,
			"nothing bounds it, and an open form is an open bill: give the providers "+
				"of SMS per_country and per_day")
		add(f)
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
			covers := !r.Observe && r.Stage != limit.Wrong && slices.Contains(by, r.By) &&
				(r.Medium == "" || r.Medium == m) &&
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

// wrongs returns how many wrong codes one network can send in 24 hours, and the rule that says so.
func (in Input) wrongs() (n int64, why string) {
	n, why = judge.NoBound, "no rule counts wrong codes by network"
	for _, r := range in.Rules {
		if r.Stage != limit.Wrong || r.Observe || len(r.On) > 0 {
			continue
		}
		if most := judge.Most(r, day); most < n {
			n, why = most, fmt.Sprintf("%s (%s) lets %s wrong codes through", r.Name, r, count(most))
		}
	}
	return n, why
}

// fromNetwork returns how many guesses one network has at codes of some purposes, with all tries of every challenge.
func (in Input) fromNetwork(purposes ...string) (n int64, because string) {
	for _, purpose := range purposes {
		n = saturated(n, saturate(in.firsts(purpose, limit.Network), int64(in.Policies[purpose].Tries)))
	}
	because = fmt.Sprintf("%s tries of the challenges that one network can begin", count(n))
	if wrong, why := in.wrongs(); wrong < n {
		return wrong, why
	}
	return n, because
}

func saturated(a, b int64) int64 {
	if a >= judge.NoBound || b >= judge.NoBound {
		return judge.NoBound
	}
	return a + b
}

// confirmingOthers returns the chance to confirm addresses that are somebody else's, at signups and changes of many.
func (in Input) confirmingOthers() (f Figure, any bool) {
	var purposes []string
	digits := 0
	for _, purpose := range []string{challenge.Signup, challenge.Reverify} {
		if slices.Contains(in.purposes(), purpose) {
			purposes, digits = append(purposes, purpose), max(digits, in.Policies[purpose].Digits)
		}
	}
	if len(purposes) == 0 {
		return f, false
	}
	const networks = 20
	each, why := in.fromNetwork(purposes...)
	all := saturate(each, networks)
	f = guessed(challenge.Policy{Digits: digits}, strings.Join(purposes, ", ")+
		": somebody with twenty networks confirms any address that is not theirs, in 24 hours", all,
		fmt.Sprintf("%d × %s × 2 / 10^%d: %s", networks, count(each), digits, why), "")
	if f.Number > sprayOdds {
		f.Warning = "worse than 1 in 10, which is our own recommendation: give a rule on wrong codes by network"
	}
	return f, true
}

// allKinds returns the most letters to one address, summed over all purposes and side letters.
func (in Input) allKinds() Figure {
	const about = "mail to one address, of every kind, by strangers and its own account together, in 24 hours"
	strangers := in.bound(limit.Mail, limit.All, limit.Address, limit.Kind, limit.Subject, limit.Domain)(day)
	if strangers.n == judge.NoBound {
		return strangers.figure(about, "")
	}
	fair := int64(judge.MostFair(judge.FairPlaces))
	const known, changes = 10, 2
	total := fair + 3*strangers.n + known + changes*strangers.n
	return Figure{About: about, Value: count(total), Number: float64(total), Because: fmt.Sprintf(
		"%s for strangers, %d for networks that have had few, twice as many as for strangers by the links of "+
			"sign-ins' "+
			"letters and by its known browsers, %d of these browsers' own, and %d for every change of address that "+
			"is made",
		count(strangers.n), fair, known, changes)}
}

// knownBrowsers returns the chance of whoever has the cookie of a known browser.
func (in Input) knownBrowsers(p challenge.Policy) Figure {
	const tries = knownTries + sharedTries
	return guessed(p, "signin: whoever has the cookie of a known browser guesses their way in, in 24 hours", tries,
		fmt.Sprintf("%d tries of its own and %d that all of an account share × 2 / 10^%d", knownTries, sharedTries,
			p.Digits), "")
}

// The tries of known browsers in a day: what package illumicode spends.
const (
	knownTries  = 3
	sharedTries = 20
)

// signingIn returns what somebody gets who guesses at sign-ins all day.
func (in Input) signingIn() (out []Figure) {
	const purpose = challenge.SignIn
	p, warn := in.Policies[purpose], ""
	odds := func(about string, guesses int64, because, warning string) Figure {
		return guessed(p, purpose+": "+about, guesses, because, warning)
	}
	firsts, fair := in.firsts(purpose, limit.Address), int64(judge.MostFair(judge.FairPlaces))
	tries := Guesses(p, firsts) + fair
	if tries > maxFailures {
		warn = fmt.Sprintf("%s guesses a day; %s", count(tries), failuresBy)
	}
	out = append(out, odds("a stranger guesses their way into one account, in 24 hours", tries,
		fmt.Sprintf("%s challenges, and %d with one try for networks that have had few, let %s tries, as failures "+
			"leave "+
			"fewer for each; × 2 / 10^%d", count(firsts), fair, count(tries), p.Digits), warn))
	accounts, why := in.fromNetwork(purpose)
	out = append(out, in.knownBrowsers(p),
		odds("somebody at one network gets into any account, with all guesses at each, in 24 hours", accounts,
			fmt.Sprintf("%s × 2 / 10^%d: %s", count(accounts), p.Digits, why), ""))
	const networks = 1000
	many := odds("somebody with a thousand networks does", saturate(accounts, networks),
		fmt.Sprintf("%s × %s × 2 / 10^%d", count(networks), count(accounts), p.Digits), "")
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
		if r.Stage == limit.Wrong {
			continue
		}
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
