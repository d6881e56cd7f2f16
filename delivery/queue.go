package delivery

import (
	"io"
	"time"

	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// Settings are the optional settings of workers. The zero Settings are all defaults.
type Settings struct {
	// Senders is how many letters are in work at once, from composing to the record of the answer; 0 means 64.
	// Providers bound how many they carry. Less than 0 means none: Run then delivers nothing, and does what time asks
	// for, such as telling the application of lapses, in a process that only serves.
	Senders  int
	Reserved int           // of these, for the urgent lane alone; 0 means a quarter, less than 0 none
	Lease    time.Duration // how long a dead worker's claims hold; 0 or less means 30 s
	Poll     time.Duration // how often to look without having been woken; 0 or less means 500 ms
	Attempt  time.Duration // the longest attempt; 0 or less means 11 m, past the final reply's 10
	Grace    time.Duration // how long Run lets attempts finish at its end; 0 or less means 20 s
	Keep     time.Duration // how long ended deliveries are kept; 0 means 30 days, less than 0 for ever
	KeepOnce time.Duration // how long de-duplication keys are kept; 0 or less means 7 days

	Retry retry.Policy

	// FallbackAfter is how long a letter with a fallback is tried, from when it may leave, before the fallback goes; 0
	// or less means 15 minutes.
	FallbackAfter time.Duration

	Order route.Order            // which provider is preferred; empty means the order of the list
	Terms map[string]route.Terms // of providers, by name: caps, weights, costs, recipients

	// Weights are the shares of lanes that have something to send. Missing ones are 16 for urgent, 4 for normal and 1
	// for bulk.
	Weights map[Lane]int
}

// A Lane is the priority that a letter travels in.
type Lane string

// The lanes, the fastest first.
const (
	Urgent Lane = "urgent"
	Normal Lane = "normal"
	Bulk   Lane = "bulk"
)

// A Mode is what a guard lets out.
type Mode string

// The modes.
const (
	Live    Mode = "live"    // everything
	Allow   Mode = "allow"   // only to the listed domains; the rest is held
	Hold    Mode = "hold"    // nothing: all letters go on waiting
	Capture Mode = "capture" // everything, into a capture instead of the providers
)

// A Guard says what may leave. The zero Guard is live.
type Guard struct {
	Mode Mode
	// Domains are those of recipients, for [Allow]: in lower case and A-labels. "+47" lets a country's phones
	// through.
	Domains []string
}

// A Signer returns the header fields that sign a message, to be put in front of it. It is called once for each
// delivery, at its first attempt.
type Signer interface {
	Sign(message io.WriterTo) (fields string, err error)
}

// Bounces says what follows from letters that come back. A hard bounce is decided at once; soft ones add up. The zero
// Bounces is all defaults.
type Bounces struct {
	Soft   int           // so many letters that come back softly count as one hard bounce; 0 or less means 5
	Within time.Duration // in this time, and since the address was last proven; 0 or less means 14 days
}

// Recheck says how stale and bounced addresses are asked again. The zero Recheck is all defaults.
type Recheck struct {
	Every time.Duration // how long until an address is asked once more; 0 or less means 7 days
	Batch int           // how many addresses one process asks in an hour; 0 or less means 100
	Grace time.Duration // how long an address works after it was marked; 0 or less means 14 days
}
