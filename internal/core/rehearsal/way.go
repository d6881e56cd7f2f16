package rehearsal

import (
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/retry"
)

// A way is a provider in the play: package outbox has the same with a database in place of held.
type way struct {
	*Provider
	health  choose.Health
	hold    choose.Stock
	held    map[string]judge.State
	inUse   int
	number  int32      // of this way
	crowd   [2][]int32 // letters that wait for a connection: urgent ones, others
	tiring  bool       // it is among the events that some will have waited long
	carried Carried
}

func newWay(number int32, p *Provider) *way {
	return &way{Provider: p, number: number, held: make(map[string]judge.State), carried: Carried{Name: p.Name}}
}

// left returns what its quotas still let through; -1 without any.
func (w *way) left(now time.Time) int {
	if !choose.Quotas(w.Terms.Caps) {
		return -1
	}
	return choose.Left(w.Terms.Caps, w.held, now)
}

// maxNap is how long a sender waits for a provider to become free, instead of giving the delivery back.
const maxNap = 2 * time.Second

// choose chooses the way of a delivery's next attempt, and sends it there.
func (p *play) choose(d int32) {
	one := &p.all[d]
	if !one.before.IsZero() && !p.now.Before(one.before) {
		p.finish(d, &p.result.Lanes[one.lane].Expired)
		return
	}
	if one.person >= 0 {
		if last := p.crowd[one.person].last; last >= 0 && last != d && p.all[last].again {
			p.giveWay(d)
			return
		}
	}
	urgent := one.lane == Urgent
	for i, w := range p.ways {
		p.candidates[i] = p.candidate(i, w, one, urgent)
	}
	for {
		c := choose.Choose(p.candidates, p.Order, one.person >= 0, p.dice.Float64(), p.now)
		if c.Provider == "" {
			p.noWay(d, c)
			return
		}
		at := 0
		for p.candidates[at].Name != c.Provider {
			at++
		}
		w := p.ways[at]
		ok, full := w.take(urgent, p.now)
		if ok {
			w.health, _ = w.health.Probing(p.now)
			one.last = int8(at)
			one.spare = c.Spare(p.candidates)
			p.connect(d, w, urgent)
			return
		}
		p.candidates[at].FreeAt, p.candidates[at].Cap = full.At, full.Cap
	}
}

// candidate returns a way as it stands for a delivery.
func (p *play) candidate(i int, w *way, one *delivery, urgent bool) choose.Candidate {
	c := choose.Candidate{Name: w.Name, Weight: w.Terms.Weight, Cost: w.Terms.Cost, Breaker: w.Breaker,
		Health: w.health, Tried: int(one.tried[i]), Unsure: one.unsure && int(one.last) == i}
	to := p.destination(one)
	switch {
	case one.sms && !w.SMS:
		c.Unable = "carries no SMS"
	case !one.sms && !w.Mail:
		c.Unable = "carries no mail"
	case one.person >= 0 && !w.Challenges || one.person < 0 && !w.Notices:
		c.Unable = "may not send from this address"
	case !choose.Takes(w.Terms, to):
		c.Unable = "is not for this recipient's domain"
	}
	if one.again {
		c.Carried = (p.crowd[one.person].carried|p.crowd[one.person].underWay)&(1<<i) != 0
	}
	if at := w.hold.Silent(w.Breaker, p.now); !at.IsZero() {
		c.FreeAt, c.Cap = at, "it does not answer"
	}
	if at := w.hold.BusyUntil(w.Terms.Caps, w.health, urgent, p.now); at.After(c.FreeAt) {
		c.FreeAt, c.Cap = at, "all its letters of a second are spoken for"
	}
	return c
}

// destination returns what terms look at.
func (p *play) destination(one *delivery) string {
	switch {
	case one.person >= 0:
		return p.groups[p.crowd[one.person].group].Domain
	case one.sms:
		return p.Notices[one.notice].Country
	}
	return p.Notices[one.notice].Domain
}

// noWay does what is left to do where no provider can go.
func (p *play) noWay(d int32, c choose.Choice) {
	one := &p.all[d]
	l := &p.result.Lanes[one.lane]
	switch {
	case c.At.IsZero():
		p.finish(d, &l.Failed)
	case !one.before.IsZero() && !c.At.Before(one.before):
		p.finish(d, &l.Expired)
	case c.At.Sub(p.now) <= maxNap:
		p.push(c.At, event{kind: napping, who: d})
	default:
		p.wait(d, c.At)
	}
}

// take takes one letter out of a way's quotas.
func (w *way) take(urgent bool, now time.Time) (ok bool, full choose.Full) {
	if !choose.Quotas(w.Terms.Caps) {
		return true, full
	}
	if ok, full = w.hold.Take(urgent, now); ok || full.Cap != "" {
		return ok, full
	}
	lease, full := choose.TakeLease(w.Terms.Caps, w.held, urgent, now)
	return w.hold.Leased(urgent, lease, full), full
}

// connect waits for one of the provider's connections, if it has only so many.
func (p *play) connect(d int32, w *way, urgent bool) {
	if most := w.Terms.Caps.AtOnce; most > 0 {
		usable := most
		if !urgent {
			usable -= choose.Kept(w.Terms.Caps, most)
		}
		if w.inUse >= usable {
			w.crowd[side(urgent)] = append(w.crowd[side(urgent)], d)
			p.all[d].waits = p.now
			p.willTire(w, p.now)
			return
		}
	}
	w.inUse++
	p.moment(d, w, urgent)
}

