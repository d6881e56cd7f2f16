package illumicode

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/event"
	rows "github.com/illumicode/illumicode/internal/store"
)

// A Failure is a letter that has reached nobody, for good; see Config.Failed. It is the data of the event
// [event.LetterFailed] too.
type Failure struct {
	Delivery string `json:"delivery"` // its id
	Letter   string `json:"letter"`
	Address  string `json:"address"`           // or phone number
	Subject  string `json:"subject,omitempty"` // that it goes to, where it was asked for so
	Key      string `json:"key,omitempty"`     // the application's
	Unknown  bool   `json:"unknown"`           // an attempt ended without an answer: it may have arrived all the same
	Fallback bool   `json:"fallback"`          // another goes in its place
	Reason   string `json:"reason"`            // in a provider's words, or ours
}

func failureOf(d rows.Delivery, state rows.State, note string) Failure {
	return Failure{Delivery: d.ID, Letter: d.Letter, Address: d.Address, Subject: d.Subject, Key: d.Key,
		Unknown:  state == rows.Unknown,
		Fallback: d.Fallback != "" && (state == rows.Failed || d.Anyway), Reason: note}
}

// failed returns what tells an application of failures; nil where it need not be told.
func (c Config) failed() func(d rows.Delivery, state rows.State, note string) {
	if c.Failed == nil {
		return nil
	}
	return func(d rows.Delivery, state rows.State, note string) {
		c.Failed(failureOf(d, state, note))
	}
}

// failureEvent returns what makes the event that tells of a failure; nil where no rule is for it. A letter that such an
// event has led to is not told of: it would lead to the next one.
func (s *Service) failureEvent() func(d rows.Delivery, state rows.State, note string, now time.Time) *rows.Event {
	if !slices.ContainsFunc(s.rules, func(r EventRule) bool { return r.fits(event.LetterFailed) }) {
		return nil
	}
	return func(d rows.Delivery, state rows.State, note string, now time.Time) *rows.Event {
		if strings.HasPrefix(d.AskedBy, "event ") && strings.HasSuffix(d.AskedBy, "type "+event.LetterFailed) {
			return nil
		}
		data, err := json.Marshal(failureOf(d, state, note))
		if err != nil {
			panic(err) // strings and booleans always marshal
		}
		return &rows.Event{Source: s.p.Site.BaseURL, ID: fmt.Sprintf("%s failed at %d", d.ID, now.UnixMilli()),
			Type: event.LetterFailed, Subject: d.ID, Time: now.UTC().Format(time.RFC3339), Data: string(data)}
	}
}
