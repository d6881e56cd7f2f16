package composer

import (
	"encoding/json"
	"fmt"
	"maps"
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// ChangeID is the member of a letter's data that names the change of address which it tells of.
const ChangeID = "illumicode_change"

// Visible is what the header of a delivery shows besides its own address. It is kept as JSON.
type Visible struct {
	To      [][2]string     `json:"to,omitempty"` // address and name
	Cc      []string        `json:"cc,omitempty"`
	ReplyTo string          `json:"reply_to,omitempty"`
	Thread  string          `json:"thread,omitempty"`
	Headers []message.Field `json:"headers,omitempty"`
}

// Reminding returns the values of a letter that reminds of a moment.
func Reminding(data map[string]any, moment time.Time) map[string]any {
	all := maps.Clone(data)
	if all == nil {
		all = make(map[string]any)
	}
	all["moment"] = moment.UTC().Format(time.RFC3339)
	return all
}

// Gathered returns the values of a letter that several notices became.
func Gathered(first map[string]any, items []any) map[string]any {
	all := maps.Clone(first)
	if all == nil {
		all = make(map[string]any)
	}
	all["items"], all["count"] = items, len(items)
	return all
}

// maxData bounds a notice's data as JSON, in bytes: beyond it, it is an attachment.
const maxData = 256 << 10

// Over returns values with a recipient's own over them. Neither map is changed.
func Over(shared, own map[string]any) map[string]any {
	if len(own) == 0 {
		return shared
	}
	all := make(map[string]any, len(shared)+len(own))
	maps.Copy(all, shared)
	maps.Copy(all, own)
	return all
}

// MarshalData returns data as JSON, and the values in it.
func MarshalData(data any) (string, map[string]any, error) {
	if data == nil {
		return "{}", nil, nil
	}
	raw, err := json.Marshal(data)
	if err != nil {
		return "", nil, err
	}
	if len(raw) > maxData {
		return "", nil, fmt.Errorf("its data has %d bytes, more than %d; send it as an attachment", len(raw), maxData)
	}
	values, err := store.ReadData(string(raw))
	return string(raw), values, err
}
