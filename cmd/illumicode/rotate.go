package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/store"
)

// replaceKeyring writes a keyring in the place of the configuration's, or to out, whole or not at all. Processes that
// run take a file up within seconds.
func (a *app) replaceKeyring(f *config.File, ring *keyring.Keyring, out string) error {
	path := out
	if path == "" {
		if path = f.KeyringPath(); path == "" {
			return misuse{fmt.Errorf("the keyring is in the environment variable %s, which nobody else can "+
				"change: give --out FILE for its new value", f.Keys.Env)}
		}
	}
	temp, err := os.CreateTemp(filepath.Dir(path), ".keyring-*") // 0600
	if err != nil {
		return err
	}
	defer os.Remove(temp.Name()) // after the rename there is nothing
	if _, err := temp.Write(ring.Marshal()); err != nil {
		temp.Close()
		return err
	}
	if err := errors.Join(temp.Sync(), temp.Close()); err != nil {
		return err
	}
	return os.Rename(temp.Name(), path)
}

func keyringOut(cmd *cobra.Command, out *string) {
	cmd.Flags().StringVar(out, "out", "",
		"write the new keyring to this file instead, such as for an environment variable")
}

// taken says how processes get a keyring that was written.
func taken(f *config.File, out string) string {
	switch {
	case out != "":
		return "It is in " + out + ", which holds secrets: bring it to every machine, and delete the file."
	default:
		return "Processes that read " + f.Keys.File + " take it up within seconds; bring it to every other machine."
	}
}

func (a *app) keysRotate() *cobra.Command {
	var use, out string
	cmd := &cobra.Command{
		Use:   "rotate",
		Short: "Add a new key that signs nothing yet; `keys activate` makes it sign, once every process knows it",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			f, ring, err := a.keyring()
			if err != nil {
				return err
			}
			next, kid, err := ring.Add(keyring.Use(use), time.Now())
			if err != nil {
				return misuse{err}
			}
			if err := a.replaceKeyring(f, next, out); err != nil {
				return err
			}
			_, signs := next.Kids()
			first := slices.Contains(signs, kid)
			return a.print(map[string]any{"kid": kid, "use": use, "signs": first}, func() {
				if first {
					a.line("Added %s, for %s. It is the first, and signs at once.\n%s", kid,
						describeUse(keyring.Use(use)),
						taken(f, out))
					return
				}
				a.line("Added %s, for %s. It signs nothing yet.\n%s\nThen `illumicode keys activate %s`.", kid,
					describeUse(keyring.Use(use)), taken(f, out), kid)
			})
		},
	}
	cmd.Flags().StringVar(&use, "use", string(keyring.ForLinks),
		"what for: link (links, codes, what is sealed), receipt or index (lookups)")
	keyringOut(cmd, &out)
	return cmd
}

func describeUse(use keyring.Use) string {
	return map[keyring.Use]string{keyring.ForLinks: "links and codes", keyring.ForReceipts: "receipts",
		keyring.ForLookups: "lookups"}[use]
}

func (a *app) keysActivate() *cobra.Command {
	var overlap time.Duration
	var out string
	var now bool
	cmd := &cobra.Command{
		Use:   "activate KID",
		Short: "Let a key sign that was added; refused, with their names, while processes do not know it",
		Args:  oneArg("the kid of a key; `illumicode keys list` shows them"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if overlap < 24*time.Hour {
				return misuse{errors.New("--overlap is a day at least: links and codes in flight must outlive it")}
			}
			return a.onKeys(cmd.Context(), func(f *config.File, ring *keyring.Keyring, st *store.Store) error {
				at := time.Now()
				next, err := ring.Activate(args[0], at, at.Add(overlap))
				if err != nil {
					return err
				}
				all, err := st.Processes(cmd.Context(), at)
				if err != nil {
					return err
				}
				older, err := st.OlderWorkers(cmd.Context(), at)
				if err != nil {
					return err
				}
				if behind := behind(args[0], all, older); len(behind) > 0 && !now {
					return fmt.Errorf("%d of %d processes do not know %s, and would refuse what it signs:\n  %s\n"+
						"Bring them the keyring (one that has died counts for a day), or say --now", len(behind),
						len(all)+len(older),
						args[0], strings.Join(behind, "\n  "))
				}
				if err := a.replaceKeyring(f, next, out); err != nil {
					return err
				}
				return a.print(map[string]any{"kid": args[0], "processes": len(all) + len(older),
					"known": knowing(args[0], all)}, func() {
					until := "until " + clock(at.Add(overlap))
					if next.LooksUp(args[0]) {
						until = "as long as a row needs it"
					}
					a.line("%s signs wherever this keyring is taken up; %d of %d processes know it.", args[0],
						knowing(args[0], all), len(all)+len(older))
					a.line("The one before verifies %s.\n%s", until, taken(f, out))
				})
			})
		},
	}
	cmd.Flags().DurationVar(&overlap, "overlap", 90*24*time.Hour,
		"how long the key before verifies; unsubscribe links and known browsers end with it")
	cmd.Flags().BoolVar(&now, "now", false, "whoever does not know it yet")
	keyringOut(cmd, &out)
	return cmd
}

// knowing counts the processes that know a key.
func knowing(kid string, all []store.Process) (n int) {
	for _, p := range all {
		if p.Knows(kid) {
			n++
		}
	}
	return n
}

// behind names the processes that do not know a key, or are too old to say so.
func behind(kid string, all, older []store.Process) (names []string) {
	for _, p := range all {
		if !p.Knows(kid) {
			names = append(names, fmt.Sprintf("%s, seen %s, knows %s", processName(p), clock(p.Seen),
				strings.Join(p.Kids, ", ")))
		}
	}
	for _, p := range older {
		names = append(names, fmt.Sprintf("%s, a worker of an older version, which does not say what it knows",
			processName(p)))
	}
	return names
}

// signing names the processes that sign with a key.
func signing(kid string, all []store.Process) (names []string) {
	for _, p := range all {
		if slices.Contains(p.Signs, kid) {
			names = append(names, processName(p))
		}
	}
	return names
}

func processName(p store.Process) string { return fmt.Sprintf("%s (pid %d)", p.Host, p.PID) }

// disagreements says which processes sign with a key that others lack.
func disagreements(all []store.Process) (lines []string) {
	for _, p := range all {
		for _, kid := range p.Signs {
			for _, other := range all {
				if !other.Knows(kid) {
					lines = append(lines, fmt.Sprintf("%s, seen %s, signs with %s, which %s, seen %s, does not know",
						processName(p), clock(p.Seen), kid, processName(other), clock(other.Seen)))
				}
			}
		}
	}
	return lines
}
