package outbox

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

// A Mode is what a guard lets out.
type Mode string

// The modes.
const (
	Live    Mode = "live"    // everything
	Allow   Mode = "allow"   // only to the listed domains; the rest is held
	Hold    Mode = "hold"    // nothing: all goes on waiting
	Capture Mode = "capture" // everything, into a capture instead of the providers
)

// A Guard says what may leave. The zero Guard is live.
type Guard struct {
	Mode    Mode
	Domains []string // for Allow: of recipients, in lower case and A-labels; "+47" lets a country's phones through
}

// Check returns g with its mode, or what is wrong with it.
func (g Guard) Check() (Guard, error) {
	if g.Mode == "" {
		g.Mode = Live
	}
	switch {
	case !slices.Contains([]Mode{Live, Allow, Hold, Capture}, g.Mode):
		return g, fmt.Errorf("is %q; say live, allow, hold or capture", g.Mode)
	case g.Mode == Allow && len(g.Domains) == 0:
		return g, fmt.Errorf("is allow with no domain, which is hold; list the domains that letters may go to")
	case g.Mode != Allow && len(g.Domains) > 0:
		return g, fmt.Errorf("is %s with a list of domains; a list goes with allow", g.Mode)
	}
	return g, nil
}

func (g Guard) allows(a Addressed) bool {
	if g.Mode != Allow {
		return true
	}
	for _, one := range g.Domains {
		if strings.HasPrefix(one, "+") && strings.HasPrefix(a.Address, one) || a.To.Domain() == one {
			return true
		}
	}
	return false
}

// announce says at the start of a worker what may leave.
func (o *Outbox) announce() {
	switch g := o.cfg.Guard; g.Mode {
	case Live:
		o.log.Info("the guard is live: letters go to their recipients")
	case Allow:
		o.log.Warn("THE GUARD IS ON ALLOW: letters go to the listed domains only, all others are held", "domains",
			g.Domains)
	case Hold:
		o.log.Warn("THE GUARD IS ON HOLD: no letter leaves, all go on waiting")
	case Capture:
		o.log.Warn("THE GUARD IS ON CAPTURE: no letter reaches its recipient, all are captured")
	}
}

// holding reports whether this worker must not send at all: the guard says so, or the database
// sends for another site, as a copy of it does.
func (w *worker) holding(ctx context.Context) (bool, error) {
	if w.cfg.Guard.Mode == Hold {
		return true, nil
	}
	if w.cfg.Site == "" {
		return false, nil
	}
	if !w.home.Load() {
		home, err := w.store.AtHome(ctx)
		if err != nil {
			return false, err
		}
		if w.home.Store(home); !home {
			if !w.holds.Swap(true) { // once, and not with every look
				w.log.Error("THIS DATABASE IS A COPY, or was moved, so nothing is sent. If it is to send from here, " +
					"cancel what must not go out, then run `illumicode outbox adopt`")
			}
			return true, nil
		}
	}
	site, err := w.store.SetOnce(ctx, store.SettingSite, w.cfg.Site)
	if err != nil || site == w.cfg.Site {
		return false, err
	}
	if !w.holds.Swap(true) { // once, and not with every look
		w.log.Error("THIS DATABASE SENDS FOR ANOTHER SITE, so nothing is sent: is it a copy? If it is to send for "+
			"this one, cancel what must not go out, then run `illumicode outbox adopt`",
			"database", site, "here", w.cfg.Site)
	}
	return true, nil
}

// paused is what must not be sent at present, as held by, and since when.
type paused map[string]time.Time

func (w *worker) readPauses(ctx context.Context) error {
	all, err := w.store.Pauses(ctx)
	if err != nil {
		return err
	}
	p := make(paused)
	for _, one := range all {
		p[one.HeldBy()] = one.Since
	}
	w.paused.Store(&p)
	return nil
}

// pausedLane reports whether nothing may be claimed from a lane.
func (w *worker) pausedLane(lane store.Lane) bool {
	_, ok := (*w.paused.Load())[store.Pause{Kind: "lane", Name: string(lane)}.HeldBy()]
	return ok
}

// pausedBy returns the pause that keeps d from being sent, as held by; empty if none does.
func (w *worker) pausedBy(d Addressed) string {
	p := *w.paused.Load()
	if len(p) == 0 {
		return ""
	}
	for _, by := range []store.Pause{{Kind: "letter", Name: d.Letter}, {Kind: "domain", Name: d.To.Domain()}} {
		if _, ok := p[by.HeldBy()]; ok {
			return by.HeldBy()
		}
	}
	return ""
}
