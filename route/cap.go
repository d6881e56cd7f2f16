package route

import (
	"time"
)

// Caps are what a provider takes, all workers together. Zero fields are no cap.
type Caps struct {
	PerSecond float64
	PerDay    int
	PerMonth  int
	AtOnce    int
	Zone      *time.Location // whose calendar its days and months follow; nil means UTC

	// Reserve is the share of every cap that only the urgent lane may use; 0 means a fifth, less than 0
	// none.
	Reserve float64
}
