// Package model is what the documentation of Illumicode promises, as plain Go over maps and slices. It was written from
// docs/ and the doc comments, and shares no code with the service. It decides what each step of a history must lead to.
// [Model] is the type to read first.
//
// Its operations are the halves that the documentation describes. A request is admitted, then a challenge begins. A
// proof is seen, then accepted. A letter is asked for, then a worker tries to deliver it.
package model
