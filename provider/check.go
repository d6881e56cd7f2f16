package provider

import (
	"context"
	"time"
)

// A Checker is a provider that can say, step by step, whether letters would get out.
type Checker interface {
	// Check goes as far as it can towards handing over a letter between two addresses, and hands
	// over nothing. The steps are in order; after one that failed there may be none.
	Check(ctx context.Context, from, to string) Report
}

// A Verdict is what a step has led to.
type Verdict string

// The verdicts.
const (
	OK      Verdict = "ok"
	Warning Verdict = "warning"
	Failed  Verdict = "failed"
)

// A Step is one thing that was tried.
type Step struct {
	What    string        `json:"what"`
	Verdict Verdict       `json:"verdict"`
	Saw     string        `json:"saw"`            // what came back
	Next    string        `json:"next,omitempty"` // what to do about it
	Took    time.Duration `json:"took_ns"`        // 0 where nothing was waited for
}

// A Report is what a check has found.
type Report struct {
	Steps []Step
	Raw   []string // the conversation, a line each, secrets masked; empty where there was none
}

// Failed reports whether a step has failed.
func (r Report) Failed() bool {
	for _, s := range r.Steps {
		if s.Verdict == Failed {
			return true
		}
	}
	return false
}
