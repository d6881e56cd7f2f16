package outbox

import (
	"context"
	"errors"
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// An Addressed is a claimed delivery with its recipient, which is read from the row once.
type Addressed struct {
	store.Delivery
	To       message.Address // zero if Unread
	Unread   error           // why the address cannot be read
	before   time.Time       // when its attempt before this one ended; zero for none
	unsure   bool            // an attempt may have handed it over
	found    bool            // it was looked up, and is not in the row yet
	Withheld bool            // its first attempt went to nobody, and so do the others
}

// A HoldError is the reason for which a delivery has to wait until somebody decides.
type HoldError struct{ By, Note string }

func (e *HoldError) Error() string { return "outbox: held: " + e.Note }

// addressed returns claimed deliveries with their recipients. One to a subject gets the address that the subject has
// now, is held, or ends.
func (w *worker) addressed(ctx context.Context, claimed ...store.Delivery) []Addressed {
	all := make([]Addressed, 0, len(claimed))
	for _, d := range claimed {
		one := Addressed{Delivery: d}
		if d.Address == "" && d.Subject != "" {
			if !w.find(ctx, &one.Delivery) {
				continue
			}
			one.found = true
		}
		one.To, one.Unread = message.ParseRecipient(one.Address)
		all = append(all, one)
	}
	return all
}

// find looks up where a delivery to a subject goes, and reports whether it goes anywhere now.
func (w *worker) find(ctx context.Context, d *store.Delivery) bool {
	found, err := w.cfg.Find(ctx, *d)
	if err == nil {
		d.Address, d.Locale = found.Address, found.Locale
		return true
	}
	if held, ok := errors.AsType[*HoldError](err); ok {
		w.hold(*d, held.By, held.Note)
	} else if drop, ok := errors.AsType[*Drop](err); ok {
		w.drop(Addressed{Delivery: *d}, drop.State, drop.Note)
	} else {
		w.unclaim(*d, w.now().Add(w.cfg.Poll), err.Error())
	}
	return false
}

// destination returns what the terms of providers look at: the domain of an address in A-labels, or a phone number.
func (a Addressed) destination() string {
	if domain := a.To.Domain(); domain != "" {
		return domain
	}
	return a.Address
}
