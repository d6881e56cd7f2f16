package main

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/postgres"
	"github.com/illumicode/illumicode/store/sqlite"
)

func (a *app) migrate() *cobra.Command {
	var printOnly bool
	var database string
	cmd := &cobra.Command{
		Use:   "migrate",
		Short: "Create the tables, or bring them up to this version",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if printOnly {
				return a.printMigrations(database)
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
	cmd.Flags().StringVar(&database, "for", "sqlite", "with --print: for which database, sqlite or postgres")
	return cmd
}

// printMigrations prints the SQL of all steps in the words of a database; for PostgreSQL with the
// roles that processes may have.
func (a *app) printMigrations(database string) error {
	words := map[string]func(string) string{"sqlite": sqlite.Words, "postgres": postgres.Words}[database]
	if words == nil {
		return misuse{fmt.Errorf("--for %s: say sqlite or postgres", database)}
	}
	steps := store.Migrations()
	for i := range steps {
		steps[i].SQL = words(steps[i].SQL)
	}
	return a.print(steps, func() {
		for _, m := range steps {
			a.line("-- %04d %s\n\n%s", m.Number, m.Name, m.SQL)
		}
		if database == "postgres" {
			a.line("-- roles; not a part of the migration\n\n%s", postgres.Roles)
		}
	})
}
