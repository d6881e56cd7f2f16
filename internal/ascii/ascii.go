// Package ascii tells what bytes are, for addresses and header fields.
package ascii

import "unicode/utf8"

// Only reports whether s has ASCII characters alone.
func Only(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// atext marks the bytes that are an atext of RFC 5322 §3.2.3.
var atext = func() (t [256]bool) {
	for _, c := range []byte("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789!#$%&'*+-/=?^_`{|}~") {
		t[c] = true
	}
	return t
}()

// Atext reports whether c is an atext of RFC 5322 §3.2.3.
func Atext(c byte) bool { return atext[c] }
