package keyring

import (
	"crypto/hmac"
	"encoding/base32"
	"encoding/hex"
	"strings"
	"time"
)

// A return path is the local part that a letter's envelope is from: base32 (RFC 4648 §6, without
// padding, in small letters) of the 128-bit id of its delivery and the first 80 bits of a keyed
// digest of that. Its 42 characters fit the 64 of a local part (RFC 5321 §4.5.3.1.1), and servers
// that change upper and lower case do no harm.
var pathAlphabet = base32.StdEncoding.WithPadding(base32.NoPadding)

// PathLength is the length of a return path in characters.
const PathLength = 42

const (
	idBytes  = 16
	tagBytes = 10
)

// ReturnPath returns the return path of a delivery, whose id is a UUID in its usual form. It is ""
// for any other id.
func (k *Key) ReturnPath(delivery string) string {
	raw, err := hex.DecodeString(strings.ReplaceAll(delivery, "-", ""))
	if err != nil || len(raw) != idBytes {
		return ""
	}
	tag := k.path.sum(string(raw))
	return strings.ToLower(pathAlphabet.EncodeToString(append(raw, tag[:tagBytes]...)))
}

// ReadReturnPath returns the id of the delivery whose return path this is, and whether a key that
// may still verify at now has made it. Upper and lower case are the same.
func (r *Keyring) ReadReturnPath(path string, now time.Time) (delivery string, ok bool) {
	if len(path) != PathLength {
		return "", false
	}
	raw, err := pathAlphabet.DecodeString(strings.ToUpper(path))
	if err != nil || strings.ToUpper(path) != pathAlphabet.EncodeToString(raw) { // one spelling: its last bits are none
		return "", false
	}
	for _, k := range r.now.Load().all {
		tag := k.path.sum(string(raw[:idBytes]))
		if (k.verifyUntil.IsZero() || now.Before(k.verifyUntil)) && hmac.Equal(tag[:tagBytes], raw[idBytes:]) {
			id := hex.EncodeToString(raw[:idBytes])
			return strings.Join([]string{id[:8], id[8:12], id[12:16], id[16:20], id[20:]}, "-"), true
		}
	}
	return "", false
}
