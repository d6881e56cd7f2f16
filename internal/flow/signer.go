package flow

import "io"

// A Signer returns the header fields that sign a message, to be put in front of it.
type Signer interface {
	Sign(message io.WriterTo) (fields string, err error)
}
