// The JSON forms of what the verbs print. They are the tool's contract with other programs.

package main

import (
	"time"

	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/internal/store"
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
	HeldBy        string        `json:"held_by,omitempty"`
	Key           string        `json:"key,omitempty"`
	AskedBy       string        `json:"asked_by,omitempty"`
	Fallback      string        `json:"fallback,omitempty"`
	Looks         string        `json:"looks,omitempty"` // the letter's text, its secrets masked
	Tried         []attemptJSON `json:"tried,omitempty"`

	Outcome  report.Kind    `json:"outcome,omitempty"`
	Feedback []feedbackLine `json:"feedback,omitempty"`
}

func deliveryOf(d store.Delivery) deliveryJSON {
	return deliveryJSON{
		ID: d.ID, State: d.State, Lane: d.Lane, Letter: d.Letter, Locale: d.Locale, Address: d.Address,
		Challenge: d.Challenge,
		Attempts:  d.Attempts, Created: d.Created, Due: d.Due, DeliverBefore: d.DeliverBefore, Ended: d.Ended,
		Why: d.Note, HeldBy: d.HeldBy, Key: d.Key, AskedBy: askedBy(d), Fallback: d.Fallback,
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
	Route    string    `json:"route,omitempty"` // why this provider, and why no other
}

func attemptOf(a store.Attempt) attemptJSON {
	return attemptJSON{a.Number, a.Provider, a.Begun, a.Ended, string(a.Class), a.Code, a.Enhanced, a.Reply, a.Remote,
		a.Route}
}

type summaryJSON struct {
	Count       map[store.State]int `json:"count"`
	Lanes       []laneJSON          `json:"lanes"`
	Repeats     int                 `json:"repeats"`
	Lists       int                 `json:"lists"`
	Aside       int                 `json:"events_aside"`
	Paused      []string            `json:"paused,omitempty"`
	OldestDue   time.Time           `json:"oldest_due,omitzero"`
	WorkerSeen  time.Time           `json:"worker_seen,omitzero"`
	NobodyWorks bool                `json:"nobody_works"`
	Site        string              `json:"site,omitempty"`
}

type laneJSON struct {
	Lane   store.Lane  `json:"lane"`
	State  store.State `json:"state"`
	Count  int         `json:"count"`
	Oldest time.Time   `json:"oldest_due,omitzero"`
}

func summaryOf(s store.Summary, now time.Time) summaryJSON {
	v := summaryJSON{Count: s.Count, Lanes: []laneJSON{}, Repeats: s.Repeats, Lists: s.Lists, Aside: s.Aside,
		OldestDue: s.OldestDue, WorkerSeen: s.LastSeen, NobodyWorks: s.NobodyWorks(now), Site: s.Site}
	for _, l := range s.Loads {
		v.Lanes = append(v.Lanes, laneJSON(l))
	}
	for _, p := range s.Pauses {
		v.Paused = append(v.Paused, p.HeldBy())
	}
	return v
}
