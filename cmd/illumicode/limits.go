package main

import (
	"fmt"
	"net/netip"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/internal/core/exposure"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/limit"
)

func (a *app) limits() *cobra.Command {
	return group("limits",
		"How often letters can be asked for: the rules, what they would say now, and the worst they allow",
		a.limitsList(), a.limitsTry(), a.limitsReport())
}

func (a *app) limitsList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the rules that hold, and where each comes from",
		Args:  noArgs,
		RunE: func(*cobra.Command, []string) error {
			f, err := a.load()
			if err != nil {
				return err
			}
			all, err := f.Limits()
			if err != nil {
				return err
			}
			type row struct {
				Name  string `json:"name"`
				How   string `json:"how_often"`
				About string `json:"about"`
				Mode  string `json:"mode"`
				From  string `json:"from"`
			}
			rows := make([]row, len(all))
			for i, l := range all {
				mode := "enforce"
				if l.Observe {
					mode = "observe"
				}
				rows[i] = row{l.Name, l.Rule.String(), judge.About(l.Rule), mode, l.From}
			}
			return a.print(rows, func() {
				for _, r := range rows {
					a.line("%-18s %s", r.Name, r.How)
					a.line("%-18s %s; %s; %s", "", r.About, r.Mode, r.From)
				}
			})
		},
	}
}

func (a *app) limitsTry() *cobra.Command {
	var address, network, purpose, subject string
	var again bool
	cmd := &cobra.Command{
		Use:   "try",
		Short: "Say what the rules would answer to a request, now and over the next hour; nothing is spent",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if address == "" {
				return misuse{fmt.Errorf("limits try wants --address: whom the letter would go to")}
			}
			ctx := cmd.Context()
			if network != "" {
				from, err := netip.ParseAddr(network)
				if err != nil {
					return misuse{fmt.Errorf("--network: %q is no IP address", network)}
				}
				ctx = illumicode.FromNetwork(ctx, from)
			}
			stage := limit.First
			if again {
				stage = limit.Again
			}
			return a.onService(ctx, func(svc *illumicode.Service) error {
				told, err := desk.New(svc).TryLimits(ctx, illumicode.Request{Address: address, Purpose: purpose,
					Subject: subject}, stage)
				if err != nil {
					return err
				}
				return a.print(answerJSON(told), func() { a.answer(told, svc.Now(), network != "") })
			})
		},
	}
	cmd.Flags().StringVar(&address, "address", "", "whom the letter would go to")
	cmd.Flags().StringVar(&network, "network",
		"", "the IP address that it is asked from; without it rules by network are left out")
	cmd.Flags().StringVar(&purpose, "purpose", "signup",
		"what for: signup, signin, reverify, stepup, or one of your own")
	cmd.Flags().StringVar(&subject, "subject", "", "who asks, where the application knows")
	cmd.Flags().BoolVar(&again, "again", false, "ask for a letter sent again, and not for a first one")
	return cmd
}

func answerJSON(told desk.Answer) map[string]any {
	rules := make([]map[string]any, 0, len(told.Rules))
	for _, r := range told.Rules {
		one := map[string]any{"name": r.Rule.Name, "how_often": r.Rule.String(), "left": r.Left,
			"observe": r.Rule.Observe}
		if !r.At.IsZero() {
			one["at"] = r.At
		}
		rules = append(rules, one)
	}
	out := map[string]any{"now": told.Now, "in_an_hour": told.Hour, "rules": rules}
	if told.Refuser != "" {
		out["refuser"] = told.Refuser
	}
	if !told.NextAfter.IsZero() {
		out["next_after"] = told.NextAfter
	}
	return out
}

func (a *app) answer(told desk.Answer, now time.Time, fromNetwork bool) {
	if len(told.Rules) == 0 {
		a.line("No rule is about such a request: any number passes.")
		return
	}
	for _, r := range told.Rules {
		what := fmt.Sprintf("%d more", r.Left)
		if !r.At.IsZero() {
			what = fmt.Sprintf("refuses for %s, until %s", r.At.Sub(now).Round(time.Second), clock(r.At))
		}
		if r.Rule.Observe {
			what += " (observes only)"
		}
		a.line("%-18s %-46s %s", r.Rule.Name, r.Rule.String(), what)
	}
	a.line("")
	a.line("Now: %s. Within the hour: %d in all, each asked for as soon as it passes.", pass(told.Now), told.Hour)
	switch {
	case !told.NextAfter.IsZero():
		a.line("The one after those of now passes at %s; until then %s refuses it.", clock(told.NextAfter),
			told.Refuser)
	case told.Refuser != "":
		a.line("After those %s refuses for longer than the hour.", told.Refuser)
	}
	if !fromNetwork {
		a.line("Rules by network are left out; name one with --network.")
	}
}

func pass(n int) string {
	if n == 1 {
		return "1 passes"
	}
	return fmt.Sprintf("%d pass", n)
}

func (a *app) limitsReport() *cobra.Command {
	return &cobra.Command{
		Use:   "report",
		Short: "Work out from the configuration the worst that strangers can do: letters, money, guesses",
		Args:  noArgs,
		RunE: func(*cobra.Command, []string) error {
			f, err := a.load()
			if err != nil {
				return err
			}
			in, err := f.Exposure()
			if err != nil {
				return err
			}
			return a.print(exposureJSON(exposure.Report(in)), func() { a.exposure(exposure.Report(in), in.Rules) })
		},
	}
}

func exposureJSON(all []exposure.Figure) map[string]any {
	rows := make([]map[string]string, len(all))
	for i, f := range all {
		rows[i] = map[string]string{"about": f.About, "value": f.Value, "because": f.Because}
		if f.Warning != "" {
			rows[i]["warning"] = f.Warning
		}
	}
	return map[string]any{"figures": rows, "note": exposure.NoClaim}
}

func (a *app) exposure(all []exposure.Figure, rules []limit.Rule) {
	warnings := 0
	for _, f := range all {
		a.line("%14s  %s", f.Value, f.About)
		a.wrapped(16, f.Because)
		if f.Warning != "" {
			warnings++
			a.wrapped(16, "WARNING: "+f.Warning)
		}
	}
	a.line("")
	a.wrapped(0, fmt.Sprintf("From %d rules; those that only observe bound nothing. Warnings: %d. %s", len(rules),
		warnings, exposure.NoClaim))
}
