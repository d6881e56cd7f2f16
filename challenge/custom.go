package challenge

import ()

// A Purpose is what challenges of one kind are for, and how they live.
type Purpose struct {
	Letter string // what carries the proof
	Policy Policy
}
