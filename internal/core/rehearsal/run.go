package rehearsal

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/core/verdict"
	"github.com/illumicode/illumicode/retry"
)

// Run plays a scenario to its end. The error says what is wrong with the scenario. progress, which may
// be nil, is told now and then how far it has come; it returns whether to go on.
func Run(s Scenario, progress func(done time.Duration) bool) (Result, error) {
	s, err := s.withDefaults()
	if err != nil {
		return Result{}, fmt.Errorf("rehearsal: %w", err)
	}
	rules, err := judge.NewSet(s.Rules...)
	if err != nil {
		return Result{}, fmt.Errorf("rehearsal: %w", err)
	}
	p := &play{Scenario: s, now: s.Start, rules: rules, tallies: make(map[string]judge.State),
		dice:  rand.New(rand.NewPCG(s.Seed, 0x0d11e)),
		turns: choose.NewTurns(s.Weights[:]...), general: s.Senders - s.Reserved, reserved: s.Reserved,
		result: Result{Scenario: s, Refusals: make(map[string]int), Noted: make(map[string]int)}}
	p.open()
	for len(p.events.heap) > 0 {
		e := p.events.pop()
		if e.at > p.For {
			break
		}
		p.now = p.Start.Add(e.at)
		p.happens(e)
		if e.kind == sampling && progress != nil && !progress(p.now.Sub(s.Start)) {
			break
		}
	}
	p.close()
	return p.result, nil
}

// A play is a scenario under way.
type play struct {
	Scenario
	now    time.Time
	events events
	dice   *rand.Rand
	result Result

	rules   *judge.Set
	tallies map[string]judge.State
	swept   int           // size of tallies after the last sweep
	bound   []judge.Bound // of the last request
	states  []judge.State
	next    []judge.State

	ways       []*way
	candidates []choose.Candidate

	all      []delivery
	spare    []int32 // of all, to be used again
	queues   [lanes]queue
	put      [lanes]int // deliveries put off until later
	turns    choose.Turns
	general  int // free senders
	reserved int // of these, for the urgent lane alone
	freeAt   time.Time
	nextTurn bool // a turn is among the events

	crowd   []person
	gone    []int32 // of crowd, to be used again
	groups  []group
	longest time.Duration // that somebody waited since the last sample
}

// A delivery is one letter on its way.
type delivery struct {
	due, before time.Time // before is zero for no deadline
	since       time.Time // it has been due, after it last waited
	first       time.Time // attempt
	person      int32     // -1 for a notice
	notice      int32     // -1 for a challenge's
	generation  int
	lane        int8
	sms         bool
	again       bool      // not the first letter of its challenge
	reserved    bool      // a reserved sender has it
	spare       bool      // another way could go at once
	queued      bool      // it waits for its moment
	slot        bool      // and has one
	waits       time.Time // since when it waits for a connection
	spent       int
	attempts    int
	last        int8 // the way of the latest attempt; -1 before it
	unsure      bool
	tried       [maxWays]uint8
}

// maxWays bounds how many providers a scenario has.
const maxWays = 16

// A queue is a lane's deliveries that are due, and notices of which there is no delivery yet.
type queue struct {
	ready []int32
	head  int
	lists []list
}

// A list is what is left of a notice to many.
type list struct {
	notice, left int
}

func (q *queue) empty() bool { return q.head == len(q.ready) && len(q.lists) == 0 }

func (q *queue) push(d int32) { q.ready = append(q.ready, d) }

// open sets the stage.
func (p *play) open() {
	for i := range p.Providers {
		p.ways = append(p.ways, newWay(int32(i), &p.Providers[i]))
	}
	p.candidates = make([]choose.Candidate, len(p.ways))
	for i, n := range p.Notices {
		p.push(p.Start.Add(n.At), event{kind: announcing, who: int32(i)})
	}
	p.result.People = make([]Served, len(p.People))
	for i := range p.People {
		p.groups = append(p.groups, newGroup(&p.People[i], p.Policies[p.People[i].Purpose]))
		p.result.People[i].Name = p.People[i].Name
		p.begin(int32(i))
	}
	p.push(p.Start.Add(p.Sample-time.Microsecond), event{kind: sampling}) // before midnight gives back what was used
}

