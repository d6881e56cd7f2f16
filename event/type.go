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

// LetterFailed is the type of the events that tell of letters which have reached nobody, for good. A worker whose
// service has a rule for it reports one in the commit of each such end. Its subject is the delivery's id, and its data
// are a Failure of package illumicode, in JSON. Of a letter that such an event led to there is none.
const LetterFailed = "illumicode.letter.failed"

// An Event is one occurrence. Source and ID together tell it from all others.
type Event struct {
	Source  string
	ID      string
	Type    string
	Subject string    // may be empty
	Time    time.Time // zero if it does not say
	Data    json.RawMessage
}
