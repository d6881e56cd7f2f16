package smtp

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// An Outcome says what a refusal means, where the provider means something else by it than others do. All conditions
// that are set must hold; of several outcomes the first that fits counts, and none leaves the default.
type Outcome struct {
	At       string // "connect", "mail", "rcpt" or "letter" (DATA and after it); empty means anywhere
	Code     string // the reply code, "452", or the kind, "4xx" or "5xx"; empty means any
	Enhanced string // the enhanced code (RFC 3463), "4.7.28", or its beginning, "4.7"; empty means any, or none
	Words    string // words that stand in the reply one after the other, whatever their case; empty means any

	// One of Transient, Throttled, Misconfigured, RecipientRefused and MessageRefused: a refusal is certain.
	Class retry.Class

	// Whom Throttled or Misconfigured concerns. Empty means the provider.
	Concerns provider.Concern
}

// The places of a dialogue, as configurations name them.
var places = map[string][]step{"connect": {stepConnect}, "mail": {stepMail}, "rcpt": {stepRcpt},
	"letter": {stepData, stepBody, stepFinal}}

var (
	outcomeCode     = regexp.MustCompile(`^[45](xx|[0-5]\d)$`)
	outcomeEnhanced = regexp.MustCompile(`^[45](\.\d{1,3}){0,2}$`)
)

// wrong says why an outcome cannot work, or "". before are those that come first.
func (o Outcome) wrong(before []Outcome) string {
	certain := []retry.Class{retry.Transient, retry.Throttled, retry.Misconfigured, retry.RecipientRefused,
		retry.MessageRefused}
	switch _, place := places[o.At]; {
	case !slices.Contains(certain, o.Class):
		return fmt.Sprintf("class %q is none that a refusal can have; say one of %q", o.Class, certain)
	case o.At != "" && !place:
		return fmt.Sprintf(`at is %q; say "connect", "mail", "rcpt" or "letter"`, o.At)
	case o.Code != "" && !outcomeCode.MatchString(o.Code):
		return fmt.Sprintf(`code is %q; it never fits, as a refusal has a code from 400 to 559, "4xx" or "5xx"`, o.Code)
	case o.Enhanced != "" && !outcomeEnhanced.MatchString(o.Enhanced):
		return fmt.Sprintf(`enhanced is %q; say a code such as "4.7.28", or its beginning`, o.Enhanced)
	case o.Code != "" && o.Enhanced != "" && o.Code[0] != o.Enhanced[0]:
		return fmt.Sprintf("it never fits: the code %s and the enhanced code %s begin with different digits", o.Code,
			o.Enhanced)
	case o.Words != strings.TrimSpace(o.Words):
		return "words begin or end with a space"
	case o == Outcome{Class: o.Class, Concerns: o.Concerns}:
		return "it fits every refusal; say at, code, enhanced or words"
	case o.Concerns != provider.ConcernsProvider && o.Concerns != provider.ConcernsDomain:
		return fmt.Sprintf(`concerns is %q; say "domain", or leave it out for the provider`, o.Concerns)
	case o.Concerns == provider.ConcernsDomain && (o.At == "connect" || o.At == "mail"):
		return "no recipient's domain is known at connect and mail; leave concerns out"
	case o.Concerns != provider.ConcernsProvider && o.Class != retry.Throttled && o.Class != retry.Misconfigured:
		return fmt.Sprintf("concerns has no effect with the class %s", o.Class)
	}
	for i, first := range before {
		if first.covers(o) {
			return fmt.Sprintf("it never counts: outcome %d fits whatever it fits, and comes first", i+1)
		}
	}
	return ""
}

// covers reports whether o fits wherever later does.
func (o Outcome) covers(later Outcome) bool {
	code := o.Code == "" || o.Code == later.Code ||
		strings.HasSuffix(o.Code, "xx") && strings.HasPrefix(later.Code, o.Code[:1])
	return code && (o.At == "" || o.At == later.At) && begins(later.Enhanced, o.Enhanced) &&
		contains(later.Words, o.Words)
}

// fits reports whether the outcome is one for a refusal.
func (o Outcome) fits(at step, code int, enhanced, words string) bool {
	return (o.At == "" || slices.Contains(places[o.At], at)) &&
		(o.Code == "" || o.Code == strconv.Itoa(code) || o.Code == strconv.Itoa(code/100)+"xx") &&
		begins(enhanced, o.Enhanced) && contains(words, o.Words)
}

// begins reports whether an enhanced code is another, or one below it.
func begins(enhanced, with string) bool {
	return with == "" || enhanced == with || strings.HasPrefix(enhanced, with+".")
}

// contains reports whether whole words stand in a text.
func contains(text, words string) bool {
	if words == "" {
		return true
	}
	edge := func(c byte) bool { return !('a' <= c && c <= 'z' || '0' <= c && c <= '9') }
	text, words = strings.ToLower(text), strings.ToLower(words)
	for from := 0; ; {
		i := strings.Index(text[from:], words)
		if i < 0 {
			return false
		}
		start, end := from+i, from+i+len(words)
		if (start == 0 || edge(text[start-1])) && (end == len(text) || edge(text[end])) {
			return true
		}
		from = start + 1
	}
}
