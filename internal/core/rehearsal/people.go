package rehearsal

import (
	"strconv"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/limit"
)

// A group is people of one kind in the play.
type group struct {
	*People
	policy challenge.Policy
	medium limit.Medium
	count  int // who have come
}

func newGroup(p *People, policy challenge.Policy) group {
	g := group{People: p, policy: policy, medium: limit.Mail}
	if p.SMS {
		g.medium = limit.SMS
	}
	return g
}

// A person is somebody who has come. Places are used again: visit tells one who had it from the next.
type person struct {
	group     int32
	visit     int32
	came      time.Time
	ask       judge.Request
	challenge proof.Challenge
	begun     bool   // there is a challenge
	letters   int32  // of it that are on their way
	last      int32  // the latest of them
	carried   uint32 // the ways that have carried one of them
	underWay  uint32 // the ways that are about to
	presses   int
	done      bool
}

// begin lets the first of a group come.
func (p *play) begin(i int32) {
	g := &p.groups[i]
	for range g.InLine {
		p.push(p.Start.Add(g.From), event{kind: arriving, who: i})
	}
	if g.InLine == 0 {
		p.push(p.Start.Add(g.From).Add(p.gap(g)), event{kind: arriving, who: i})
	}
}

// gap draws the time until the next one comes, who come independently of each other.
func (p *play) gap(g *group) time.Duration {
	return time.Duration(p.dice.ExpFloat64() * float64(time.Minute) / g.PerMinute)
}

// arrive lets somebody come and ask.
func (p *play) arrive(i int32) {
	g := &p.groups[i]
	if p.now.Sub(p.Start) >= g.Until {
		return
	}
	if g.InLine == 0 {
		p.push(p.now.Add(p.gap(g)), event{kind: arriving, who: i})
	}
	who := place(&p.crowd, &p.gone)
	one := &p.crowd[who]
	*one = person{group: i, visit: one.visit + 1, came: p.now, last: -1,
		ask: judge.Request{Purpose: g.Purpose, Stage: limit.First, Medium: g.medium, New: !g.Known,
			Address: p.one(g.Name, "a", g.Addresses, g.count), Network: p.one(g.Name, "n", g.Networks, g.count),
			Domain: g.Domain}}
	g.count++
	if !g.Attack {
		p.push(p.now.Add(g.Patient), event{kind: despairing, who: who, n: one.visit})
	}
	if takes := p.lasts(g.Takes); takes > 0 {
		p.push(p.now.Add(takes), event{kind: asking, who: who, n: one.visit})
		return
	}
	p.request(who)
}

// asks makes a person's first request.
func (p *play) asks(who, visit int32) {
	if one := &p.crowd[who]; one.visit == visit && !one.done {
		p.request(who)
	}
}

// one returns one of n names, or without n the next of any number.
func (p *play) one(group, what string, n, count int) string {
	i := count
	if n > 0 {
		i = p.dice.IntN(n)
	}
	return what + strconv.Itoa(i) + " " + group
}

// leaves ends a person's visit, as soon as no letter to them is on its way.
func (p *play) leaves(who int32) {
	if one := &p.crowd[who]; one.done && one.letters == 0 {
		one.visit++ // so that events about them find nobody
		p.gone = append(p.gone, who)
	}
}

// request asks the rules for a letter, and has it written.
func (p *play) request(who int32) {
	one := &p.crowd[who]
	g, served := &p.groups[one.group], &p.result.People[one.group]
	served.Asked++
	var next proof.Challenge
	if one.begun {
		r := one.challenge.Resend(g.policy, p.now)
		if !r.Allowed { // the page counts down
			served.Refused++
			p.result.Refusals["the letter's own wait"]++
			if !r.At.IsZero() {
				p.later(who, r.At)
			}
			return
		}
		next = r.Next
	}
	d := p.judge(one.ask)
	if !d.Allowed {
		served.Refused++
		p.result.Refusals[d.Refuser.Name]++
		switch {
		case g.Attack:
			one.done = true
			p.leaves(who)
		case !d.At.IsZero():
			p.later(who, d.At)
		}
		return
	}
	if !one.begun {
		next = proof.Begin(g.policy, p.now)
	}
	one.challenge, one.begun, one.ask.Stage = next, true, limit.Again
	p.write(who)
	if !g.Attack && g.Press > 0 && one.presses < g.Presses {
		p.push(p.now.Add(g.Press), event{kind: pressing, who: who, n: one.visit})
	}
	if g.Attack {
		one.done = true // nobody waits for it
	}
}

