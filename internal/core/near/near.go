// Package near lists the names that there are, for errors about one that there is not.
package near

import (
	"fmt"
	"slices"
	"strings"
)

// most bounds how many names an error lists.
const most = 12

// List returns the names that there are, in words, those that look most like wanted first: `there are "a", "b" and 3
// more`. It is "there is none" for no names.
func List(wanted string, names []string) string {
	if len(names) == 0 {
		return "there is none"
	}
	sorted := slices.Sorted(slices.Values(names))
	slices.SortStableFunc(sorted, func(a, b string) int { return rank(wanted, a) - rank(wanted, b) })
	shown := sorted[:min(len(sorted), most)]
	quoted := make([]string, len(shown))
	for i, name := range shown {
		quoted[i] = fmt.Sprintf("%q", name)
	}
	text := strings.Join(quoted, ", ")
	if rest := len(sorted) - len(shown); rest > 0 {
		return fmt.Sprintf("there are %s and %d more", text, rest)
	}
	if len(shown) == 1 {
		return "there is " + text
	}
	return "there are " + text
}

// rank is 0 for a slip of the pen, counting up to 3; all others are alike, and stay in order.
func rank(wanted, name string) int {
	d := distance(strings.ToLower(wanted), strings.ToLower(name))
	if d <= 1+len(wanted)/4 {
		return min(d, 3)
	}
	return 4
}

// distance is the number of bytes to insert, delete or change to get from a to b (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		last := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := last
			if a[i] != b[j] {
				change++
			}
			last = row[j+1]
			row[j+1] = min(change, row[j+1]+1, row[j]+1)
		}
	}
	return row[len(b)]
}
