package illumicode

import (
	_ "embed"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/net/publicsuffix"

	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
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
		if free := strings.TrimSpace(line); free != "" && !strings.HasPrefix(free, "#") &&
			(domain == free || strings.HasSuffix(domain, "."+free)) {
			return fmt.Errorf(
				"is at %s, where anybody gets a mailbox: receivers refuse letters from there that its own servers "+
					"did not send; use an address at a domain of yours", free)
		}
	}
	if suffix, icann := publicsuffix.PublicSuffix(domain); suffix == domain && icann {
		return errors.New("is at a public suffix, which is nobody's own domain; use an address at a domain of yours")
	}
	return nil
}

// mayWrite refuses a sender that no receiver would trust, or that no provider has verified. It
// needs one that has: the others do not get its letters.
func mayWrite(from message.Address, ways []provider.Provider) error {
	var refusal error
	able := false
	for _, p := range ways {
		can := p.Can()
		if !can.Mail {
			continue
		}
		if can.MaySend(from.String()) {
			able = true
		} else if refusal == nil {
			refusal = fmt.Errorf(
				"is an address that provider %q has not verified (it has %s), nor has any other; verify it there "+
					"and list it, or send from one of these", p.Name(), strings.Join(can.Senders, ", "))
		}
	}
	if refusal != nil && !able {
		return refusal
	}
	return checkSender(from)
}
