package history

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"strings"
)

// corpus has a line for each history that has found something: what it was, and the steps.
//
//go:embed corpus.jsonl
var corpus string

// A Found is a history that has once found something.
type Found struct {
	What string
	History
}

// Corpus returns the histories that have found something.
func Corpus() (all []Found, err error) {
	n := 0
	for line := range strings.Lines(corpus) {
		n++
		var one Found
		if err := json.Unmarshal([]byte(line), &one); err != nil {
			return nil, fmt.Errorf("corpus.jsonl, line %d: %w", n, err)
		}
		all = append(all, one)
	}
	return all, nil
}

// Row returns a failure as a line of the corpus.
func (f *Failure) Row() string {
	raw, _ := json.Marshal(Found{History: f.History}) // plain values
	return string(raw)
}
