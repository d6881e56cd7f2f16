package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
)

func (a *app) address() *cobra.Command {
	return group("address", "Addresses: what is known of them, and what people at a keyboard may do with them",
		a.addressShow(), a.addressConfirm(), a.addressSettle(), a.addressSuppress(), a.addressRestore(),
		a.addressForget(), a.addressImport())
}

// onService runs fn with the service of the configuration.
func (a *app) onService(ctx context.Context, fn func(*illumicode.Service) error) error {
	f, err := a.load()
	if err != nil {
		return err
	}
	return a.withService(ctx, f, func(svc *illumicode.Service, _ *slog.Logger) error { return fn(svc) })
}

func (a *app) addressShow() *cobra.Command {
	var resend bool
	cmd := &cobra.Command{
		Use: "show ADDRESS",
		Short: "Tell the whole story of an address: standings, challenges, letters, attempts, and why one did not " +
			"arrive",
		Args: oneArg("an address"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.onService(cmd.Context(), func(svc *illumicode.Service) error {
				if resend {
					return a.resendTo(cmd.Context(), svc, args[0])
				}
				s, err := desk.New(svc).Story(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return a.print(storyJSON(s), func() { a.story(s) })
			})
		},
	}
	cmd.Flags().BoolVar(&resend, "resend", false, "send the letter of what is pending again, as its owner could")
	return cmd
}

// resendTo sends the letter of the latest challenge that waits at an address again: the same proof, with
// the challenge's own waits. Limits do not refuse an operator.
func (a *app) resendTo(ctx context.Context, svc *illumicode.Service, address string) error {
	p, err := svc.ResendForOwner(ctx, address)
	if errors.Is(err, illumicode.ErrNothingPending) {
		return errors.New(
			"nothing is pending for this address, so there is no letter to send again; its owner can begin anew")
	}
	if soon, ok := errors.AsType[*illumicode.TooSoonError](err); ok {
		return fmt.Errorf("the letter is on its way; it can be sent again at %s", clock(soon.At))
	}
	if err != nil {
		return err
	}
	return a.print(map[string]any{"purpose": p.Purpose, "again_at": p.ResendAfter}, func() {
		a.line("The letter for %s goes out once more, with the same proof. The next time at %s.", p.Purpose,
			clock(p.ResendAfter))
	})
}

// keptBack says in words what a suppression keeps back.
var keptBack = map[desk.Scope]string{
	desk.AllLetters: "all letters",
	desk.Bounced:    "it bounced: all but one challenge a day, which lifts this if it is proven",
	desk.Notices:    "notices",
}

// story prints what is known of an address, in the order in which somebody asks.
func (a *app) story(s desk.Story) {
	a.line("%s", s.Mailbox)
	for _, sup := range s.Suppressed {
		a.line("  SUPPRESSED (%s) since %s%s `illumicode address restore` lets letters go again.", keptBack[sup.Scope],
			clock(sup.Since), because(sup.Reason))
	}
	if s.Failures >= 5 {
		a.line("  Many wrong codes lately: tries are some seconds apart. That fades within hours.")
	}
	for _, r := range s.Limited {
		what, until := "A letter for "+r.Purpose, "for good"
		if r.Again {
			what += ", sent again,"
		}
		if !r.Until.IsZero() {
			until = "until " + clock(r.Until)
		}
		a.line("  %s is refused %s by the limit %s (%s).", what, until, r.Rule, r.Limit)
	}
	if len(s.Addresses) == 0 {
		a.line("  No account has it.")
	}
	for _, one := range s.Addresses {
		line := fmt.Sprintf("  %s for subject %s since %s", one.Standing, one.Subject, clock(one.Since))
		if one.Reason != "" {
			line += ": " + one.Reason
		}
		if !one.GraceEnds.IsZero() {
			line += "; works until " + clock(one.GraceEnds)
		}
		a.line("%s", line)
	}
	for _, b := range s.Browsers {
		a.line("  Known browser: %s, since %s, last signed in at %s", cmp.Or(b.Name, "without a name"), clock(b.Since),
			clock(b.Used))
	}
	for _, c := range s.Changes {
		a.line("  Change of subject %s from %s to %s: %s, asked for at %s", c.Subject, c.Old, c.New, c.State,
			clock(c.Asked))
		if c.State == "frozen" {
			a.line("    TAKEN BACK at %s: nobody signs in to the account until it is decided which address stays:",
				clock(c.Frozen))
			a.line("    illumicode address settle %s --keep ADDRESS --reason WHY", c.ID)
		}
	}
	a.passed(s)
}

// passed prints the letters of a story, and what happened.
func (a *app) passed(s desk.Story) {
	if len(s.Letters) > 0 {
		a.line("")
		a.line("Letters, the latest first:")
	}
	for _, d := range s.Letters {
		a.line("  %s  %-14s %-10s %s", clock(d.Created), d.Letter, d.State, d.Note)
		for _, t := range d.Attempts {
			a.line("      %s  attempt %d through %s: %s  %s", clock(t.Begun), t.Number, through(t.Provider), t.Class,
				t.Reply)
		}
		for _, f := range returned(d) {
			a.line("      %s", cameBack(f))
		}
	}
	if len(s.Trail) > 0 {
		a.line("")
		a.line("What happened, the latest first:")
	}
	for _, step := range s.Trail {
		from := ""
		if step.Network != "" {
			from = "  from " + step.Network
		}
		if step.Actor != "" {
			from += "  by the " + step.Actor
		}
		a.line("  %s  %-10s %s%s", clock(step.At), step.What, step.Outcome, from)
	}
}

// storyJSON is a story for machines.
func storyJSON(s desk.Story) map[string]any {
	letters := make([]map[string]any, len(s.Letters))
	for i, d := range s.Letters {
		tried := make([]map[string]any, len(d.Attempts))
		for j, t := range d.Attempts {
			tried[j] = map[string]any{"number": t.Number, "provider": t.Provider, "begun": t.Begun, "class": t.Class,
				"reply": t.Reply}
		}
		letters[i] = map[string]any{"id": d.ID, "letter": d.Letter, "state": d.State, "created": d.Created,
			"note": d.Note, "attempts": tried, "outcome": outcome(returned(d)), "feedback": feedbackJSON(returned(d))}
	}
	standings := make([]map[string]any, len(s.Addresses))
	for i, one := range s.Addresses {
		standings[i] = map[string]any{"subject": one.Subject, "address": one.Address, "standing": one.Standing,
			"since": one.Since, "reason": one.Reason}
	}
	trail := make([]map[string]any, len(s.Trail))
	for i, t := range s.Trail {
		trail[i] = map[string]any{"at": t.At, "what": t.What, "outcome": t.Outcome, "network": t.Network,
			"actor":     t.Actor,
			"challenge": t.Challenge}
	}
	out := map[string]any{"mailbox": s.Mailbox, "standings": standings, "letters": letters, "trail": trail}
	browsers := make([]map[string]any, len(s.Browsers))
	for i, b := range s.Browsers {
		browsers[i] = map[string]any{"id": b.ID, "name": b.Name, "since": b.Since, "used": b.Used}
	}
	out["browsers"] = browsers
	suppressed := make([]map[string]any, len(s.Suppressed))
	for i, sup := range s.Suppressed {
		suppressed[i] = map[string]any{"scope": sup.Scope, "reason": sup.Reason, "since": sup.Since}
	}
	out["suppressed"] = suppressed
	refused := make([]map[string]any, len(s.Limited))
	for i, r := range s.Limited {
		refused[i] = map[string]any{"purpose": r.Purpose, "again": r.Again, "rule": r.Rule, "limit": r.Limit,
			"until": r.Until}
	}
	out["refused"] = refused
	return out
}

func (a *app) addressConfirm() *cobra.Command {
	var subject, reason string
	cmd := &cobra.Command{
		Use:   "confirm ADDRESS --subject SUBJECT --reason WHY",
		Short: "Record an address as confirmed without a proof, on your responsibility",
		Args:  oneArg("an address"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if subject == "" || reason == "" {
				return misuse{errors.New("address confirm wants --subject, and --reason: on whose word, and why")}
			}
			return a.onService(cmd.Context(), func(svc *illumicode.Service) error {
				if err := desk.New(svc).Confirm(cmd.Context(), illumicode.Holding{Subject: subject, Address: args[0]},
					desk.Reason(reason)); err != nil {
					return err
				}
				return a.print(map[string]string{"subject": subject, "standing": "confirmed"},
					func() { a.line("%s is confirmed for subject %s.", args[0], subject) })
			})
		},
	}
	cmd.Flags().StringVar(&subject, "subject", "", "whose address it is")
	cmd.Flags().StringVar(&reason, "reason", "", "on whose word, and why")
	return cmd
}

func (a *app) addressSettle() *cobra.Command {
	var keep, reason string
	cmd := &cobra.Command{
		Use:   "settle CHANGE --keep ADDRESS --reason WHY",
		Short: "Decide which address an account keeps whose change of address was taken back",
		Args:  oneArg("the id of a change, as `illumicode address show` tells it"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if keep == "" || reason == "" {
				return misuse{
					errors.New("address settle wants --keep, the address that stays, and --reason: on whose word, " +
						"and why")}
			}
			return a.onService(cmd.Context(), func(svc *illumicode.Service) error {
				err := desk.New(svc).Decide(cmd.Context(),
					desk.Decision{Change: args[0], Keep: keep, Reason: desk.Reason(reason)}, nil)
				switch {
				case errors.Is(err, illumicode.ErrNothingPending):
					return fmt.Errorf("no change with the id %s is frozen", args[0])
				case errors.Is(err, illumicode.ErrNotConfirmed):
					return fmt.Errorf(
						"%s was not proven since the change was taken back, or is none of its addresses: its owner "+
							"must follow the link of the letter that asked", keep)
				case err != nil:
					return err
				}
				return a.print(map[string]string{"kept": keep}, func() {
					a.line("%s stays; what else was in doubt is taken from the account, and people sign in again.",
						keep)
				})
			})
		},
	}
	cmd.Flags().StringVar(&keep, "keep", "", "the address that stays with the account")
	cmd.Flags().StringVar(&reason, "reason", "", "on whose word, and why")
	return cmd
}

func (a *app) addressSuppress() *cobra.Command {
	var all bool
	var reason string
	cmd := &cobra.Command{
		Use:   "suppress ADDRESS --reason WHY",
		Short: "Keep notices from an address, or with --all every letter",
		Args:  oneArg("an address"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if reason == "" {
				return misuse{errors.New("address suppress wants --reason, for whoever looks later")}
			}
			scope := desk.Notices
			if all {
				scope = desk.AllLetters
			}
			return a.onService(cmd.Context(), func(svc *illumicode.Service) error {
				if err := desk.New(svc).Suppress(cmd.Context(), args[0], scope, desk.Reason(reason)); err != nil {
					return err
				}
				return a.print(map[string]any{"suppressed": scope},
					func() { a.line("%s is not written to any more (%s).", args[0], scope) })
			})
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "also the letters that its owner asks for, such as codes")
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	return cmd
}

func (a *app) addressRestore() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use:   "restore ADDRESS --reason WHY",
		Short: "Let letters go to an address again",
		Args:  oneArg("an address"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if reason == "" {
				return misuse{errors.New("address restore wants --reason, for whoever looks later")}
			}
			return a.onService(cmd.Context(), func(svc *illumicode.Service) error {
				any, err := desk.New(svc).Restore(cmd.Context(), args[0], desk.Reason(reason))
				if err != nil {
					return err
				}
				if !any {
					return fmt.Errorf("%s was not suppressed", args[0])
				}
				return a.print(map[string]bool{"restored": true}, func() { a.line("%s is written to again.", args[0]) })
			})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	return cmd
}
