package main

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
)

func (a *app) addressImport() *cobra.Command {
	var dry bool
	var before string
	cmd := &cobra.Command{
		Use: "import FILE.csv",
		Short: "Take addresses over from a CSV file with the columns subject, address and, if known, standing, " +
			"since, reason, locale",
		Args: oneArg("a CSV file, or - for standard input"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o := desk.ImportOptions{DryRun: dry}
			if before != "" {
				var err error
				if o.Grandfather, err = readTime(before); err != nil {
					return misuse{fmt.Errorf("--grandfather-before %w", err)}
				}
			}
			in := io.Reader(os.Stdin)
			if args[0] != "-" {
				file, err := os.Open(args[0])
				if err != nil {
					return err
				}
				defer file.Close()
				in = file
			}
			return a.onService(cmd.Context(), func(svc *illumicode.Service) error {
				done, err := desk.New(svc).Import(cmd.Context(), readBackfill(in), o)
				printed := a.print(map[string]any{"rows": done.Rows, "changed": done.Changed,
					"unchanged": done.Unchanged, "refused": done.Omitted, "why": done.Why, "dry_run": dry}, func() {
					would := ""
					if dry {
						would = " (a dry run: nothing was changed)"
					}
					a.line("%d rows: %d new or changed, %d known already, %d refused%s.", done.Rows, done.Changed,
						done.Unchanged, done.Omitted, would)
					for _, r := range done.Why {
						a.line("  line %d: %s", r.Line, r.Why)
					}
				})
				if err == nil && done.Omitted > 0 {
					err = fmt.Errorf(
						"%d rows were left out; mend them and import the file again, which changes nothing twice",
						done.Omitted)
				}
				return errors.Join(printed, err)
			})
		},
	}
	cmd.Flags().BoolVar(&dry, "dry-run", false, "say what would happen, and change nothing")
	cmd.Flags().StringVar(&before, "grandfather-before",
		"", "confirm addresses without a standing that are from before this day, such as 2026-11-01")
	return cmd
}

// readTime reads a day or an instant.
func readTime(text string) (time.Time, error) {
	for _, layout := range []string{time.RFC3339, time.DateTime, time.DateOnly} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no day such as 2026-11-01 and no time such as 2026-11-01T08:00:00Z", text)
}

var columns = []string{"subject", "address", "standing", "since", "reason", "locale"}

// readBackfill reads the rows of a CSV file (RFC 4180) with a header. It ends with the first error of
// the file itself; what is wrong in a row comes with the row.
func readBackfill(in io.Reader) iter.Seq2[desk.Backfill, error] {
	return func(yield func(desk.Backfill, error) bool) {
		r := csv.NewReader(in)
		r.ReuseRecord = true
		header, err := r.Read()
		if err != nil {
			yield(desk.Backfill{}, fmt.Errorf("the file has no header line, which names its columns: %w", err))
			return
		}
		at := make(map[string]int)
		for i, name := range header {
			name = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(name, "\ufeff")))
			if !slices.Contains(columns, name) {
				yield(desk.Backfill{}, fmt.Errorf("line 1: there is no column %q; the columns are %s", name,
					strings.Join(columns, ", ")))
				return
			}
			at[name] = i
		}
		for _, required := range columns[:2] {
			if _, ok := at[required]; !ok {
				yield(desk.Backfill{}, fmt.Errorf("line 1: the column %q is missing", required))
				return
			}
		}
		for {
			record, err := r.Read()
			if errors.Is(err, io.EOF) {
				return
			}
			if err != nil {
				yield(desk.Backfill{}, err)
				return
			}
			get := func(name string) string {
				if i, ok := at[name]; ok {
					return strings.TrimSpace(record[i])
				}
				return ""
			}
			line, _ := r.FieldPos(0)
			row := desk.Backfill{Line: line, Subject: get("subject"), Address: get("address"),
				Standing: get("standing"), Reason: get("reason"), Locale: get("locale")}
			if since := get("since"); since != "" {
				if row.Since, err = readTime(since); err != nil {
					row.Wrong = "since: " + err.Error()
				}
			}
			if !yield(row, nil) {
				return
			}
		}
	}
}
