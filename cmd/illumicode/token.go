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
	var purpose, id, address string
	var life time.Duration
	cmd := &cobra.Command{
		Use:   "mint",
		Short: "Make the token of a challenge; it proves nothing unless that challenge exists and is open",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if id == "" || address == "" || life < time.Second {
				return misuse{errors.New("token mint wants --challenge, --address and a --life of a second or more")}
			}
			ring, signer, err := a.signer(purpose)
			if err != nil {
				return err
			}
			now := time.Now()
			key := ring.Active()
			tok := signer.Sign(key, keyring.Claims{Challenge: id, IssuedAt: now.Unix(), Expires: now.Add(life).Unix(),
				ID: "by hand", Address: key.Thumbprint(address)})
			return a.print(map[string]any{"token": tok, "kid": key.ID(),
				"expires": now.Add(life).UTC().Truncate(time.Second)},
				func() { a.line("%s", tok) })
		},
	}
	cmd.Flags().StringVar(&purpose, "purpose", challenge.Signup, "what it is for")
	cmd.Flags().StringVar(&id, "challenge", "", "the id of the challenge")
	cmd.Flags().StringVar(&address, "address", "", "the exact address of the challenge")
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
						"%s\naddress    %s (thumbprint)\nkey        %s",
						c.Challenge, c.Purpose, c.Issuer, clock(time.Unix(c.IssuedAt, 0)),
						clock(time.Unix(c.Expires, 0)), c.ID, c.Address, c.KeyID())
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
