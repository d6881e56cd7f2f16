// Package judge decides how often something may happen: requests of people, and the hand-overs that a
// provider takes. [Set] is the type to read first, [Judge] the function.
//
// A rule counts under a key, such as one address or one network, in one of four ways: a limit.Rate with a
// burst (the generic cell rate algorithm, ITU-T I.371), a calendar limit.Quota, a limit.Ladder of waits that
// grow, or so many limit.AtOnce. Whatever it counts, all that is kept of a key is one [State].
//
// All rules that apply to a request are judged together: it spends from all of them or from none. A
// refusal says exactly when the same request would pass, if nothing else came in between.
//
// Nothing here waits, stores or reads a clock. A state from the future, left behind by a clock that
// jumped, never locks a key for longer than a full burst, one window, or one rung would.
package judge
