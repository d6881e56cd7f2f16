package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

func (a *app) token() *cobra.Command {
	return group("token", "Make and read the tokens of links", a.tokenMint(), a.tokenRead())
}

// signer returns the keyring and the signer that the configuration describes.
func (a *app) signer(purpose string) (*keyring.Keyring, *keyring.Signer, error) {
	f, err := a.load()
	if err != nil {
		return nil, nil, err
	}
	ring, err := f.Keyring()
	if err != nil {
		return nil, nil, err
	}
	base, err := flow.CheckBaseURL(f.Site.BaseURL)
	return keyring.Of(ring), keyring.NewSigner(keyring.Of(ring), base, purpose), err
}

func (a *app) tokenMint() *cobra.Command {
	var life time.Duration
	cmd := &cobra.Command{
		Use:   "mint CHALLENGE",
		Short: "Make the token that letters of a challenge carry; it proves only while the challenge is open",
		Args:  oneArg("the id of a challenge, as outbox show tells it"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if life < time.Second {
				return misuse{errors.New("token mint wants a --life of a second or more")}
			}
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				c, err := st.Challenge(cmd.Context(), args[0])
				if errors.Is(err, store.ErrNotFound) {
					return fmt.Errorf("no challenge has the id %q", args[0])
				}
				if err != nil {
					return err
				}
				ring, signer, err := a.signer(c.Purpose)
				if err != nil {
					return err
				}
				now := time.Now()
				key, err := ring.Key(c.Kid, now)
				if err != nil {
					return err
				}
				ends := now.Add(life)
				tok := signer.Sign(key, keyring.Claims{Challenge: c.ID, IssuedAt: now.Unix(), Expires: ends.Unix(),
					ID: "by hand", Bound: c.Bound, Action: c.Action})
				said := map[string]any{"token": tok, "kid": key.ID(), "expires": ends.UTC().Truncate(time.Second)}
				return a.print(said, func() { a.line("%s", tok) })
			})
		},
	}
	cmd.Flags().DurationVar(&life, "life", time.Hour, "how long it verifies")
	return cmd
}

func (a *app) tokenRead() *cobra.Command {
	var purpose string
	cmd := &cobra.Command{
		Use:   "read TOKEN",
		Short: "Check a token, or the link that carries it, and say what it claims; - reads standard input",
		Args:  oneArg("a token, a link, or - for standard input"),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, signer, err := a.signer(purpose)
			if err != nil {
				return err
			}
			tok := args[0]
			if tok == "-" {
				if tok, err = bufio.NewReader(io.LimitReader(os.Stdin, 8<<10)).ReadString('\n'); err != nil &&
					!errors.Is(err, io.EOF) {
					return err
				}
			}
			tok = strings.TrimSpace(tok)
			if u, err := url.Parse(tok); err == nil && u.Query().Get("t") != "" {
				tok = u.Query().Get("t")
			}
			c, verdict := signer.Verify(tok, time.Now())
			v := map[string]any{"good": verdict == nil}
			if verdict != nil {
				v["refused"] = verdict.Error()
			}
			if c.Challenge != "" {
				v["claims"], v["kid"] = c, c.KeyID()
			}
			err = a.print(v, func() {
				if c.Challenge != "" {
					a.line("challenge  %s\npurpose    %s\nsite       %s\nissued     %s\nexpires    %s\nletter     "+
						"%s\nbound      %s (keyed digest of the challenge)\nkey        %s",
						c.Challenge, c.Purpose, c.Issuer, clock(time.Unix(c.IssuedAt, 0)),
						clock(time.Unix(c.Expires, 0)), c.ID, c.Bound, c.KeyID())
				}
				if verdict == nil {
					a.line("The signature fits. Whether the proof may still be accepted is for the challenge's row " +
						"to say.")
				}
			})
			if err == nil && verdict != nil {
				err = fmt.Errorf("refused: %w", verdict)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&purpose, "purpose", challenge.Signup, "what it must be for")
	return cmd
}
