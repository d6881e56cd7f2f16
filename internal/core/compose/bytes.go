package compose

import "io"

// Bytes is a message in memory.
type Bytes string

// WriteTo implements [io.WriterTo].
func (b Bytes) WriteTo(w io.Writer) (int64, error) {
	n, err := io.WriteString(w, string(b))
	return int64(n), err
}

// Size returns its length.
func (b Bytes) Size() int64 { return int64(len(b)) }
