// Package text gathers what several goroutines write.
package text

import (
	"strings"
	"sync"
)

// A Text is a string that grows. The zero Text is empty; it is safe for concurrent use.
type Text struct {
	mu sync.Mutex // guards b
	b  strings.Builder
}

// Write implements io.Writer.
func (t *Text) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.b.Write(p)
}

// String returns all that was written so far.
func (t *Text) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.b.String()
}