// happens lets one event happen.
func (p *play) happens(e event) {
	switch e.kind {
	case arriving:
		p.arrive(e.who)
	case asking:
		p.asks(e.who, e.n)
	case pressing:
		p.press(e.who, e.n)
	case receiving:
		p.receive(e.who, e.n)
	case despairing:
		p.despair(e.who, e.n)
	case announcing:
		n := p.Notices[e.who]
		p.queues[n.Lane].lists = append(p.queues[n.Lane].lists, list{notice: int(e.who), left: n.Count})
		p.result.Lanes[n.Lane].Enqueued += n.Count
	case falling:
		one := &p.all[e.who]
		one.since = p.now
		p.put[one.lane]--
		p.queues[one.lane].push(e.who)
	case napping:
		p.choose(e.who)
	case tiring:
		p.tire(p.ways[e.who])
	case leaving:
		p.leave(e.who)
	case answering:
		p.answer(e.who, e.n)
	case turning:
		p.nextTurn = false
	case sampling:
		p.sample()
		p.push(p.now.Add(p.Sample), event{kind: sampling})
	}
	p.dispatch()
}

// dispatch gives free senders something to do, as fast as the machine goes.
func (p *play) dispatch() {
	for {
		lane, reserved := -1, false
		if !p.queues[Urgent].empty() && p.reserved > 0 {
			lane, reserved = Urgent, true
		} else if p.general > 0 {
			if !p.ready() {
				return
			}
			lane = p.turns.Next(func(i int) bool { return !p.queues[i].empty() })
		}
		if lane < 0 || !p.ready() {
			return
		}
		if p.Machine > 0 {
			p.freeAt = p.now.Add(time.Duration(float64(time.Second) / p.Machine))
		}
		d := p.take(lane)
		if p.all[d].reserved = reserved; reserved {
			p.reserved--
		} else {
			p.general--
		}
		p.choose(d)
	}
}

// ready reports whether the machine is, and else asks to be told when it is.
func (p *play) ready() bool {
	if !p.freeAt.After(p.now) {
		return true
	}
	if !p.nextTurn {
		p.nextTurn = true
		p.push(p.freeAt, event{kind: turning})
	}
	return false
}

// take takes the next delivery of a lane that has one.
func (p *play) take(lane int) int32 {
	q := &p.queues[lane]
	if q.head < len(q.ready) {
		d := q.ready[q.head]
		if q.head++; q.head > 1024 && q.head*2 > len(q.ready) {
			q.ready = append(q.ready[:0], q.ready[q.head:]...)
			q.head = 0
		}
		return d
	}
	l := &q.lists[0]
	n := &p.Notices[l.notice]
	d := place(&p.all, &p.spare)
	one := &p.all[d]
	*one = delivery{due: p.Start.Add(n.At), person: -1, notice: int32(l.notice), lane: int8(lane), last: -1}
	one.since = one.due
	if n.Within > 0 {
		one.before = one.due.Add(n.Within)
	}
	made := float64(n.Count - l.left)
	one.sms = math.Ceil((made+1)*n.SMS-1e-9) > math.Ceil(made*n.SMS-1e-9)
	if l.left--; l.left == 0 {
		q.lists = q.lists[1:]
	}
	return d
}

// place returns a place in all: one that is free again, or a new one.
func place[T any](all *[]T, free *[]int32) int32 {
	if n := len(*free); n > 0 {
		at := (*free)[n-1]
		*free = (*free)[:n-1]
		return at
	}
	*all = append(*all, *new(T))
	return int32(len(*all) - 1)
}

// free lets the sender of a delivery take another.
func (p *play) free(d int32) {
	if p.all[d].reserved {
		p.reserved++
	} else {
		p.general++
	}
}

