package judge

import (
	"strings"

	"github.com/illumicode/illumicode/limit"
)

// About says which letters a rule is about, in words: "first letters of signup by sms".
func About(r limit.Rule) string {
	words := map[limit.Stage]string{"": "letters", limit.First: "first letters",
		limit.Again: "letters sent again", limit.Wrong: "wrong codes"}[r.Stage]
	if len(r.On) > 0 {
		words += " of " + strings.Join(r.On, ", ")
	}
	if r.Medium != "" {
		words += " by " + string(r.Medium)
	}
	if r.New {
		words += " to addresses not yet confirmed"
	}
	return words
}
