package rehearsal

import (
	"math"
	"time"
)

// A Result is what a scenario came to.
type Result struct {
	Scenario Scenario // with its defaults
	Samples  []Sample

	Lanes     [lanes]Lane
	Providers []Carried
	People    []Served
	Refusals  map[string]int // by rule
	Noted     map[string]int // by rules that observe
	Cost      float64
	Ended     int           // deliveries that have come to an end
	Left      int           // those that had not, when the scenario ended
	Last      time.Duration // when the last notice was sent, from the start
}

// A Lane is what became of one lane's deliveries.
type Lane struct {
	Enqueued, Sent, Failed, Expired int
	Wait                            Times // from due to accepted
}

// A Carried is what one provider carried.
type Carried struct {
	Name    string
	Letters int // accepted
	Failed  int // attempts that were not
	Cost    float64
	Left    int // of its quotas at the end; -1 without any
}

// A Served is how one group of people fared.
type Served struct {
	Name    string
	Asked   int // requests, those for another letter included
	Letters int // that were sent to them
	Refused int // requests
	Got     int // people who got a letter before they gave up
	GaveUp  int
	Wait    Times // from the first request to the letter in the mailbox
}

// A Sample is how things stand at a moment.
type Sample struct {
	At       time.Duration
	Oldest   [lanes]time.Duration // how long the oldest has been due
	Waiting  [lanes]int
	Left     []int // of each provider's quotas; -1 without any
	Sent     []int // by each provider so far
	Refusals int   // so far
	Cost     float64
	Wait     time.Duration // the longest that somebody waited who got a letter since the last sample
}

// Times remembers how long things took, each to a hundredth of itself. The zero Times is empty.
type Times struct {
	n     int
	most  time.Duration
	count [buckets]int32
}

const buckets = 2600

// bucket 0 is up to a tenth of a millisecond; each further one a hundredth more, until beyond a year.
func bucket(d time.Duration) int {
	if d <= 100*time.Microsecond {
		return 0
	}
	return min(buckets-1, 1+int(math.Log(float64(d)/1e5)/math.Log(1.01)))
}

// Add adds one.
func (t *Times) Add(d time.Duration) {
	t.n++
	t.most = max(t.most, d)
	t.count[bucket(d)]++
}

// N returns how many there are.
func (t *Times) N() int { return t.n }

// Most returns the longest.
func (t *Times) Most() time.Duration { return t.most }

// At returns what a share of all does not exceed: 0.5 for the median. It is 0 without any.
func (t *Times) At(share float64) time.Duration {
	rank := int(math.Ceil(share * float64(t.n)))
	for i, n := range t.count {
		if rank -= int(n); rank <= 0 && n > 0 {
			if i == 0 {
				return min(t.most, 100*time.Microsecond)
			}
			return min(t.most, time.Duration(1e5*math.Pow(1.01, float64(i)-0.5)))
		}
	}
	return 0
}
