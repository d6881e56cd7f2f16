package flow

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
