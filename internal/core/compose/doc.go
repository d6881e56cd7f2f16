// Package compose composes Internet messages: header fields (RFC 5322),
// encoded words (RFC 2047) and MIME bodies (RFC 2045, 2046). [Message] is the type to read
// first.
//
// Composition is deterministic: the same Message gives the same bytes, so that every attempt of
// a delivery carries the same letter. Nothing is sent here. What a letter says is the business
// of package letter.
package compose
