// Package retry names what an attempt to deliver can lead to, and how often one is repeated. [Class] and [Policy] are
// the types to read first.
package retry
