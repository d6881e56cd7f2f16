// Package message holds addresses, and what an application adds to a message: header fields and attachments. [Address]
// is the type to read first.
package message
