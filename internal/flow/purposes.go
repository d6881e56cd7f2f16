package flow

import (
	"fmt"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/core/render"
)

// Policies are those of the purposes that have flows of their own.
type Policies map[string]challenge.Policy

// letterOf names the letters of these purposes.
var letterOf = map[string]string{
	challenge.Signup: ConfirmLetter, challenge.Reverify: ReverifyLetter, challenge.SignIn: SignInLetter,
	challenge.StepUp: StepUpLetter,
}

// Purposes returns all purposes with their letters and policies: those of the flows, and the application's own.
func Purposes(set *render.Set, policies Policies, own map[string]Purpose) (map[string]Purpose, error) {
	all := make(map[string]Purpose)
	for name, letter := range letterOf {
		all[name] = Purpose{Letter: letter, Policy: policies[name]}
	}
	for name, p := range own {
		_, taken := all[name]
		switch {
		case taken || name == challenge.NotMe || name == challenge.Undo || name == "":
			return nil, fmt.Errorf("has %q, which is taken; choose another name", name)
		case !set.Has(p.Letter):
			return nil, fmt.Errorf("has %q, and %w", name, set.Missing(p.Letter))
		case !set.CarriesProof(p.Letter):
			return nil, fmt.Errorf("has %q, which needs a letter with a button or a place for a code; %q is none", name,
				p.Letter)
		}
		all[name] = p
	}
	for name, p := range all {
		room := roomOf(set.Offers(p.Letter))
		switch {
		case p.Policy.Forms == "":
			p.Policy.Forms = room
		case p.Policy.Forms != room && room != challenge.Both:
			return nil, fmt.Errorf("has a policy of %s whose letters carry %s, and letter %q has room for %s only",
				name,
				p.Policy.Forms, p.Letter, room)
		}
		var err error
		if p.Policy, err = proof.WithDefaults(p.Policy, name); err != nil {
			return nil, fmt.Errorf("has a policy of %s that cannot be: %w", name, err)
		}
		all[name] = p
	}
	return all, nil
}

// roomOf returns the forms of a proof that a letter has room for.
func roomOf(link, code bool) challenge.Forms {
	switch {
	case link && code:
		return challenge.Both
	case link:
		return challenge.LinkOnly
	}
	return challenge.CodeOnly
}
