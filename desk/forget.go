package desk

import (
	"context"

	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

// A Forgotten is what an erasure came to.
type Forgotten struct {
	Rows int64    // erased or changed
	Left []Found  // where the address still stands: nowhere, unless something went wrong
	Akin []string // other addresses that the same accounts have or had: they are kept, and may be forgotten in turn
}

// A Found is where an address stands.
type Found struct {
	Table  string
	Column string
	Rows   int64
}

// A Trace says what an erasure leaves of a person.
type Trace string

// What can be left. A suppression that exists keeps its keyed thumbprint in either case.
const (
	LeaveNothing    Trace = "nothing"
	LeaveThumbprint Trace = "thumbprint" // so that nothing writes to the address again, an import included
)

// Forget erases a person by their address in every table, then searches every table for the address. Attachments are
// not searched. A person may have other addresses: Forgotten.Akin names them.
func (d *Desk) Forget(ctx context.Context, address string, leave Trace) (Forgotten, error) {
	to, err := flow.KnownRecipient(address)
	if err != nil {
		return Forgotten{}, err
	}
	if leave == LeaveThumbprint {
		found, err := d.p.Store.SuppressedAmong(ctx, d.p.Thumbs(to.Mailbox()))
		if err == nil && (len(found) == 0 || found[0].Scope != store.AllLetters) {
			err = d.Suppress(ctx, address, AllLetters, "its owner was forgotten")
		}
		if err != nil {
			return Forgotten{}, err
		}
	}
	var f Forgotten
	if f.Akin, err = d.p.Store.Akin(ctx, to.Mailbox()); err != nil { // before the link between them goes
		return f, err
	}
	if f.Rows, err = d.p.Store.Erase(ctx, to.Mailbox(), to.String()); err != nil {
		return f, err
	}
	left, err := d.p.Store.Search(ctx, to.Mailbox(), to.String())
	for _, one := range left {
		f.Left = append(f.Left, Found{one.Table, one.Column, int64(one.Rows)})
	}
	return f, err
}
