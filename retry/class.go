package retry

// A Class is what a provider's answer to one attempt means for the delivery.
type Class string

// The classes. All but Ambiguous are certain: the provider has the letter, or it has not.
const (
	Accepted         Class = "accepted"          // the provider took responsibility for the letter
	Ambiguous        Class = "ambiguous"         // lost after the letter was complete: it may have been taken
	Transient        Class = "transient"         // not now: a 4xx, a lost connection, a time-out before the end
	Throttled        Class = "throttled"         // not so fast: the provider may say when
	Misconfigured    Class = "misconfigured"     // our own fault: wrong password, bad certificate, sender refused
	RecipientRefused Class = "recipient refused" // this address will never work here
	MessageRefused   Class = "message refused"   // this letter will never work here
)