// judge asks the rules, and spends.
func (p *play) judge(a judge.Request) judge.Decision {
	p.bound = p.rules.Bind(a)
	p.states, p.next = p.states[:0], p.next[:0]
	for _, b := range p.bound {
		p.states, p.next = append(p.states, p.tallies[b.Name]), append(p.next, judge.State{})
	}
	d := judge.Judge(p.bound, p.states, 1, p.now, p.next)
	if d.Noted != nil {
		p.result.Noted[d.Noted.Name]++
	}
	if !d.Allowed {
		return d
	}
	for i, b := range p.bound {
		p.tallies[b.Name] = p.next[i]
	}
	if len(p.tallies) > 2*p.swept+100_000 {
		p.sweep()
	}
	return d
}

// sweep forgets the tallies that say nothing any more.
func (p *play) sweep() {
	rules := make(map[string]*limit.Rule)
	for i := range p.Rules {
		rules[p.Rules[i].Name] = &p.Rules[i]
	}
	for name, s := range p.tallies {
		for i := range len(name) {
			if name[i] == ':' {
				if !p.now.Before(judge.Idle(rules[name[:i]], s)) {
					delete(p.tallies, name)
				}
				break
			}
		}
	}
	p.swept = len(p.tallies)
}

// later lets a person who was refused press again when they may, if they are still there then.
func (p *play) later(who int32, at time.Time) {
	one := &p.crowd[who]
	if g := &p.groups[one.group]; one.presses < g.Presses && at.Sub(one.came) < g.Patient {
		p.push(at, event{kind: pressing, who: who, n: one.visit})
	}
}

// write enqueues a letter to a person.
func (p *play) write(who int32) {
	one := &p.crowd[who]
	d := place(&p.all, &p.spare)
	p.all[d] = delivery{due: p.now, since: p.now, before: one.challenge.Ends, person: who, notice: -1,
		generation: one.challenge.Generation, lane: Urgent,
		sms: p.groups[one.group].SMS, again: one.challenge.Resends > 0, last: -1}
	one.letters++
	one.last = d
	p.queues[Urgent].push(d)
	p.result.Lanes[Urgent].Enqueued++
}

// press is what a person does who has no letter yet.
func (p *play) press(who, visit int32) {
	one := &p.crowd[who]
	if one.visit != visit || one.done {
		return
	}
	one.presses++
	p.request(who)
}

// handedOver begins the life of a letter's proof.
func (p *play) handedOver(d int32) {
	if one := &p.all[d]; one.person >= 0 {
		who := &p.crowd[one.person]
		who.challenge = who.challenge.HandedOver(one.generation, p.now)
		who.carried |= 1 << one.last
	}
}

// accepted lets a letter travel to its mailbox.
func (p *play) accepted(d int32) {
	one := &p.all[d]
	if one.person < 0 {
		return
	}
	who := &p.crowd[one.person]
	p.result.People[who.group].Letters++
	if !who.done {
		p.push(p.now.Add(p.lasts(p.groups[who.group].Transit)), event{kind: receiving, who: one.person, n: who.visit})
	}
}

// over notes that a letter has come to an end.
func (p *play) over(d int32) {
	one := &p.all[d]
	if one.person < 0 {
		return
	}
	who := &p.crowd[one.person]
	who.letters--
	if who.last == d {
		who.last = -1
	}
	p.leaves(one.person)
}

// receive is the moment a person waits for.
func (p *play) receive(who, visit int32) {
	one := &p.crowd[who]
	if one.visit != visit || one.done {
		return
	}
	served := &p.result.People[one.group]
	waited := p.now.Sub(one.came)
	served.Got++
	served.Wait.Add(waited)
	p.longest = max(p.longest, waited)
	p.gets(who)
}

// despair is what a person does who has waited too long.
func (p *play) despair(who, visit int32) {
	one := &p.crowd[who]
	if one.visit != visit || one.done {
		return
	}
	p.result.People[one.group].GaveUp++
	p.longest = max(p.longest, p.now.Sub(one.came))
	p.gets(who)
}

// gets ends a person's wait, and lets the next in line come.
func (p *play) gets(who int32) {
	one := &p.crowd[who]
	one.done = true
	if p.groups[one.group].InLine > 0 {
		p.push(p.now, event{kind: arriving, who: one.group})
	}
	p.leaves(who)
}
