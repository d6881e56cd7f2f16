package flow_test

import (
	"testing"

	"github.com/illumicode/illumicode/internal/flow"
)

// Names that people have are greeted; what a stranger would have a letter say is not.
func TestGreeted(t *testing.T) {
	for _, name := range []string{"Mara Quist", "J. R. Amdal", "J.R. Amdal", "Jean-Luc d’Aubigné", "O'Neill", "山田太郎",
		"Jens Öhlén", "محمد", "Ｍａｒａ", "María del Mar Ruiz"} {
		if flow.Greeted(name) == "" {
			t.Errorf("%q is nobody", name)
		}
	}
	for _, name := range []string{"Visit https://evil.example", "evil.example", "You won 500 today", "Call +47 900",
		"Your account is closed today", "Mr. Quist!", "A@b", "x.com", "J.Amdal", "Mara\nQuist:",
		"аbcdefghijklmnopqrstuvwxyzabcdefghijklmnop",
		"www.evil"} {
		if got := flow.Greeted(name); got != "" {
			t.Errorf("%q is greeted as %q", name, got)
		}
	}
}
