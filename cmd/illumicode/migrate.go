package main

import (
	"errors"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
)

func (a *app) migrate() *cobra.Command {
	var printOnly, roles bool
	var database, schema string
	cmd := &cobra.Command{
		Use:   "migrate",
		Short: "Create the tables, or bring them up to this version",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			flags := cmd.Flags()
			switch {
			case flags.Changed("for") && !printOnly:
				return misuse{errors.New("--for goes with --print; without it the configuration names the database")}
			case flags.Changed("schema") && !printOnly && !roles:
				return misuse{errors.New("--schema goes with --print or --print-roles; without them the " +
					"configuration says it, store.schema")}
			case printOnly && roles:
				return misuse{errors.New("--print and --print-roles are run apart: roles need rights that tables " +
					"do not; say one of them")}
			case printOnly:
				return a.printMigrations(database, schema)
			case roles:
				a.line("%s", strings.TrimRight(db.Roles(schema), "\n"))
				return nil
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
			done, err := store.Of(st).Patient().Migrate(cmd.Context(), time.Now())
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
	cmd.Flags().BoolVar(&printOnly, "print", false, "print the SQL for an empty database instead of running it")
	cmd.Flags().BoolVar(&roles, "print-roles", false,
		"print the SQL that makes roles of PostgreSQL with the least rights")
	cmd.Flags().StringVar(&database, "for", "sqlite", "with --print: for which database, sqlite or postgres")
	cmd.Flags().StringVar(&schema, "schema", "",
		"with --print or --print-roles: the schema of PostgreSQL that holds the tables")
	return cmd
}

// printMigrations prints SQL that makes the tables in an empty database, and records that they were made.
func (a *app) printMigrations(database, schema string) error {
	script, err := db.Script(database, schema, time.Now())
	if err != nil {
		return misuse{err}
	}
	return a.print(map[string]string{"for": database, "sql": script},
		func() { a.line("%s", strings.TrimRight(script, "\n")) })
}
