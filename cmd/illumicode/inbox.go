package main

import (
	"fmt"
	"net"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/inbox"
)

func (a *app) inbox() *cobra.Command {
	var pages, smtp, data, certificate string
	var hosts []string
	cmd := &cobra.Command{
		Use:   "inbox",
		Short: "Run the capture inbox alone: an SMTP server that keeps what it is sent, and its pages",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			in, err := inbox.New(inbox.Config{Dir: data, Hosts: hosts})
			if err != nil {
				return err
			}
			if certificate == "" {
				certificate = filepath.Join(os.TempDir(), fmt.Sprintf("illumicode-inbox-%d.pem", os.Getpid()))
				defer os.Remove(certificate)
			}
			if err := os.WriteFile(certificate, in.CertificatePEM(), 0o600); err != nil {
				return err
			}
			mail, err := net.Listen("tcp", smtp)
			if err != nil {
				return fmt.Errorf("--smtp: %w; choose another port", err)
			}
			web, err := net.Listen("tcp", pages)
			if err != nil {
				mail.Close()
				return fmt.Errorf("--pages: %w; choose another port", err)
			}
			err = a.print(map[string]string{"pages": "http://" + web.Addr().String(), "smtp": mail.Addr().String(),
				"ca_file": certificate}, func() {
				a.line("Capture inbox at http://%s; letters sent to it stay here.", web.Addr())
				a.line("")
				a.line("To send to it, put this into the configuration:")
				a.line("")
				host, port, _ := net.SplitHostPort(mail.Addr().String())
				a.line("  [[provider]]\n  name = \"inbox\"\n  kind = \"smtp\"\n  host = %q\n  port = %s\n  tls = "+
					"\"starttls\"\n  ca_file = %q", host, port, certificate)
				a.line("")
				a.line("Ctrl-C ends it.")
			})
			if err != nil {
				return err
			}
			defer in.Close()
			return in.Serve(cmd.Context(), mail, web)
		},
	}
	cmd.Flags().StringVar(&pages, "pages", "127.0.0.1:8441", "where the pages listen")
	cmd.Flags().StringVar(&smtp, "smtp", "127.0.0.1:8442", "where the SMTP server listens")
	cmd.Flags().StringVar(&data, "data", "", "keep letters as .eml files in this folder (default: in memory)")
	cmd.Flags().StringArrayVar(&hosts, "host", nil,
		"a further name under which the pages are shown, beside localhost and addresses; may be given several times")
	cmd.Flags().StringVar(&certificate, "certificate", "",
		"write the server's certificate here (default: a temporary file)")
	return cmd
}
