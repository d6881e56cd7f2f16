package flow

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"

	"github.com/google/uuid"
)

// NewID returns an identifier that sorts by time of making (RFC 9562 §5.7).
func NewID() string { return uuid.Must(uuid.NewV7()).String() }

// NewTicket returns 256 random bits. They are stored under their [Digest].
func NewTicket() string {
	var b [32]byte
	rand.Read(b[:]) // never fails
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// Digest needs no key and no salt: a ticket is random, so its digest cannot be searched.
func Digest(ticket string) string {
	sum := sha256.Sum256([]byte(ticket))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}
