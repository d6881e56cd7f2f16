package challenge

import (
	"time"
)

// A Policy says how the challenges of one purpose live. Zero fields have the defaults of the
// purpose: those of [Signup] and [Reverify], and in brackets those of every other.
type Policy struct {
	Forms    Forms         // what letters carry; empty means both
	CodeLife time.Duration // from the first hand-over of the code; 0 means 10 m
	LinkLife time.Duration // from the first hand-over of any letter; 0 means 24 h (10 m)
	Cap      time.Duration // from the beginning, whatever the queue does; 0 means 72 h (60 m)
	Renew    time.Duration // a resend with less of CodeLife left brings a new code; 0 means 3/10 of it
	Digits   int           // length of the code; 0 means 6
	Tries    int           // wrong codes before the code form closes; 0 means 5

	// Ladder is the wait before the letter may be sent again: the first rung after the first
	// letter, and so on; the last rung holds from there on. Empty means 30 s, 1 m, 5 m, 15 m, 1 h.
	Ladder []time.Duration
}
