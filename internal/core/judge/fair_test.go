package judge_test

import (
	"fmt"
	"testing"

	"github.com/illumicode/illumicode/internal/core/judge"
)

// One network that has taken all leaves half to a second, a third to a third; a whole /24 is one network; and however
// many there are, what they get together is bounded.
func TestFair(t *testing.T) {
	for _, tt := range []struct {
		had     map[string]int
		network string
		want    int // letters that it gets
	}{
		{map[string]int{"203.0.113.7": 24}, "198.51.100.1", 5},
		{map[string]int{"203.0.113.7": 24, "192.0.2.1": 5}, "198.51.100.1", 3},
		{map[string]int{"203.0.113.7": 24}, "203.0.113.7", 0},
		{map[string]int{"203.0.113.7": 24}, "203.0.113.8", 0}, // beside it
		{map[string]int{"203.0.113.7": 3}, "203.0.113.8", 0},  // nobody else has had more
		{map[string]int{"2001:db8:1:2::/64": 24}, "2001:db8:1:3::/64", 0},
		{map[string]int{"2001:db8:1:2::/64": 24}, "2001:db8:2:3::/64", 5},
		{nil, "", 0},
		{nil, "nonsense", 0},
	} {
		had := make(map[string]int)
		for k, v := range tt.had {
			had[k] = v
		}
		got := 0
		for judge.Fair(judge.FairPlaces, had, tt.network) {
			got, had[tt.network] = got+1, had[tt.network]+1
		}
		if got != tt.want {
			t.Errorf("%v, %q gets %d, want %d", tt.had, tt.network, got, tt.want)
		}
	}
	had, total := map[string]int{"203.0.113.7": 24}, 0
	for i := range 200 {
		network := fmt.Sprintf("10.0.%d.1", i)
		for judge.Fair(judge.FairPlaces, had, network) {
			total, had[network] = total+1, had[network]+1
		}
	}
	if total != judge.MostFair(judge.FairPlaces) {
		t.Errorf("200 networks get %d beside the first, want %d", total, judge.MostFair(judge.FairPlaces))
	}
}
