// Package outbox delivers what waits in the store: it claims, has letters composed, hands them to
// providers and records what they answered. [Outbox] is the type to read first.
//
// An attempt is committed before its first byte leaves, and its result is written once. A worker
// that dies leaves claims that run out with its lease; whoever recovers them repeats the
// attempts that were under way, and the repeat is recorded as one. So nothing is lost, and what
// arrives twice is at most what was in flight.
package outbox
