// Package challenge holds what a proof of an address is asked for and how: purposes, forms and policies. [Policy] is
// the type to read first.
package challenge
