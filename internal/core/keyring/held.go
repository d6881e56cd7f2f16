package keyring

// Held is what the public keyring embeds, so that other packages of this module reach the keys and applications do not.
type Held struct{ ring *Keyring }

func (h Held) held() *Keyring   { return h.ring }
func (h *Held) fill(r *Keyring) { h.ring = r }

// Publish makes public, which is new, the public form of r.
func Publish(public interface{ fill(*Keyring) }, r *Keyring) { public.fill(r) }

// Of returns the keyring of a public one; nil for the zero value.
func Of(public interface{ held() *Keyring }) *Keyring { return public.held() }
