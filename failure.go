package illumicode

import rows "github.com/illumicode/illumicode/internal/store"

// A Failure is a letter that has reached nobody, for good; see Config.Failed.
type Failure struct {
	Delivery string // its id
	Letter   string
	Address  string // or phone number
	Subject  string // that it goes to, where it was asked for so
	Key      string // the application's
	Unknown  bool   // an attempt ended without an answer: it may have arrived all the same
	Fallback bool   // another goes in its place
	Reason   string // in a provider's words, or ours
}

// failed returns what tells an application of failures; nil where it need not be told.
func (c Config) failed() func(d rows.Delivery, state rows.State, note string) {
	if c.Failed == nil {
		return nil
	}
	return func(d rows.Delivery, state rows.State, note string) {
		c.Failed(Failure{Delivery: d.ID, Letter: d.Letter, Address: d.Address, Subject: d.Subject, Key: d.Key,
			Unknown: state == rows.Unknown, Fallback: state == rows.Failed && d.Fallback != "", Reason: note})
	}
}
