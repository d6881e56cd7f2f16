package illumicode

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/illumicode/illumicode/core/challenge"
)

// An Ask is a challenge for a purpose of the application's own; see Config.Purposes.
type Ask struct {
	Purpose string
	Subject string
	Data    any // values for its letter: a struct or a map; nil for none
}

// Begin begins a challenge of a purpose of the application's own, in the application's transaction.
// What follows from its acceptance is the application's business; the address counts as confirmed
// for the subject.
//
// The admission must be for the same purpose (Request.Purpose).
func (t Tx) Begin(ctx context.Context, a Admission, ask Ask) (Pending, error) {
	if _, own := t.s.purposes[ask.Purpose]; !own || builtIn(ask.Purpose) {
		return Pending{}, fmt.Errorf("illumicode: %q is no purpose of the application's own; Config.Purposes names them", ask.Purpose)
	}
	if a.address.String() == "" || ask.Subject == "" {
		return Pending{}, fmt.Errorf("illumicode: Begin needs an admission from Admit and a subject")
	}
	data := ""
	if ask.Data != nil {
		raw, err := json.Marshal(ask.Data)
		if err != nil {
			return Pending{}, fmt.Errorf("illumicode: the values for the letter of %q: %w", ask.Purpose, err)
		}
		data = string(raw)
	}
	return t.begin(ctx, a, start{purpose: ask.Purpose, subject: ask.Subject, data: data})
}

// builtIn reports whether a purpose has a flow of its own.
func builtIn(purpose string) bool {
	switch purpose {
	case challenge.Signup, challenge.Reverify, challenge.SignIn, challenge.StepUp:
		return true
	}
	return false
}