func side(urgent bool) int {
	if urgent {
		return 0
	}
	return 1
}

// willTire asks to look at a way's crowd when those that wait since an instant have waited long.
func (p *play) willTire(w *way, since time.Time) {
	if !w.tiring {
		w.tiring = true
		p.push(since.Add(w.Breaker.Patience()), event{kind: tiring, who: w.number})
	}
}

// tire puts letters off that have waited too long for a connection, so that another provider may have them.
func (p *play) tire(w *way) {
	w.tiring = false
	var next time.Time // since when the first of the others waits
	for s := range w.crowd {
		for len(w.crowd[s]) > 0 {
			d := w.crowd[s][0]
			one := &p.all[d]
			if p.now.Sub(one.waits) < w.Breaker.Patience() {
				if next.IsZero() || one.waits.Before(next) {
					next = one.waits
				}
				break
			}
			w.crowd[s] = w.crowd[s][1:]
			w.hold.PutBack(one.lane == Urgent, p.now)
			p.judged(d, w, retry.Throttled, 0, one.spare)
		}
	}
	if !next.IsZero() {
		p.willTire(w, next)
	}
}

// hangUp lets the next letter have a connection.
func (p *play) hangUp(w *way) {
	w.inUse--
	for _, urgent := range []bool{true, false} {
		if s := side(urgent); len(w.crowd[s]) > 0 {
			usable := w.Terms.Caps.AtOnce
			if !urgent {
				usable -= choose.Kept(w.Terms.Caps, usable)
			}
			if w.inUse < usable {
				d := w.crowd[s][0]
				w.crowd[s] = w.crowd[s][1:]
				w.inUse++
				p.moment(d, w, urgent)
				return
			}
		}
	}
}

// moment waits until the letter may leave, if letters to the provider keep a distance.
func (p *play) moment(d int32, w *way, urgent bool) {
	if !choose.Paced(w.Terms.Caps, w.health) {
		p.send(d, w)
		return
	}
	at, ok := w.hold.Moment(urgent, p.now)
	if !ok {
		s, later := choose.TakeSlots(w.Terms.Caps, w.held, w.health, urgent, p.now)
		at, ok = w.hold.Given(urgent, s, later)
	}
	if ok && !at.After(p.now) {
		p.send(d, w)
		return
	}
	one := &p.all[d]
	if one.slot = ok; !one.queued {
		one.queued = true
		w.hold.Queue(urgent, 1)
	}
	p.push(at, event{kind: leaving, who: d})
}

// leave is what a letter does whose moment has come, or that is to ask for one again.
func (p *play) leave(d int32) {
	one := &p.all[d]
	w := p.ways[one.last]
	if !one.slot {
		p.moment(d, w, one.lane == Urgent)
		return
	}
	p.send(d, w)
}

// The answers of a provider, as an event has them.
const (
	accepts int32 = iota
	fails
	refuses
	throttles
	isDown
	isSilent
)

// send begins an attempt: what the provider will answer, and when, is decided now.
func (p *play) send(d int32, w *way) {
	one := &p.all[d]
	if one.queued {
		one.queued = false
		w.hold.Queue(one.lane == Urgent, -1)
	}
	w.hold.Sent(p.now)
	one.attempts++
	one.tried[one.last]++
	if one.person >= 0 {
		p.crowd[one.person].underWay |= 1 << one.last
	}
	answer, took := accepts, p.lasts(w.Latency)
	switch roll := p.dice.Float64(); {
	case roll < w.Fail:
		answer = fails
	case roll < w.Fail+w.Refuse:
		answer = refuses
	}
	if o := w.outage(p.now.Sub(p.Start)); o != nil {
		switch o.How {
		case Down:
			answer, took = isDown, 0
		case Hangs:
			answer, took = isSilent, p.Attempt
		case Slow:
			took = o.Latency
		case Throttles:
			answer, took = throttles, o.Latency
		}
	}
	p.push(p.now.Add(took), event{kind: answering, who: d, n: answer})
}

// outage returns what is wrong with a provider at a time; nil for nothing.
func (w *way) outage(at time.Duration) *Outage {
	for i := range w.Outages {
		if o := &w.Outages[i]; o.From <= at && at < o.Until {
			return o
		}
	}
	return nil
}

// answer ends an attempt.
func (p *play) answer(d, said int32) {
	one := &p.all[d]
	w := p.ways[one.last]
	w.hold.Heard(p.now)
	if one.person >= 0 {
		p.crowd[one.person].underWay &^= 1 << one.last
	}
	a := choose.Answer{Class: retry.Accepted, Code: 250}
	switch said {
	case fails:
		a = choose.Answer{Class: retry.Transient, Code: 451}
	case refuses:
		a = choose.Answer{Class: retry.RecipientRefused, Code: 550}
	case throttles:
		a = choose.Answer{Class: retry.Throttled, Code: 421}
		if o := w.outage(p.now.Sub(p.Start)); o != nil {
			a.After = o.After
		}
	case isDown:
		a = choose.Answer{Class: retry.Transient}
	case isSilent:
		a = choose.Answer{Class: retry.Ambiguous}
	}
	if a.Class != retry.Accepted || !w.health.Good() {
		w.health = w.health.After(a, w.Breaker, p.now, p.dice.Float64())
	}
	p.hangUp(w)
	p.judged(d, w, a.Class, a.After, one.spare)
}
