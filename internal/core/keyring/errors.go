package keyring

import "errors"

// What [Signer.Verify] can answer. The checks run in this order, and the first that fails wins:
// an expired forgery is ErrForged.
var (
	ErrMalformed  = errors.New("token: not a token of this service") // shape, length or header
	ErrUnknownKey = errors.New("token: signed with a key that is not in the keyring")
	ErrForged     = errors.New("token: signature does not fit")
	ErrPurpose    = errors.New("token: made for another purpose or another site")
	ErrExpired    = errors.New("token: expired")
)
