package message

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// RefuseDomains returns a Config.Admit that refuses addresses at some domains and below them, such
// as those where mailboxes are thrown away. list has one domain a line; # begins a comment. Which
// domains those are is for the application to know.
func RefuseDomains(list string) (func(context.Context, Address) error, error) {
	refused := make(map[string]bool)
	n := 0
	for line := range strings.Lines(list) {
		n++
		name, _, _ := strings.Cut(line, "#")
		if name = strings.TrimSpace(name); name == "" {
			continue
		}
		a, err := ParseAddress("anybody@" + name)
		if err != nil {
			return nil, fmt.Errorf("illumicode: line %d of the refused domains, %q, is no domain", n, name)
		}
		refused[a.Domain()] = true
	}
	return func(_ context.Context, a Address) error {
		if a.IsPhone() {
			return nil
		}
		for domain, more := a.Domain(), true; more; _, domain, more = strings.Cut(domain, ".") {
			if refused[domain] {
				return errors.New("addresses at this domain are not taken here; use another one")
			}
		}
		return nil
	}, nil
}
