// Package report reads what mail systems write back about a letter: delivery status notifications
// (RFC 3464), abuse reports (RFC 5965), both in the frame of RFC 6522, and what providers POST in
// JSON. [Read] and [Mapping] are what to read first.
//
// It says what a report claims, and about which return path; whether the claim is genuine is for
// who knows the keys. Nothing here allocates more than some hundred KiB, however long a report is.
package report

import "time"

// A Kind is what a report says about a letter.
type Kind = string

// The kinds.
const (
	Delivered  Kind = "delivered"   // it reached the mailbox
	Delayed    Kind = "delayed"     // it is still being tried
	SoftBounce Kind = "soft bounce" // it came back, and another one might not
	HardBounce Kind = "hard bounce" // it came back, as every other one would
	Complaint  Kind = "complaint"   // its reader does not want such letters
	Other      Kind = "other"       // nothing that anything follows from
)

// Kinds lists all kinds, what counts least first.
var Kinds = []Kind{Other, Delayed, SoftBounce, Delivered, HardBounce, Complaint}

// Known reports whether k is one of the kinds.
func Known(k Kind) bool { return weight(k) >= 0 }

func weight(k Kind) int {
	for i, known := range Kinds {
		if k == known {
			return i
		}
	}
	return -1
}

// Outcome returns what became of a letter of which several reports speak, in whatever order they
// came: the one that counts most, or "" without any that says something.
func Outcome(all ...Kind) Kind {
	best := Other
	for _, k := range all {
		if weight(k) > weight(best) {
			best = k
		}
	}
	if best == Other {
		return ""
	}
	return best
}

// A Report is what one notification or complaint says.
type Report struct {
	Kind   Kind
	Status string    // enhanced status code (RFC 3463), such as 5.1.1; empty if none
	Text   string    // what the other side says, in one line of at most 300 characters
	ID     string    // of the report itself, by which a repeat is told; may be empty
	Paths  []string  // addresses that may be the letter's return path, the best first
	At     time.Time // when it happened; the zero time if it does not say
}
