package outbox

import (
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// An Addressed is a claimed delivery with its recipient, which is read from the row once.
type Addressed struct {
	store.Delivery
	To     message.Address // zero if Unread
	Unread error           // why the address cannot be read
}

// addressed returns claimed deliveries with their recipients.
func addressed(claimed ...store.Delivery) []Addressed {
	all := make([]Addressed, len(claimed))
	for i, d := range claimed {
		to, err := message.ParseRecipient(d.Address)
		all[i] = Addressed{d, to, err}
	}
	return all
}

// destination returns what the terms of providers look at: the domain of an address in A-labels, or a phone number.
func (a Addressed) destination() string {
	if domain := a.To.Domain(); domain != "" {
		return domain
	}
	return a.Address
}
