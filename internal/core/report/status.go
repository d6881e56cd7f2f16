package report

import (
	"regexp"
	"strconv"
	"strings"
)

// Severity returns whether a refusal is the address's own and lasting. status is an enhanced status
// code (RFC 3463), code an SMTP reply code (RFC 5321 §4.2.3); either may be missing.
//
// Hard is what says that the mailbox is not there: X.1 but for the sender's own faults (X.1.7, X.1.8)
// and X.1.5, which says that the address is good, and X.2.1, a mailbox that is shut. A full mailbox, a
// policy, a letter that is too long or a route that is broken may be otherwise tomorrow. Where there
// is no status, 550, 551, 553 and 556 (RFC 7504) are hard.
func Severity(status string, code int) Kind {
	class, rest, _ := strings.Cut(status, ".")
	switch class {
	case "2":
		return Delivered
	case "4":
		return SoftBounce
	case "5":
		subject, detail, _ := strings.Cut(rest, ".")
		if subject == "1" && detail != "5" && detail != "7" && detail != "8" || rest == "2.1" {
			return HardBounce
		}
		if rest != "0.0" {
			return SoftBounce
		}
	}
	switch code {
	case 550, 551, 553, 556:
		return HardBounce
	}
	return SoftBounce
}

var (
	enhancedCode = regexp.MustCompile(`(?:^|[\s;#(-])([245]\.\d{1,3}\.\d{1,3})(?:$|[\s;:,)\]-])`)
	replyCode    = regexp.MustCompile(`(?:^|[\s;])([2-5][0-5]\d)(?:$|[\s-])`)
)

// statusIn returns the first enhanced status code in a text, or "".
func statusIn(text string) string {
	if m := enhancedCode.FindStringSubmatch(text); m != nil {
		return m[1]
	}
	return ""
}

// codeIn returns the first SMTP reply code in a text, or 0.
func codeIn(text string) int {
	if m := replyCode.FindStringSubmatch(text); m != nil {
		n, _ := strconv.Atoi(m[1]) // three digits
		return n
	}
	return 0
}
