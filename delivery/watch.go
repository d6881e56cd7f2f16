package delivery

import (
	"time"

	"github.com/illumicode/illumicode/retry"
)

// An Observer is told what a service does, as package metrics is. Many goroutines call it; it must return at once.
type Observer interface {
	Observe(o Observation)
}

// An Observation is one thing that a service did. What says which fields it has:
//
//	attempted   an attempt has ended: Lane, Provider, Class, Took
//	ended       a delivery has ended: Lane, State
//	claimed     a worker has claimed letters: Lane, N
//	woken       a worker looked because it was woken, not for its poll
//	sampled     a worker counted what is on its way, every fifteen seconds: At, Loads
//	admitted    the limits let a request through
//	refused     a limit refused a request: Rule
//	noted       a limit that only observes would have refused a request: Rule
//	came back   feedback on a letter was applied: Source, Kind
//
// Later versions may add more.
type Observation struct {
	What string

	Lane     Lane
	Provider string
	Class    retry.Class
	Took     time.Duration
	State    string
	N        int
	Rule     string
	Source   string // of feedback: a provider, or "mail"
	Kind     string // of feedback: delivered, delayed, soft bounce, hard bounce, complaint or other
	At       time.Time
	Loads    []Load
}

// A Load is how many deliveries of a lane are in a state.
type Load struct {
	Lane   Lane
	State  string
	Count  int
	Oldest time.Time // when the oldest of them was due; zero if none
}
