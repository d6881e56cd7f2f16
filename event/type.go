// Package event names what applications and other programs tell of: an [Event], as CloudEvents 1.0 has it.
package event

import (
	"encoding/json"
	"errors"
	"time"
)

// What the calls that take events can answer.
var (
	ErrMalformed = errors.New("event: malformed")               // it is no event
	ErrNoRule    = errors.New("event: no rule is for its type") // of the service's
)

// An Event is one occurrence. Source and ID together tell it from all others.
type Event struct {
	Source  string
	ID      string
	Type    string
	Subject string    // may be empty
	Time    time.Time // zero if it does not say
	Data    json.RawMessage
}
