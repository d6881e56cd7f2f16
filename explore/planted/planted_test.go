package planted

import "testing"

// Every fault can be planted: its old words stand in its file exactly once, and no two have one name.
func TestFaultsCanBePlanted(t *testing.T) {
	names := map[string]bool{}
	for _, f := range Faults {
		if _, err := f.Plant("../.."); err != nil {
			t.Error(err)
		}
		if names[f.Name] || f.Old == f.New {
			t.Errorf("%s: it stands there twice, or changes nothing", f.Name)
		}
		names[f.Name] = true
	}
	if len(Faults) < 40 {
		t.Errorf("%d faults are planted, want 40 at least", len(Faults))
	}
}
