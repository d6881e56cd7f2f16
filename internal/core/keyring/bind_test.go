package keyring

import "testing"

// Rows of another kind, with other fields, with the same bytes cut elsewhere, or under another key have other digests.
func TestBind(t *testing.T) {
	key := GenerateKey(t0)
	digest := key.Bind("challenge", "ab", "", "c")
	if !key.Fits(digest, "challenge", "ab", "", "c") {
		t.Fatal("a row does not fit its own digest")
	}
	for _, other := range [][]string{{"change", "ab", "", "c"}, {"challenge", "a", "b", "c"}, {"challenge", "ab0:1:c"},
		{"challenge", "ab", "c", ""}, {"challenge", "ab", "c"}, {"challenge", "ab", "", "c", ""}} {
		if key.Fits(digest, other[0], other[1:]...) {
			t.Errorf("%q fits the digest of another row", other)
		}
	}
	if GenerateKey(t0).Fits(digest, "challenge", "ab", "", "c") || key.Fits("", "challenge") {
		t.Error("a digest of another key fits, or none at all")
	}
}
