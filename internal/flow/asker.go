package flow

import "context"

// askerKey is the context key of what asks for a notice.
type askerKey struct{}

// AskedBy returns a context that says, in words, what asks for the notices under it.
func AskedBy(ctx context.Context, words string) context.Context {
	return context.WithValue(ctx, askerKey{}, words)
}

// Asker returns what AskedBy has said, or "the application".
func Asker(ctx context.Context) string {
	if words, ok := ctx.Value(askerKey{}).(string); ok {
		return words
	}
	return "the application"
}
