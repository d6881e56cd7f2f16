package message

// A Field is a header field of the application's own.
type Field struct{ Name, Value string }
