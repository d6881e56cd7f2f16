package main

import (
	"errors"
	"fmt"
	"net"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"github.com/illumicode/illumicode/internal/serving"
	"github.com/illumicode/illumicode/internal/standin"
)

func (a *app) standin() *cobra.Command {
	var web, smtp, temper string
	var seed uint64
	cmd := &cobra.Command{
		Use:   "standin",
		Short: "Run simulated providers: a mail interface, an SMS gateway and an SMTP relay with a temper",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var t standin.Temper
			if temper != "" {
				f, err := os.Open(temper)
				if err != nil {
					return fmt.Errorf("--temper: %w", err)
				}
				defer f.Close()
				if t, err = standin.ReadTemper(f); err != nil {
					return fmt.Errorf("--temper %s: %w", temper, err)
				}
			}
			s := standin.New(seed, t)
			l, err := net.Listen("tcp", web)
			if err != nil {
				return fmt.Errorf("--http: %w; choose another port", err)
			}
			relay, err := net.Listen("tcp", smtp)
			if err != nil {
				return errors.Join(fmt.Errorf("--smtp: %w; choose another port", err), l.Close())
			}
			base := "http://" + l.Addr().String()
			err = a.print(map[string]string{"mail": base + "/mail", "sms": base + "/sms",
				"smtp": relay.Addr().String()}, func() {
				a.line("Simulated providers; nothing they are sent leaves this process.\n")
				a.line("  mail      POST %s/mail", base)
				a.line("  SMS       POST %s/sms", base)
				a.line("  SMTP      %s, without TLS", relay.Addr())
				a.line("  letters   GET %s/letters", base)
				a.line("  temper    PUT %s/temper, such as {\"fail\": 0.2, \"latency_ms\": 300}\n", base)
				a.line("Ctrl-C ends it.")
			})
			if err != nil {
				return err
			}
			group, ctx := errgroup.WithContext(cmd.Context())
			group.Go(func() error { return serving.Until(ctx, l, s.Handler()) })
			group.Go(func() error { return s.ServeSMTP(ctx, relay) })
			return group.Wait()
		},
	}
	cmd.Flags().StringVar(&web, "http", "127.0.0.1:8451", "where the interfaces over HTTP listen")
	cmd.Flags().StringVar(&smtp, "smtp", "127.0.0.1:8452", "where the SMTP relay listens")
	cmd.Flags().StringVar(&temper, "temper", "", "a file with the temper to begin with, as JSON")
	cmd.Flags().Uint64Var(&seed, "seed", 1, "of the dice; the same seed and letters give the same answers")
	return cmd
}
