package config

import (
	"fmt"
	"slices"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/exposure"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/limit"
)

// Limit is a rule on how often letters can be asked for. One with the name of a default rule takes its
// place.
type Limit struct {
	Name     string     `toml:"name"`
	Off      bool       `toml:"off"` // the default rule of this name does not hold
	By       string     `toml:"by"`
	On       []string   `toml:"on"`
	Stage    string     `toml:"stage"`
	Medium   string     `toml:"medium"`
	New      bool       `toml:"new"`
	Rate     string     `toml:"rate"`
	Burst    *int       `toml:"burst"`
	Quota    string     `toml:"quota"`
	Zone     string     `toml:"zone"`
	Ladder   []Duration `toml:"ladder"`
	Decay    Duration   `toml:"decay"`
	Reserved float64    `toml:"reserved"`
	Observe  bool       `toml:"observe"`
}

// A LimitFrom is a rule and where it comes from.
type LimitFrom struct {
	limit.Rule
	From string // "default", or the file
}

// Limits returns the rules that hold: the default ones, but for those that the file switches off or
// replaces, then the file's own.
func (f *File) Limits() ([]LimitFrom, error) {
	var out []LimitFrom
	for _, r := range illumicode.DefaultLimits() {
		out = append(out, LimitFrom{r, "default"})
	}
	seen := make(map[string]bool)
	for i, l := range f.Limit {
		key := fmt.Sprintf("limit[%d]", i)
		if seen[l.Name] {
			return nil, f.wrong(key+".name", "is %q, like another's; names must differ", l.Name)
		}
		seen[l.Name] = true
		at := slices.IndexFunc(out, func(o LimitFrom) bool { return o.Name == l.Name })
		if l.Off {
			if at < 0 {
				return nil, f.wrong(key+".off",
					"is for default rules, and %q is none; `illumicode limits list` has their names", l.Name)
			}
			out = slices.Delete(out, at, at+1)
			continue
		}
		r, err := l.rule()
		if err == nil {
			_, err = judge.NewSet(r)
		}
		if err != nil {
			return nil, f.wrong(key, "%w", err)
		}
		if at >= 0 {
			out[at] = LimitFrom{r, f.path}
		} else {
			out = append(out, LimitFrom{r, f.path})
		}
	}
	return out, nil
}

// rules returns the same for a service.
func (f *File) rules() ([]limit.Rule, error) {
	all, err := f.Limits()
	rules := make([]limit.Rule, 0, len(all)) // not nil: without any, none hold
	for _, l := range all {
		rules = append(rules, l.Rule)
	}
	return rules, err
}

func (l Limit) rule() (limit.Rule, error) {
	r := limit.Rule{Name: l.Name, By: limit.Key(l.By), On: l.On, Stage: limit.Stage(l.Stage),
		Medium: limit.Medium(l.Medium), New: l.New, Reserved: l.Reserved, Observe: l.Observe}
	var err error
	if l.Rate != "" {
		if r.Rate, err = judge.ParseRate(l.Rate); err != nil {
			return r, err
		}
	}
	if l.Burst != nil {
		r.Rate.Burst = *l.Burst
	}
	if l.Quota != "" {
		if r.Quota, err = judge.ParseQuota(l.Quota); err != nil {
			return r, err
		}
	}
	if l.Zone != "" {
		if r.Quota.Zone, err = loadZone(l.Zone); err != nil {
			return r, err
		}
	}
	for _, rung := range l.Ladder {
		r.Ladder.Rungs = append(r.Ladder.Rungs, time.Duration(rung))
	}
	r.Ladder.Decay = time.Duration(l.Decay)
	return r, nil
}

// loadZone loads a time zone, whose calendar a quota goes by.
func loadZone(name string) (*time.Location, error) {
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("zone %q is no time zone; write it as Europe/Oslo", name)
	}
	return zone, nil
}

// Exposure returns what the report on the limits works with.
func (f *File) Exposure() (exposure.Input, error) {
	rules, err := f.rules()
	if err != nil {
		return exposure.Input{}, err
	}
	in := exposure.Input{Rules: rules}
	capped, bounded := true, true
	for _, p := range f.Provider {
		if p.SMS {
			in.SMS, in.SMSCost = true, max(in.SMSCost, p.Cost)
			in.SMSDay, in.SMSCountry = in.SMSDay+p.PerDay, in.SMSCountry+p.PerCountry
			capped, bounded = capped && p.PerDay > 0, bounded && p.PerCountry > 0
		}
	}
	if !capped {
		in.SMSDay = 0
	}
	if !bounded {
		in.SMSCountry = 0
	}
	set, err := f.LetterSet()
	if err != nil {
		return in, err
	}
	all, err := flow.Purposes(render.Of(set), flow.Policies{
		challenge.Signup: f.Signup.policy(), challenge.Reverify: f.Reverify.policy(),
		challenge.SignIn: f.SignIn.policy(), challenge.StepUp: f.StepUp.policy(),
	}, nil)
	in.Policies = make(map[string]challenge.Policy, len(all))
	for name, p := range all {
		in.Policies[name] = p.Policy
	}
	return in, err
}
