package route

import "testing"

func TestChoose(t *testing.T) {
	both := []string{"harbour", "pier"}
	for _, tt := range []struct {
		name      string
		providers []string
		tried     []Tried
		want      string
	}{
		{"first", both, nil, "harbour"},
		{"the other after a failure", both, []Tried{{"harbour", false}}, "pier"},
		{"round again", both, []Tried{{"harbour", false}, {"pier", false}}, "harbour"},
		{"only one", []string{"pier"}, []Tried{{"pier", false}}, "pier"},
		{"ambiguous stays", both, []Tried{{"harbour", true}}, "harbour"},
		{"ambiguous stays with the second", both, []Tried{{"harbour", false}, {"pier", true}}, "pier"},
		{"ambiguous with one that is gone", both, []Tried{{"beacon", true}}, "harbour"},
		{"an older ambiguity does not bind", both, []Tried{{"harbour", true}, {"harbour", false}}, "pier"},
	} {
		if got := Choose(tt.providers, tt.tried); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
}
