package httpapi

import (
	"io"
	"sync"
)

// A gate is the body of a request. Before its last byte it asks whether that may leave. The transport may still read it
// when the answer is there.
type gate struct {
	open func() error

	mu    sync.Mutex // guards what follows
	rest  []byte
	asked bool
	shut  error // why the last byte may not leave
}

// Read implements [io.Reader].
func (g *gate) Read(b []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	may := len(g.rest)
	if !g.asked {
		if may--; may <= 0 {
			g.asked = true
			g.shut = g.open()
			may = len(g.rest)
		}
	}
	switch {
	case g.shut != nil:
		return 0, g.shut
	case may == 0:
		return 0, io.EOF
	}
	n := copy(b, g.rest[:may])
	g.rest = g.rest[n:]
	return n, nil
}

// refused returns why the last byte did not leave; nil if it did, or was not asked for.
func (g *gate) refused() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.shut
}
