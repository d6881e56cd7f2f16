package main

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/store"
)

// A keyLine is one key of a list.
type keyLine struct {
	Kid    string      `json:"kid"`
	Use    keyring.Use `json:"use"`
	Status string      `json:"status"`
	Until  time.Time   `json:"until,omitzero"`
	Known  int         `json:"known"` // by how many processes

	Challenges, Changes, Suppressions int
}

// keyLines returns the keys of a keyring, with what depends on them and how many processes know them.
func keyLines(ctx context.Context, ring *keyring.Keyring, st *store.Store, all []store.Process) ([]keyLine, error) {
	var lines []keyLine
	add := func(i int, kid string, use keyring.Use, until time.Time) error {
		d, err := st.Dependents(ctx, kid, time.Now())
		l := keyLine{Kid: kid, Use: use, Status: "verify", Until: until, Challenges: d.Challenges, Changes: d.Changes,
			Suppressions: d.Suppressions} // the words of the file
		if i == 0 {
			l.Status = "active"
		}
		l.Known = knowing(kid, all)
		lines = append(lines, l)
		return err
	}
	for i, k := range ring.Keys() {
		if err := add(i, k.ID(), keyring.ForLinks, k.Until()); err != nil {
			return nil, err
		}
	}
	for i, k := range ring.Receipts() {
		if err := add(i, k.ID(), keyring.ForReceipts, k.Until()); err != nil {
			return nil, err
		}
	}
	for i, k := range ring.Index() {
		if err := add(i, k.ID(), keyring.ForLookups, k.Until()); err != nil {
			return nil, err
		}
	}
	return lines, nil
}

func (a *app) keysList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "Show the keys, until when they verify, which processes know them, and what depends on them",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.onKeys(cmd.Context(), func(_ *config.File, ring *keyring.Keyring, st *store.Store) error {
				processes, err := st.Processes(cmd.Context(), time.Now())
				if err != nil {
					return err
				}
				keys, err := keyLines(cmd.Context(), ring, st, processes)
				if err != nil {
					return err
				}
				disagree := disagreements(processes)
				return a.print(map[string]any{"keys": keys, "processes": processesOf(processes),
					"disagreements": disagree}, func() { a.tellKeys(keys, processes, disagree) })
			})
		},
	}
}

func (a *app) tellKeys(keys []keyLine, processes []store.Process, disagree []string) {
	a.line("%-24s %-8s %-8s %-8s %-20s %10s %8s %13s", "KEY", "USE", "STATUS", "KNOWN BY", "VERIFIES UNTIL",
		"CHALLENGES", "CHANGES", "SUPPRESSIONS")
	for _, k := range keys {
		until := "-"
		if !k.Until.IsZero() {
			until = clock(k.Until)
		}
		a.line("%-24s %-8s %-8s %-8s %-20s %10d %8d %13d", k.Kid, k.Use, k.Status,
			fmt.Sprintf("%d of %d", k.Known, len(processes)), until, k.Challenges, k.Changes, k.Suppressions)
	}
	for _, k := range keys {
		if k.Status != "active" && k.Until.IsZero() && k.Use != keyring.ForLookups {
			a.line("%s signs nothing, and has no end: `illumicode keys activate %s` lets it sign.", k.Kid, k.Kid)
		}
	}
	if len(processes) > 0 {
		a.line("\nPROCESSES of the last day")
	}
	for _, p := range processes {
		a.line("  %s %s, seen %s; signs with %s", processName(p), p.Version, clock(p.Seen), strings.Join(p.Signs, ", "))
	}
	for _, l := range disagree {
		a.line("THE KEYRINGS DIFFER: %s.", l)
	}
}

// A processJSON is a process of a list.
type processJSON struct {
	Host    string    `json:"host"`
	PID     int       `json:"pid"`
	Version string    `json:"version"`
	Kids    []string  `json:"kids"`
	Signs   []string  `json:"signs"`
	Seen    time.Time `json:"seen"`
}

func processesOf(all []store.Process) []processJSON {
	out := make([]processJSON, len(all))
	for i, p := range all {
		out[i] = processJSON{p.Host, p.PID, p.Version, p.Kids, p.Signs, p.Seen}
	}
	return out
}
