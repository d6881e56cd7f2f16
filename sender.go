package illumicode

import (
	_ "embed"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/net/publicsuffix"

	"github.com/illumicode/illumicode/core/message"
)

// freeMail lists domains at which anybody gets a mailbox, one a line.
//
//go:embed freemail.txt
var freeMail string

// checkSender refuses a From address that no receiver would trust: of a free-mail domain, whose
// policy says that only its own servers send for it, or of a domain that is a public suffix and
// belongs to nobody.
func checkSender(from message.Address) error {
	domain := from.Domain()
	for line := range strings.Lines(freeMail) {
		if free := strings.TrimSpace(line); free != "" && !strings.HasPrefix(free, "#") && (domain == free || strings.HasSuffix(domain, "."+free)) {
			return fmt.Errorf("is at %s, where anybody gets a mailbox: receivers refuse letters from there that its own servers did not send; use an address at a domain of yours", free)
		}
	}
	if suffix, icann := publicsuffix.PublicSuffix(domain); suffix == domain && icann {
		return errors.New("is at a public suffix, which is nobody's own domain; use an address at a domain of yours")
	}
	return nil
}
