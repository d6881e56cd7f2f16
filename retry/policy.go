package retry

import (
	"time"
)

// A Policy says how long to insist. The zero Policy is all defaults.
type Policy struct {
	Attempts int           // how many attempts at most; 0 or less means 12
	Base     time.Duration // the longest wait after the first failure; 0 or less means 5 s
	Max      time.Duration // the longest wait ever; 0 or less means 1 h
}
