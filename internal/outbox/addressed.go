package outbox

import (
	"context"
	"errors"
	"slices"
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
	Common   map[string]any  // what it shares with others of its list; not to be changed
}

// A HoldError is the reason for which a delivery has to wait until somebody decides.
type HoldError struct{ By, Note string }

func (e *HoldError) Error() string { return "outbox: held: " + e.Note }

// addressed returns claimed deliveries with their recipients. One to a subject gets the address that the subject has
// now, is held, or ends.
func (w *worker) addressed(ctx context.Context, claimed ...store.Delivery) []Addressed {
	all := make([]Addressed, 0, len(claimed))
	common, err := Common(ctx, w.store, claimed...)
	if err != nil {
		w.log.Error("what letters of a list share cannot be read, so they wait", "error", err)
	}
	for _, d := range claimed {
		if err != nil && d.Shared != "" {
			w.unclaim(d, w.now().Add(w.cfg.Poll), "")
			continue
		}
		one := Addressed{Delivery: d, Common: common[d.Shared]}
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

// Common returns what some deliveries share with others of their lists, by the lists' ids. It is read once for all.
func Common(ctx context.Context, st *store.Store, all ...store.Delivery) (map[string]map[string]any, error) {
	var ids []string
	for _, d := range all {
		if d.Shared != "" && !slices.Contains(ids, d.Shared) {
			ids = append(ids, d.Shared)
		}
	}
	if ids == nil {
		return nil, nil
	}
	rows, err := st.Shared(ctx, ids...)
	if err != nil {
		return nil, err
	}
	common := make(map[string]map[string]any, len(rows))
	for id, raw := range rows {
		if common[id], err = store.ReadData(raw); err != nil {
			return nil, err
		}
	}
	return common, nil
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
