package httpapi

import (
	"bytes"
	"io"
)

// A gate is the body of a request. Before its last byte it asks whether that may leave.
type gate struct {
	*bytes.Reader
	open  func() error
	asked bool
	shut  error // why it may not
}

// Read implements [io.Reader].
func (g *gate) Read(b []byte) (int, error) {
	switch {
	case g.asked || len(b) == 0:
	case g.Len() > 1:
		b = b[:min(len(b), g.Len()-1)]
	default:
		g.asked = true
		g.shut = g.open()
	}
	if g.shut != nil {
		return 0, g.shut
	}
	return g.Reader.Read(b)
}

// WriteTo hides that of the reader, which would not ask.
func (g *gate) WriteTo(w io.Writer) (int64, error) {
	return io.Copy(w, struct{ io.Reader }{g})
}
