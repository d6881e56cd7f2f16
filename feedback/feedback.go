package feedback

import "time"

// A Feedback is what somebody says of one letter. Which letter that is must be beyond doubt: a return path is signed,
// and for the other two whoever calls answers, as a webhook does that has checked a signature. One of them is required.
type Feedback struct {
	// "delivered", "delayed", "soft bounce", "hard bounce", "complaint", or "other", from which nothing follows
	Kind   string
	Status string    // enhanced status code (RFC 3463), such as 5.1.1; may be empty
	Text   string    // what the other side says, in one line of at most 300 characters
	ID     string    // of the report itself, by which a repeat is told; may be empty
	At     time.Time // when it happened; zero if that is not known

	Source   string // the provider whose words these are; empty for a report that came by mail
	Path     string // where the report went, or what it names: a return path
	Delivery string // our id
	Letter   string // the provider's own id of the letter, as it answered it
}

// A Mapping says where in a provider's JSON what stands. All but Each are pointers (RFC 6901) into one event; Kind,
// Kinds and one of Letter and Delivery are required.
type Mapping struct {
	Each     string            // to the list of events in the body; empty means that the body is one, or a list
	ID       string            // of the event, by which a repeat is told; empty means from what it says
	Letter   string            // the provider's own id of the letter, as it answered it
	Delivery string            // our id of it, where the provider hands on what it was given
	Kind     string            // what has happened, in the provider's words
	Kinds    map[string]string // which kind of a Feedback these words mean, or "bounce", hard or soft by the status
	Status   string            // enhanced status code, or a text that holds one
	Code     string            // SMTP reply code
	Text     string
	At       string // RFC 3339, or Unix time in seconds or milliseconds
}

// A Signature says how a provider signs what it POSTs: HMAC-SHA256 (RFC 2104) with a key that both know.
type Signature struct {
	Key    []byte // of 16 bytes or more
	Header string // the field that holds it
	Prefix string // that stands before it there, such as sha256=; may be empty
	Base64 bool   // it is in base64, and not in hexadecimal
	// the field with the time of signing in Unix seconds, signed in front of the body as TIME.BODY; may be empty
	Timestamp string
}
