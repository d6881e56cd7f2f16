package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/core/token"
)

func (a *app) keys() *cobra.Command {
	return group("keys", "Make keyrings", a.keysNew())
}

func (a *app) keysNew() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "new",
		Short: "Make a keyring with one new key, in a file that only its owner can read",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ring, err := token.NewKeyring(token.GenerateKey(time.Now()))
			if err != nil {
				return err
			}
			// O_EXCL: a keyring that is overwritten takes every link in flight with it.
			file, err := os.OpenFile(out, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if errors.Is(err, fs.ErrExist) {
				return fmt.Errorf("%s exists; it is not overwritten, since every code and link in flight depends on it", out)
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
				a.line("Made %s with the key %s. Keep it out of version control, and back it up apart from the database.", out, ring.Active().ID())
			})
		},
	}
	cmd.Flags().StringVar(&out, "out", "keyring.json", "the file to make")
	return cmd
}
