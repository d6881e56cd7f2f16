// Package keyring signs and checks the short expiring tokens that travel in links, and holds the
// keyring they are signed with. [Signer] and [Keyring] are the types to read first.
//
// A token is a JWS in compact serialisation (RFC 7515 §3.1) whose payload is a JWT claims set
// (RFC 7519). It is signed with HS256 (RFC 7518 §3.2), not encrypted, and nothing is stored
// here: a token verifies until it expires. Whether what it names may still be accepted is
// decided by the row that [Claims.Challenge] points at, never by the token.
//
// Every use of a root secret has a key of its own, derived once by HKDF-SHA256 (RFC 5869).
package keyring
