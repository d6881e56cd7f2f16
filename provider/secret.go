package provider

import (
	"fmt"
	"io"
	"log/slog"
)

// A Secret is a password or key in a configuration. However it is printed, logged or marshalled,
// it shows as dots; [Secret.Reveal] gives the value to the one place that needs it.
type Secret string

// Reveal returns the value.
func (s Secret) Reveal() string { return string(s) }

const masked = "•••"

func (s Secret) String() string               { return masked }
func (s Secret) Format(f fmt.State, _ rune)   { io.WriteString(f, masked) }
func (s Secret) MarshalText() ([]byte, error) { return []byte(masked), nil }
func (s Secret) LogValue() slog.Value         { return slog.StringValue(masked) }
