package outbox

import (
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
)

// An Observer is told what workers do, as package metrics is. Its methods are called by many
// goroutines and must return at once.
type Observer interface {
	Attempted(lane store.Lane, provider string, class retry.Class, took time.Duration)
	Ended(lane store.Lane, state store.State)
	Claimed(lane store.Lane, n int)
	Woken()                                     // a worker looked because it was woken, not for its poll
	Sampled(loads []store.Load, left time.Time) // every SampleEvery; left is when it was counted
}

// SampleEvery is how often a worker counts what is on its way for an observer.
const SampleEvery = 15 * time.Second

// nobody is the observer where none is wanted.
type nobody struct{}

func (nobody) Attempted(store.Lane, string, retry.Class, time.Duration) {}
func (nobody) Ended(store.Lane, store.State)                            {}
func (nobody) Claimed(store.Lane, int)                                  {}
func (nobody) Woken()                                                   {}
func (nobody) Sampled([]store.Load, time.Time)                          {}
