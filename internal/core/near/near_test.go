package near

import "testing"

func TestList(t *testing.T) {
	for _, tt := range []struct {
		wanted string
		names  []string
		want   string
	}{
		{"moved", nil, "there is none"},
		{"moved", []string{"trial"}, `there is "trial"`},
		// near misses first
		{"moevd", []string{"cancelled", "moved", "trial"}, `there are "moved", "cancelled", "trial"`},
		{"TRIAL", []string{"b", "a", "trial"}, `there are "trial", "a", "b"`},
		{"x", []string{"a", "b", "c", "d", "e", "f", "g", "h", "i", "j", "k", "l", "m", "n"},
			`there are "a", "b", "c", "d", "e", "f", "g", "h", "i", "j", "k", "l" and 2 more`},
	} {
		if got := List(tt.wanted, tt.names); got != tt.want {
			t.Errorf("List(%q, %q) = %s, want %s", tt.wanted, tt.names, got, tt.want)
		}
	}
}

func TestDistance(t *testing.T) {
	for _, tt := range []struct {
		a, b string
		want int
	}{{"", "", 0}, {"a", "", 1}, {"moved", "moved", 0}, {"moevd", "moved", 2}, {"kitten", "sitting", 3}} {
		if got, back := distance(tt.a, tt.b), distance(tt.b, tt.a); got != tt.want || back != tt.want {
			t.Errorf("distance(%q, %q) = %d and %d, want %d", tt.a, tt.b, got, back, tt.want)
		}
	}
}
