package route

// An Order says which of several providers that could go is preferred.
type Order string

// The orders. Whatever it is, a provider that was tried less for the delivery goes before one that was
// tried more, and one that has not carried a letter of the challenge before one that has.
const (
	Listed  Order = "listed"  // in the order of the list
	Weights Order = "weights" // by chance, in proportion to their weights
	Cost    Order = "cost"    // the cheapest
)

// Terms are what the configuration says of one provider. The zero Terms are none.
type Terms struct {
	Weight int      // for Weights; 0 or less means 1
	Cost   float64  // of one letter or text, in any currency; for Cost, and for reports
	Only   []string // recipients' domains, and country codes such as +47, that it is for; empty means all
	Never  []string // those that it is not for
	Caps   Caps
}
