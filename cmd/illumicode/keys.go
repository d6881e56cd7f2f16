package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

func (a *app) keys() *cobra.Command {
	return group("keys", "Make keyrings, rotate and retire their keys", a.keysNew(), a.keysRotate(),
		a.keysActivate(), a.keysRetire(), a.keysList(), a.keysRekey(), a.keysJWKS())
}

func (a *app) keysNew() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "new",
		Short: "Make a keyring with new keys, in a file that only its owner can read",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			now := time.Now()
			ring, err := keyring.NewKeyring(keyring.GenerateKey(now))
			for _, use := range []keyring.Use{keyring.ForReceipts, keyring.ForLookups} {
				if err == nil {
					ring, err = ring.Rotate(use, now, now)
				}
			}
			if err == nil {
				ring, err = ring.Without(ring.Index()[1].ID()) // the first key need not be looked up under
			}
			if err != nil {
				return err
			}
			// O_EXCL: a keyring that is overwritten takes every link in flight with it.
			file, err := os.OpenFile(out, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if errors.Is(err, fs.ErrExist) {
				return fmt.Errorf("%s exists; it is not overwritten, since every code and link in flight depends on it",
					out)
			}
			if err != nil {
				return err
			}
			if _, err := file.Write(ring.Marshal()); err != nil {
				file.Close()
				return err
			}
			if err := errors.Join(file.Sync(), file.Close()); err != nil {
				return err
			}
			return a.print(map[string]string{"file": out, "kid": ring.Active().ID()}, func() {
				a.line("Made %s with the key %s. Keep it out of version control, and back it up apart from the "+
					"database.", out, ring.Active().ID())
			})
		},
	}
	cmd.Flags().StringVar(&out, "out", "keyring.json", "the file to make")
	return cmd
}

func (a *app) keysRetire() *cobra.Command {
	var emergency bool
	var out string
	cmd := &cobra.Command{
		Use:   "retire KID",
		Short: "Remove a key that no longer signs; refused, with counts, while anything depends on it",
		Args:  oneArg("the kid of a key; `illumicode keys list` shows them"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.onKeys(cmd.Context(), func(f *config.File, ring *keyring.Keyring, st *store.Store) error {
				d, err := st.Dependents(cmd.Context(), args[0], time.Now())
				if err != nil {
					return err
				}
				next, err := ring.Without(args[0])
				// it is lost, and put on record alone
				if errors.Is(err, keyring.ErrUnknownKey) && emergency && d.Any() {
					next, err = ring, nil
				}
				if err != nil {
					return err
				}
				breaks := fmt.Sprintf(
					"%d open challenges, %d changes of address that can be taken back and %d suppressions depend on %s",
					d.Challenges, d.Changes, d.Suppressions, args[0])
				all, err := st.Processes(cmd.Context(), time.Now())
				if err != nil {
					return err
				}
				if by := signing(args[0], all); len(by) > 0 && !emergency {
					return fmt.Errorf("by what they last said, these sign with %s: %s. Bring them the keyring (one "+
						"that has died counts for a day), or say --emergency", args[0], strings.Join(by, ", "))
				}
				if d.Any() && !emergency {
					return fmt.Errorf(
						"%s; wait for them (`illumicode keys rekey` moves suppressions), or say --emergency if the "+
							"key is known to others", breaks)
				}
				if d.Any() { // a later start must not miss it; before the key goes, lest this end in between
					if err := st.RecordRetired(cmd.Context(), args[0]); err != nil {
						return err
					}
				}
				if err := a.replaceKeyring(f, next, out); err != nil {
					return err
				}
				return a.print(map[string]any{"retired": args[0], "challenges": d.Challenges, "changes": d.Changes,
					"suppressions": d.Suppressions}, func() {
					a.line("%s is retired. Wherever this keyring is taken up, links, codes, unsubscribe links and "+
						"known browsers that were made under it are refused.\n%s", args[0], taken(f, out))
					if d.Any() {
						a.line("BROKEN by it: %s. People have to ask for new letters.", breaks)
					}
				})
			})
		},
	}
	cmd.Flags().BoolVar(&emergency, "emergency", false, "retire it whatever depends on it")
	keyringOut(cmd, &out)
	return cmd
}

// keyring returns the configuration and its keyring.
func (a *app) keyring() (*config.File, *keyring.Keyring, error) {
	f, err := a.load()
	if err != nil {
		return nil, nil, err
	}
	ring, err := f.Keyring()
	if err != nil {
		return nil, nil, err
	}
	return f, keyring.Of(ring), nil
}

// onKeys runs fn with the keyring and the database of the configuration.
func (a *app) onKeys(ctx context.Context, fn func(*config.File, *keyring.Keyring, *store.Store) error) error {
	f, ring, err := a.keyring()
	if err != nil {
		return err
	}
	st, err := f.OpenStore(ctx)
	if err != nil {
		return err
	}
	rows := store.Of(st).Patient()
	if err := rows.Ready(ctx); err != nil {
		return errors.Join(err, st.Close())
	}
	return errors.Join(fn(f, ring, rows), st.Close())
}

func (a *app) keysRekey() *cobra.Command {
	return &cobra.Command{
		Use:   "rekey",
		Short: "Put what is looked up under the newest key for lookups, and under mailboxes as they are written now",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.onKeys(cmd.Context(), func(_ *config.File, ring *keyring.Keyring, st *store.Store) error {
				key, total := ring.Index()[0], 0
				for {
					n, err := st.RekeySuppressions(cmd.Context(), key.ID(), key.Lookup, 500)
					total += n
					if err != nil {
						return err
					}
					if n == 0 {
						break
					}
				}
				respelt, taken, err := respell(cmd.Context(), st)
				if err != nil {
					return err
				}
				return a.print(map[string]int{"moved": total, "respelt": respelt, "taken": taken}, func() {
					a.line("%d rows are under %s now. Those of people who were forgotten stay under their key, "+
						"which must stay in the keyring.", total, key)
					if respelt+taken > 0 {
						a.line("%d addresses are under their mailbox as it is written now; of %d another subject "+
							"holds that.", respelt, taken)
					}
				})
			})
		},
	}
}

// respell puts addresses under their mailboxes as they are written now, in pieces: what was done stays done.
func respell(ctx context.Context, st *store.Store) (respelt, taken int, err error) {
	for subject, address := "", ""; ; {
		all, err := st.After(ctx, subject, address, 500)
		if err != nil || len(all) == 0 {
			return respelt, taken, err
		}
		for _, one := range all {
			subject, address = one.Subject, one.Address
			to, err := message.ParseRecipient(one.Address)
			if err != nil || to.Mailbox() == one.Mailbox {
				continue
			}
			did := false
			err = st.Write(ctx, func(t store.Tx) (err error) {
				did, err = t.Respell(ctx, store.Spelling{Subject: subject, Address: address, Was: one.Mailbox,
					Is: to.Mailbox()})
				return err
			})
			switch {
			case err != nil:
				return respelt, taken, err
			case did:
				respelt++
			default:
				taken++
			}
		}
	}
}

func (a *app) keysJWKS() *cobra.Command {
	return &cobra.Command{
		Use:   "jwks",
		Short: "Print the public keys of receipts as a JWK Set (RFC 7517), for services that check them",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, ring, err := a.keyring()
			if err != nil {
				return err
			}
			_, err = a.out.Write(ring.JWKS(time.Now()))
			return err
		},
	}
}
