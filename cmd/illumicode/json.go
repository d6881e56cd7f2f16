// The JSON forms of what the verbs print. They are the tool's contract with other programs.

package main

import (
	"time"

	"github.com/illumicode/illumicode/store"
)

type deliveryJSON struct {
	ID            string        `json:"id"`
	State         store.State   `json:"state"`
	Lane          store.Lane    `json:"lane"`
	Letter        string        `json:"letter"`
	Locale        string        `json:"locale"`
	Address       string        `json:"address"`
	Challenge     string        `json:"challenge,omitempty"`
	Attempts      int           `json:"attempts"`
	Created       time.Time     `json:"created"`
	Due           time.Time     `json:"due"`
	DeliverBefore time.Time     `json:"deliver_before,omitzero"`
	Ended         time.Time     `json:"ended,omitzero"`
	Why           string        `json:"why,omitempty"`
	Tried         []attemptJSON `json:"tried,omitempty"`
}

func deliveryOf(d store.Delivery) deliveryJSON {
	return deliveryJSON{
		ID: d.ID, State: d.State, Lane: d.Lane, Letter: d.Letter, Locale: d.Locale, Address: d.Address, Challenge: d.Challenge,
		Attempts: d.Attempts, Created: d.Created, Due: d.Due, DeliverBefore: d.DeliverBefore, Ended: d.Ended, Why: d.Note,
	}
}

type attemptJSON struct {
	Number   int       `json:"number"`
	Provider string    `json:"provider"`
	Begun    time.Time `json:"begun"`
	Ended    time.Time `json:"ended,omitzero"`
	Class    string    `json:"class,omitempty"`
	Code     int       `json:"code,omitempty"`
	Enhanced string    `json:"enhanced,omitempty"`
	Reply    string    `json:"reply,omitempty"`
	Remote   string    `json:"remote,omitempty"`
}

func attemptOf(a store.Attempt) attemptJSON {
	return attemptJSON{a.Number, a.Provider, a.Begun, a.Ended, string(a.Class), a.Code, a.Enhanced, a.Reply, a.Remote}
}

type summaryJSON struct {
	Count       map[store.State]int `json:"count"`
	Repeats     int                 `json:"repeats"`
	OldestDue   time.Time           `json:"oldest_due,omitzero"`
	WorkerSeen  time.Time           `json:"worker_seen,omitzero"`
	NobodyWorks bool                `json:"nobody_works"`
}

func summaryOf(s store.Summary, now time.Time) summaryJSON {
	return summaryJSON{s.Count, s.Repeats, s.OldestDue, s.LastSeen, s.NobodyWorks(now)}
}
