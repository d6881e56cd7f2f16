// Package limit holds rules on how often something may happen: requests of people, by whom and for what. [Rule] is the
// type to read first. How they are judged is told in docs/limits.md.
package limit
