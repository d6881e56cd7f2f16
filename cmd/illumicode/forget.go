package main

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
)

func (a *app) addressForget() *cobra.Command {
	var yes, keep, resume bool
	cmd := &cobra.Command{
		Use:   "forget ADDRESS",
		Short: "Erase a person everywhere, and say where the address remains",
		RunE: func(cmd *cobra.Command, args []string) error {
			if resume == (len(args) == 1) || len(args) > 1 {
				return misuse{errors.New("address forget wants an address, or --resume to end what was begun")}
			}
			if resume {
				return a.resumeForget(cmd.Context())
			}
			if !yes {
				ok, err := a.ask(
					fmt.Sprintf("Everything that is kept of %s would be erased, letters on their way too. Go on?",
						args[0]))
				if err != nil {
					return err
				}
				if !ok {
					return errors.New("nothing was changed")
				}
			}
			return a.onService(cmd.Context(), func(svc *illumicode.Service) error {
				how := desk.Erasure{Progress: a.progress()}
				if keep {
					how.Leave = desk.LeaveThumbprint
				}
				f, err := desk.New(svc).Forget(cmd.Context(), args[0], how)
				if err != nil {
					return unfinished(f, err)
				}
				return a.tellForgotten(f)
			})
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().BoolVar(&keep, "suppress", false, "leave a thumbprint, so that nothing writes to the address again")
	cmd.Flags().BoolVar(&resume, "resume", false, "go on with the erasures that were broken off")
	return cmd
}

func (a *app) resumeForget(ctx context.Context) error {
	return a.onService(ctx, func(svc *illumicode.Service) error {
		all, err := desk.New(svc).ResumeForget(ctx, a.progress())
		if err != nil {
			var last desk.Forgotten
			if len(all) > 0 {
				last = all[len(all)-1]
			}
			return unfinished(last, err)
		}
		if len(all) == 0 {
			return a.print([]any{}, func() { a.line("No erasure was broken off.") })
		}
		for _, f := range all {
			if err := a.tellForgotten(f); err != nil {
				return err
			}
		}
		return nil
	})
}

// unfinished says how far an erasure came that has failed.
func unfinished(f desk.Forgotten, err error) error {
	if f.Stages == 0 {
		return err
	}
	return fmt.Errorf("NOT FORGOTTEN YET: %d of %d steps are done; `illumicode address forget --resume` goes on: %w",
		f.Stage,
		f.Stages, err)
}

// progress returns what tells how far an erasure is, every two seconds.
func (a *app) progress() func(desk.Forgotten) {
	last := time.Now()
	return func(f desk.Forgotten) {
		if f.Done || time.Since(last) < 2*time.Second {
			return
		}
		last = time.Now()
		fmt.Fprintf(a.err, "not forgotten yet: step %d of %d, %d rows looked at, %d erased or changed\n", f.Stage+1,
			f.Stages, f.Looked, f.Rows)
	}
}

func (a *app) tellForgotten(f desk.Forgotten) error {
	if len(f.Left) > 0 {
		var where []string
		for _, l := range f.Left {
			where = append(where, fmt.Sprintf("%s.%s (%d)", l.Table, l.Column, l.Rows))
		}
		return fmt.Errorf("NOT FORGOTTEN: %d rows were erased or changed, and the address still stands in %s. Run "+
			"this again for what was written meanwhile; a key of your own that names it is yours to change", f.Rows,
			strings.Join(where, ", "))
	}
	return a.print(map[string]any{"erased": f.Rows, "looked": f.Looked, "left": 0, "akin": f.Akin}, func() {
		a.line("Forgotten. %d rows were erased or changed, %d were looked at. The address stands in no text of any "+
			"table; the contents of attachments were not looked at.", f.Rows, f.Looked)
		if len(f.Akin) > 0 {
			a.line("The same account has or had other addresses, which are kept: %s. Forget those of "+
				"the same person, too.", strings.Join(f.Akin, ", "))
		}
	})
}
