package challenge

// The purposes that have flows of their own. An application may have further ones.
const (
	Signup   = "signup"   // confirms the address of a new account
	Reverify = "reverify" // proves an address anew, or another one for an account that exists
	SignIn   = "signin"   // signs in who holds the address
	StepUp   = "stepup"   // lets one action happen that is too dangerous for a session alone
)

// The purposes of links that prove nothing, but take something back.
const (
	NotMe = "not-me" // "this was not me"
	Undo  = "undo"   // "take the change back"
)

// A Form is one of the two forms of the proof.
type Form string

// The forms.
const (
	Code Form = "code"
	Link Form = "link"
)

// Forms says which forms a challenge offers.
type Forms string

// What can be offered.
const (
	Both     Forms = "both"
	CodeOnly Forms = "code"
	LinkOnly Forms = "link"
)

// Has reports whether f is among them.
func (fs Forms) Has(f Form) bool { return fs == Both || string(fs) == string(f) }
