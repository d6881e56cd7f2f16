package keyring

import (
	"fmt"
	"strings"
	"testing"
)

// Whatever a key is printed with, as a value or a pointer, alone or in something else, it shows its kid and nothing
// more.
func TestKeysPrintNoSecret(t *testing.T) {
	key, pair := GenerateKey(t0), newReceiptKey("pair", make([]byte, 32), t0)
	for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%d", "%x", "%X"} {
		for _, value := range []any{key, *key, pair, *pair} {
			kid := key.kid
			if _, isPair := value.(ReceiptKey); isPair || value == any(pair) {
				kid = pair.kid
			}
			if got := fmt.Sprintf(verb, value); got != kid {
				t.Errorf("%s of %T shows %q, want %q", verb, value, got, kid)
			}
		}
		for _, value := range []any{struct{ Key Key }{*key}, []*Key{key}, map[string]Key{"a": *key}} {
			if got := fmt.Sprintf(verb, value); strings.Contains(got, fmt.Sprintf(verb, key.secret)) ||
				!strings.Contains(got,
					key.kid) {
				t.Errorf("%s of %T shows %q", verb, value, got)
			}
		}
	}
}
