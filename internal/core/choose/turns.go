package choose

// Turns chooses between lanes that share senders: smooth weighted turns. Each that has something earns
// its weight, the richest goes, and pays what all have earned. It is not safe for concurrent use.
type Turns struct{ weights, credit []int }

// NewTurns returns turns of lanes with these weights, the fastest lane first.
func NewTurns(weights ...int) Turns { return Turns{weights, make([]int, len(weights))} }

// Next returns the lane whose turn it is, of those that have something; -1 if none has.
func (t Turns) Next(has func(lane int) bool) int {
	best, total := -1, 0
	for lane, weight := range t.weights {
		if !has(lane) {
			t.credit[lane] = 0
			continue
		}
		total += weight
		t.credit[lane] += weight
		if best < 0 || t.credit[lane] > t.credit[best] {
			best = lane
		}
	}
	if best >= 0 {
		t.credit[best] -= total
	}
	return best
}
