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

	// PerCountry is how many texts go to the numbers of one country code in a day: some countries' numbers pay whoever
	// is called. What is over it waits, or goes another way; who asked does not learn of it.
	PerCountry int

	Zone *time.Location // whose calendar its days and months follow; nil means UTC

	// Reserve is the share of every cap that only the urgent lane may use; 0 means a fifth, less than 0
	// none.
	Reserve float64
}
