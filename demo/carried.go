package demo

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
)

// A load is what a provider carried.
type load struct {
	letters int // accepted
	failed  int // attempts that were not
}

// carried returns what each provider has carried so far.
func (d *Demo) carried(ctx context.Context) (map[string]load, error) {
	all, err := flow.Of(d.Service).Store.ByProvider(ctx)
	out := make(map[string]load)
	for _, one := range all {
		l := out[one.Provider]
		if one.Class == retry.Accepted {
			l.letters += one.Count
		} else {
			l.failed += one.Count
		}
		out[one.Provider] = l
	}
	return out, err
}

// tellCarried tells who carried what in the script, and why.
func (d *Demo) tellCarried(ctx context.Context, out *Teller) error {
	carried, err := d.carried(ctx)
	if err != nil {
		return err
	}
	why, err := d.whys(ctx)
	if err != nil {
		return err
	}
	out.Carried(carried, why)
	return nil
}

// tellStormCarried tells who carried what since before.
func (d *Demo) tellStormCarried(ctx context.Context, out *Teller, before map[string]load) error {
	if err := d.settle(ctx); err != nil { // a letter arrives a moment before that is recorded
		return err
	}
	carried, err := d.carried(ctx)
	if err != nil {
		return err
	}
	for name, l := range carried {
		carried[name] = load{l.letters - before[name].letters, l.failed - before[name].failed}
	}
	out.Carried(carried, nil)
	return nil
}

// whys counts, for each provider, why it was chosen for the letters that it took.
func (d *Demo) whys(ctx context.Context) (map[string]map[string]int, error) {
	out := make(map[string]map[string]int)
	err := d.eachAttempt(ctx, func(a store.Attempt) {
		if a.Class != retry.Accepted {
			return
		}
		if out[a.Provider] == nil {
			out[a.Provider] = make(map[string]int)
		}
		out[a.Provider][reason(a)]++
	})
	return out, err
}

// reason says in a few words why an attempt went through its provider: what was in the way of those that
// are preferred, without the moment at which it ended.
func reason(a store.Attempt) string {
	var before []string
	for part := range strings.SplitSeq(a.Route, "; ") {
		name, words, _ := strings.Cut(part, ": ")
		if name == a.Provider {
			_, special, found := strings.Cut(words, "chosen, ")
			switch {
			case len(before) > 0:
				return strings.Join(before, "; ")
			case found:
				return special
			}
			return "first of the list"
		}
		words, _, _ = strings.Cut(words, " until ")
		words, _, _ = strings.Cut(words, ", free at ")
		if words != "not needed" {
			before = append(before, name+": "+words)
		}
	}
	return "the only one"
}

// Harbour tells what happens to the provider that fails.
func (t *Teller) Harbour(what string) {
	t.object(map[string]any{"provider": "harbour", "event": what})
	t.line("")
	t.line("%s", t.paint("33", "        Provider harbour "+what+"."))
}

// Carried tells who carried what, and why where that is known.
func (t *Teller) Carried(all map[string]load, why map[string]map[string]int) {
	t.line("")
	head := fit("Provider", 10) + "Letters  Failed"
	if why != nil {
		head += "  Chosen because"
	}
	t.line("%s", t.paint("1", head))
	for _, name := range slices.Sorted(maps.Keys(all)) {
		t.object(map[string]any{"provider": name, "letters": all[name].letters, "failed": all[name].failed,
			"why": why[name]})
		reasons := slices.SortedFunc(maps.Keys(why[name]), func(a, b string) int { return why[name][b] - why[name][a] })
		first := fmt.Sprintf("%s%7d %7d", fit(name, 10), all[name].letters, all[name].failed)
		if len(reasons) == 0 {
			t.line("%s", first)
		}
		for i, r := range reasons {
			if i > 0 {
				first = strings.Repeat(" ", 25)
			}
			line := fmt.Sprintf("%s  %s (%d)", first, r, why[name][r])
			if len(line) > 100 { // several were in the way
				line = strings.ReplaceAll(line, "; ", ";\n"+strings.Repeat(" ", 27))
			}
			t.line("%s", line)
		}
	}
}
