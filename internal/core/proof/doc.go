// Package proof is the state machine of one proof of address: how long its link and its
// code live, when its letter may be sent again, and what may still be accepted. [Challenge] is
// the type to read first.
//
// Everything here is a pure function of a row and an instant. The caller reads the row, asks,
// and writes the answer; what must happen exactly once (a try spent, an acceptance) is one
// conditional UPDATE in the store, never a decision taken here.
package proof
