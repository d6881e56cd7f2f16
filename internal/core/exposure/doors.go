package exposure

import (
	"fmt"
	"slices"
	"time"

	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/limit"
)

// doors returns how many networks it takes to use up what each rule for everybody leaves to strangers.
func (in Input) doors() (out []Figure) {
	one := in.bound(limit.Mail, limit.Network)
	for _, r := range in.Rules {
		if r.Observe || r.By != limit.All && r.By != limit.Kind && r.By != limit.Domain ||
			slices.Contains(r.On, judge.Told) {
			continue
		}
		d := day
		if r.Rate.Times > 0 {
			d = time.Hour
		}
		left, each := judge.MostOpen(r, d), one(d).n
		f := Figure{About: fmt.Sprintf("networks that shut %q for strangers, %s", r.Name, within(d)), Value: "1",
			Number:  1,
			Because: "no rule by network bounds what one takes"}
		if each < judge.NoBound {
			n := (left + each - 1) / each
			f.Value, f.Number = count(n), float64(n)
			f.Because = fmt.Sprintf(
				"it leaves %s to strangers, of which one network takes %s; %.0f %% stay for known browsers, "+
					"sessions and who is vouched for", count(left), count(each), 100*r.Reserved)
		}
		f.Warning = warnIf(r.Reserved == 0, "nothing is reserved: whoever uses it up shuts everybody out; give it a "+
			"reserved share")
		out = append(out, f)
	}
	return out
}
