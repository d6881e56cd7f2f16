package keyring

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

// Seal encrypts and authenticates values for a purpose, as text that fits a URL: kid "." base64url.
// Unlike a link it has no end and can be used any number of times; it is for what its reader may
// do at any time, such as ending notices. Equal values give equal text, so that every attempt of a
// letter carries the same bytes; nothing else can be told from it (AES-256-GCM under a nonce that
// is a keyed digest of what is sealed).
func (k *Key) Seal(purpose string, values ...string) string {
	plain, err := json.Marshal(values)
	if err != nil {
		panic(err) // strings always marshal
	}
	aead := k.aead()
	mac := hmac.New(sha256.New, k.seal)
	fmt.Fprintf(mac, "%d:%s%s", len(purpose), purpose, plain)
	nonce := mac.Sum(nil)[:aead.NonceSize()]
	return k.kid + "." + base64.RawURLEncoding.EncodeToString(aead.Seal(nonce, nonce, plain, []byte(purpose)))
}

// Unseal returns what was sealed for a purpose under a key of the ring that may verify at now. The
// error matches [ErrMalformed], [ErrUnknownKey] or [ErrForged].
func (r *Keyring) Unseal(purpose, sealed string, now time.Time) ([]string, error) {
	kid, text, ok := strings.Cut(sealed, ".")
	// Even a strict decoder skips line breaks: a value with two spellings slips past whatever is keyed by
	// its text.
	if !ok || len(sealed) > maxSealed || strings.ContainsAny(text, "\r\n") {
		return nil, ErrMalformed
	}
	k, err := r.Key(kid, now)
	if err != nil {
		return nil, err
	}
	raw, err := base64.RawURLEncoding.Strict().DecodeString(text)
	aead := k.aead()
	if err != nil || len(raw) < aead.NonceSize() {
		return nil, ErrMalformed
	}
	n := aead.NonceSize()
	plain, err := aead.Open(nil, raw[:n], raw[n:], []byte(purpose))
	if err != nil {
		return nil, ErrForged
	}
	var values []string
	if err := json.Unmarshal(plain, &values); err != nil {
		return nil, ErrMalformed
	}
	return values, nil
}

// maxSealed bounds what Unseal looks at, in bytes.
const maxSealed = 12 << 10

func (k *Key) aead() cipher.AEAD {
	block, err := aes.NewCipher(k.seal)
	if err != nil {
		panic(err) // the key has 32 bytes
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		panic(err) // AES has blocks of 16 bytes
	}
	return aead
}
