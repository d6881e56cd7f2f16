package main

import (
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/store"
)

func (a *app) migrate() *cobra.Command {
	var printOnly bool
	cmd := &cobra.Command{
		Use:   "migrate",
		Short: "Create the tables, or bring them up to this version",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if printOnly {
				return a.print(store.Migrations(), func() {
					for _, m := range store.Migrations() {
						a.line("-- %04d %s\n\n%s", m.Number, m.Name, m.SQL)
					}
				})
			}
			f, err := a.load()
			if err != nil {
				return err
			}
			st, err := f.OpenStore(cmd.Context())
			if err != nil {
				return err
			}
			defer st.Close()
			done, err := st.Migrate(cmd.Context(), time.Now())
			if err != nil {
				return err
			}
			names := []string{}
			for _, m := range done {
				names = append(names, m.Name)
			}
			return a.print(map[string]any{"applied": names}, func() {
				if len(done) == 0 {
					a.line("The tables are those of this version; nothing to do.")
				}
				for _, m := range done {
					a.line("Applied %04d %s.", m.Number, m.Name)
				}
			})
		},
	}
	cmd.Flags().BoolVar(&printOnly, "print", false, "print the SQL instead of running it")
	return cmd
}
