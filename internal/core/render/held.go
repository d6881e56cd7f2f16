package render

// Held is what the public set of letters embeds, so that other packages of this module reach the letters and
// applications do not.
type Held struct{ set *Set }

func (h Held) held() *Set   { return h.set }
func (h *Held) fill(s *Set) { h.set = s }

// Publish makes public, which is new, the public form of s.
func Publish(public interface{ fill(*Set) }, s *Set) { public.fill(s) }

// Of returns the letters of a public set; nil for the zero value.
func Of(public interface{ held() *Set }) *Set { return public.held() }
