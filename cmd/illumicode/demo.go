package main

import (
	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/demo"
)

func (a *app) demo() *cobra.Command {
	var o demo.Options
	var script, verbose bool
	var storm int
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run the Tern Isle ferry: a site, its letters and a capture inbox, on this machine alone",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if verbose {
				o.Log = a.log()
			}
			if script && !cmd.Flags().Changed("listen") {
				o.Listen = "127.0.0.1:0" // a script needs no fixed ports, and must not mind a running demo
			}
			d, err := demo.Start(cmd.Context(), o)
			if err != nil {
				return err
			}
			if err := a.print(map[string]string{"site": d.SiteURL, "inbox": d.InboxURL, "smtp": d.SMTP, "data": d.Data},
				func() { a.tellWhere(d, script) }); err != nil {
				return err
			}
			teller := demo.NewTeller(a.out, a.style())
			if script {
				err = demo.Script(cmd.Context(), d, teller)
			}
			if err == nil && storm > 0 {
				err = demo.Storm(cmd.Context(), d, teller, storm)
			}
			if err == nil && !script {
				return d.Wait()
			}
			d.Stop()
			if waitErr := d.Wait(); err == nil {
				err = waitErr
			}
			return err
		},
	}
	cmd.Flags().StringVar(&o.Listen, "listen", "127.0.0.1:8440",
		"where the site listens; the inbox takes the two ports above, the simulated providers the two above those")
	cmd.Flags().IntVar(&storm, "storm", 0,
		"cancel the day's sailings for this many passengers while others register; 40000 is a whole day's")
	cmd.Flags().Lookup("storm").NoOptDefVal = "40000"
	cmd.Flags().StringVar(&o.Data, "data", "", "keep everything in this folder (default: a temporary one)")
	cmd.Flags().BoolVar(&script, "script", false, "play fifteen passengers through it and exit with a summary")
	cmd.Flags().BoolVar(&verbose, "verbose", false, "log every attempt")
	return cmd
}

func (a *app) tellWhere(d *demo.Demo, script bool) {
	kept := "removed at the end; keep it with --data DIR"
	if d.Kept {
		kept = "kept"
	}
	a.line("Tern Isle Ferry is open, on this machine alone.")
	a.line("")
	a.line("  the ferry's site   %s", d.SiteURL)
	a.line("  capture inbox      %s      every letter ends here", d.InboxURL)
	a.line("  its SMTP server    %s, STARTTLS", d.SMTP)
	a.line("  data               %s, %s", d.Data, kept)
	if script {
		return
	}
	a.line("")
	a.line("Try this:")
	a.line("  1. Register at %s/register with any address ending in .example.", d.SiteURL)
	a.line("  2. Sign in at once: the site says that the address must be confirmed first.")
	a.line("  3. Open the letter in the inbox and press its button, or type its code.")
	a.line("  4. Sign in again.")
	a.line("")
	a.line("Ctrl-C ends it.")
}

func (a *app) style() demo.Style {
	switch {
	case a.json:
		return demo.JSON
	case a.terminal():
		return demo.Colour
	}
	return demo.Plain
}
