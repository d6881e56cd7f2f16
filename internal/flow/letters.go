package flow

import (
	"maps"
	"slices"

	"github.com/illumicode/illumicode/internal/core/render"
)

// The letters of the flows.
const (
	ConfirmLetter  = "confirm"
	ReverifyLetter = "reverify"
	SignInLetter   = "signin"
	StepUpLetter   = "stepup"
	WelcomeLetter  = "welcome"
	ChangeLetter   = "address-change"  // tells the old address, which can take the change back
	ChangedLetter  = "address-changed" // tells it that the change was made, and once more
	ClosedLetter   = "account-closed"  // tells the old address of a change that the account was closed
	ExistsLetter   = "account-exists"  // instead of a signup's, to the owner of the account
	UnknownLetter  = "no-account"      // instead of a sign-in's, where there is no account
	RecheckLetter  = "recheck"         // asks whether an address still works
)

// TakenBack is the reason for which the addresses of a frozen account are stale.
const TakenBack = "the change of address was taken back"

// named is what most letters of the flows are given.
type named struct {
	Name string `json:"name"`
}

// ofChange is what letters to the old address of a change are given.
type ofChange struct {
	named
	NewAddress string `json:"new_address"`
	UndoDays   int    `json:"undo_days"`
}

// values are what the flows give to their letters, by the letters' names.
var values = map[string]any{
	ConfirmLetter: named{}, ReverifyLetter: named{}, SignInLetter: named{}, WelcomeLetter: named{},
	ExistsLetter: named{}, UnknownLetter: named{}, RecheckLetter: named{},
	StepUpLetter: struct {
		named
		Action string `json:"action"`
	}{},
	ChangeLetter: ofChange{}, ChangedLetter: ofChange{},
	ClosedLetter: struct {
		named
		NewAddress string `json:"new_address"`
	}{},
}

// Misfits returns the values that letters of the flows use and no flow supplies, sorted by letter: such a letter would
// fail each time.
func Misfits(set *render.Set) (all []render.Finding) {
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if !set.Has(name) {
			continue
		}
		if err := set.CheckType(name, values[name]); err != nil {
			all = append(all, render.Finding{Letter: name, Locale: "any", Level: render.Fault, What: err.Error()})
		}
	}
	return all
}
