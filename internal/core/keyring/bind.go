package keyring

import (
	"crypto/subtle"
	"encoding/base64"
	"strconv"
	"strings"
)

// Bind returns a keyed digest of what a row of some kind says, 128 bits, base64url. Whoever writes to the database can
// make none that fits another row, nor another row that one fits.
func (k *Key) Bind(kind string, fields ...string) string {
	var b strings.Builder
	for _, one := range append([]string{kind}, fields...) {
		b.WriteString(strconv.Itoa(len(one))) // no field can pose as the end of another
		b.WriteByte(':')
		b.WriteString(one)
	}
	sum := k.bind.sum(b.String())
	return base64.RawURLEncoding.EncodeToString(sum[:16])
}

// Fits reports, in constant time, whether a digest is the one that [Key.Bind] makes.
func (k *Key) Fits(digest, kind string, fields ...string) bool {
	return subtle.ConstantTimeCompare([]byte(digest), []byte(k.Bind(kind, fields...))) == 1
}
