// Package route says what providers are for: their terms, caps and the order in which they are preferred. [Terms] is
// the type to read first.
package route