// finish ends a delivery.
func (p *play) finish(d int32, counts *int) {
	*counts++
	p.result.Ended++
	p.free(d)
	p.over(d)
	p.spare = append(p.spare, d)
}

// giveWay ends a letter that was asked for again while it waited: the later one goes, and the two count as one.
func (p *play) giveWay(d int32) {
	p.result.Lanes[p.all[d].lane].Enqueued--
	p.free(d)
	p.over(d)
	p.spare = append(p.spare, d)
}

// wait lets a delivery wait until an instant.
func (p *play) wait(d int32, until time.Time) {
	p.free(d)
	p.put[p.all[d].lane]++
	p.push(until, event{kind: falling, who: d})
}

// sample takes the figures of a moment.
func (p *play) sample() {
	s := Sample{At: p.now.Sub(p.Start), Cost: p.result.Cost, Wait: p.longest}
	p.longest = 0
	for lane := range p.queues {
		q := &p.queues[lane]
		s.Waiting[lane] = len(q.ready) - q.head + p.put[lane]
		if q.head < len(q.ready) {
			s.Oldest[lane] = p.now.Sub(p.all[q.ready[q.head]].since)
		}
		for _, l := range q.lists {
			s.Waiting[lane] += l.left
			s.Oldest[lane] = max(s.Oldest[lane], p.now.Sub(p.Start)-p.Notices[l.notice].At)
		}
	}
	for _, w := range p.ways {
		s.Left = append(s.Left, w.left(p.now))
		s.Sent = append(s.Sent, w.carried.Letters)
	}
	for _, n := range p.result.Refusals {
		s.Refusals += n
	}
	p.result.Samples = append(p.result.Samples, s)
}

// close counts what is left.
func (p *play) close() {
	for lane := range p.queues {
		l := &p.result.Lanes[lane]
		p.result.Left += l.Enqueued - l.Sent - l.Failed - l.Expired
	}
	for _, w := range p.ways {
		w.carried.Left = w.left(p.now)
		p.result.Providers = append(p.result.Providers, w.carried)
	}
}

// lasts draws how long something takes.
func (p *play) lasts(s Spread) time.Duration {
	if s.Median <= 0 {
		return 0
	}
	high := s.High
	if high == 0 {
		high = 2 * s.Median
	}
	const ninetyNine = 2.326 // standard deviations: below them lie 99 of 100
	return time.Duration(
		float64(s.Median) * math.Exp(p.dice.NormFloat64()*math.Log(float64(high)/float64(s.Median))/ninetyNine))
}

// judged does what follows from the end of an attempt.
func (p *play) judged(d int32, w *way, class retry.Class, after time.Duration, spare bool) {
	one := &p.all[d]
	one.unsure = class == retry.Ambiguous
	if one.first.IsZero() {
		one.first = p.now
	}
	v := verdict.Judge(p.Retry, verdict.Delivery{Attempts: one.spent + 1, First: one.first, DeliverBefore: one.before,
		After: after, Elsewhere: spare}, class, p.now, p.dice.Float64())
	if v.Spent {
		one.spent++
	}
	l := &p.result.Lanes[one.lane]
	if verdict.HandedOver(class) {
		p.handedOver(d)
	}
	switch v.Action {
	case verdict.Done:
		w.carried.Letters++
		w.carried.Cost += w.Terms.Cost
		p.result.Cost += w.Terms.Cost
		l.Wait.Add(p.now.Sub(one.due))
		if one.notice >= 0 {
			p.result.Last = p.now.Sub(p.Start)
		}
		p.accepted(d)
		p.finish(d, &l.Sent)
		return
	case verdict.Again:
		w.carried.Failed++
		p.wait(d, v.At)
		return
	case verdict.TooLate:
		w.carried.Failed++
		p.finish(d, &l.Expired)
		return
	}
	w.carried.Failed++
	p.finish(d, &l.Failed)
}
