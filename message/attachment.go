package message

import (
	"io"
)

// An Attachment is a file that travels with a notice. Its contents are read while Notify runs, and
// kept with the delivery until that has ended.
type Attachment struct {
	Name string // as the reader sees it
	Type string // media type; empty means application/octet-stream
	ID   string // for one that a letter's HTML shows, as cid:ID; empty for the others
	Body io.Reader
}
