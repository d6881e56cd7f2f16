// Package model is what the documentation of Illumicode promises, as plain Go over maps and slices: addresses and their
// holders, challenges, registrations, changes of address, known browsers, tries, limits and letters. It was written
// from docs/ and the doc comments, shares no code with the service, and decides what each step of a history must lead
// to. [Model] is the type to read first.
//
// Its operations are the halves that the documentation describes: a request is admitted, then a challenge begins; a
// proof is seen, then accepted; a letter is asked for, then a worker tries to deliver it.
package model
