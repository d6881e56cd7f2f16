package retry

import (
	"time"
)

// A Policy says how long to insist. The zero Policy is all defaults.
type Policy struct {
	// how many attempts at most; 0 or less means by time: for four days from the first (RFC 5321 §4.5.4.1), or to the
	// letter's own deadline, and no more than 45 that count
	Attempts int
	Base     time.Duration // the longest wait after the first failure; 0 or less means 5 s
	Max      time.Duration // the longest wait ever; 0 or less means 4 h
}
