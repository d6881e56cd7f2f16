package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/internal/check"
	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/core/near"
	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/strange"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
)

// A section is what was checked of one thing.
type section struct {
	About string          `json:"about"`
	Steps []provider.Step `json:"steps"`
	Raw   []string        `json:"raw,omitempty"`
}

func (a *app) check() *cobra.Command {
	var to, sendTo, resolver string
	var raw bool
	cmd := &cobra.Command{
		Use:   "check [configuration|database|start|providers|sender|NAME]…",
		Short: "Try everything a letter needs, step by step, and say what to do; exits 1 if something failed",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := a.load()
			if err != nil {
				return err
			}
			if err := checkable(f, args); err != nil {
				return err
			}
			c := checker{ctx: cmd.Context(), f: f, to: to, wanted: args}
			sections, err := c.run(check.ResolverAt(resolver))
			if err != nil {
				return err
			}
			failed := 0
			for i := range sections {
				if !raw {
					sections[i].Raw = nil
				}
				for _, s := range sections[i].Steps {
					if s.Verdict == provider.Failed {
						failed++
					}
				}
			}
			if err := a.print(sections, func() { a.tellSections(sections) }); err != nil {
				return err
			}
			if failed > 0 {
				return fmt.Errorf("%d of the steps failed", failed)
			}
			if sendTo == "" {
				return nil
			}
			return a.withService(cmd.Context(), f, func(svc *illumicode.Service, _ *slog.Logger) error {
				d, err := desk.New(svc).Send(cmd.Context(),
					illumicode.Notice{Letter: "trial", To: illumicode.Request{Address: sendTo}})
				if err != nil {
					return err
				}
				return a.tellEnd(cmd.Context(), svc, d.ID, 30*time.Second)
			})
		},
	}
	cmd.Flags().StringVar(&to, "to",
		"", "the recipient to ask the providers about (default: the sender itself); nothing is sent")
	cmd.Flags().StringVar(&sendTo, "send-to", "", "if nothing failed, send a trial letter to this address")
	cmd.Flags().StringVar(&resolver, "resolver", "", "the DNS server to ask, as host:port (default: the system's)")
	cmd.Flags().BoolVar(&raw, "raw", false, "show the conversations with the providers, secrets masked")
	return cmd
}

// checkable refuses what cannot be checked.
func checkable(f *config.File, args []string) error {
	known := []string{"configuration", "database", "start", "providers", "sender"}
	for _, p := range f.Provider {
		known = append(known, p.Name)
	}
	for _, arg := range args {
		if !slices.Contains(known, arg) {
			return misuse{fmt.Errorf("check: nothing is named %q; %s", arg, near.List(arg, known))}
		}
	}
	return nil
}

// A checker is one run of the verb.
type checker struct {
	ctx    context.Context
	f      *config.File
	to     string
	wanted []string
}

func (c checker) wants(what string) bool {
	return len(c.wanted) == 0 || slices.Contains(c.wanted, what)
}

func (c checker) run(r check.Resolver) ([]section, error) {
	var all []section
	if c.wants("configuration") {
		all = append(all, section{About: "configuration", Steps: c.configuration()})
	}
	if c.wants("database") {
		all = append(all, section{About: "database", Steps: c.database()})
	}
	if c.wants("start") {
		all = append(all, section{About: "start", Steps: c.start()})
	}
	from, err := message.ParseAddress(c.f.From.Address)
	if err != nil {
		return all, fmt.Errorf("from.address is %w", err)
	}
	ways, err := c.f.Providers()
	if err != nil {
		return all, err
	}
	for _, way := range ways {
		if c.wants("providers") || c.wants(way.Name()) {
			all = append(all, c.provider(way, from))
		}
		if closer, ok := way.(io.Closer); ok {
			if err := closer.Close(); err != nil {
				return all, err
			}
		}
	}
	if c.wants("sender") {
		signer, err := c.f.Signer()
		if err != nil {
			return all, err
		}
		s := section{About: "sender " + from.Domain()}
		if signer == nil {
			s.Steps = check.Sender(c.ctx, r, from.Domain(), nil)
		} else {
			s.Steps = check.Sender(c.ctx, r, from.Domain(), signer.Keys())
		}
		all = append(all, s)
		if path := c.f.Feedback.ReturnPath; path != "" {
			domain := path[strings.LastIndexByte(path, '@')+1:]
			all = append(all, section{About: "return path " + domain, Steps: check.ReturnPath(c.ctx, r, domain)})
		}
	}
	return all, nil
}

// tried returns the step of something that either works or says what to do.
func tried(what, saw string, err error) provider.Step {
	if err != nil {
		return provider.Step{What: what, Verdict: provider.Failed, Saw: err.Error()}
	}
	return provider.Step{What: what, Verdict: provider.OK, Saw: saw}
}

func (c checker) configuration() []provider.Step {
	steps := []provider.Step{tried("file", fmt.Sprintf("read; providers: %d", len(c.f.Provider)), nil)}
	ring, err := c.f.Keyring()
	if err == nil {
		steps = append(steps,
			tried("keyring", fmt.Sprintf("keys: %d; %s signs", len(keyring.Of(ring).Keys()), keyring.Of(ring).Active()),
				nil))
	} else {
		steps = append(steps, tried("keyring", "", err))
	}
	set, err := c.f.LetterSet()
	if err == nil {
		steps = append(steps,
			tried("letters", fmt.Sprintf("%d in %d locales; `illumicode letter lint` reads them", len(set.Names()),
				len(set.Locales())), nil))
	} else {
		steps = append(steps, tried("letters", "", err))
	}
	_, _, err = c.f.Writer()
	return append(steps, tried("who writes", c.f.Site.Name, err))
}

func (c checker) database() []provider.Step {
	opened, err := c.f.OpenStore(c.ctx)
	steps := []provider.Step{tried("open", c.f.Store.File, err)}
	if err != nil {
		return steps
	}
	defer opened.Close()
	st := store.Of(opened)
	if err := st.Ready(c.ctx); err != nil {
		return append(steps, tried("tables", "", err))
	}
	steps = append(steps, tried("tables", "those of this version", nil))
	now := time.Now()
	sum, err := st.Summary(c.ctx, now)
	if err == nil && sum.NobodyWorks(now) {
		return append(steps, provider.Step{What: "outbox", Verdict: provider.Failed,
			Saw:  "letters, lists or events wait, and no worker was seen for a minute",
			Next: "run `illumicode deliver`, or svc.Run in your application"})
	}
	steps = append(steps, tried("outbox", summaryLine(sum), err))
	if err != nil {
		return steps
	}
	behind, err := behindAt(c.ctx, c.f, st, now)
	switch {
	case err != nil:
		return append(steps, tried("old rows", "", err))
	case behind > outbox.LateSweep:
		steps = append(steps, provider.Step{What: "old rows", Verdict: provider.Warning, Saw: behindLine(behind)})
	}
	processes, err := st.Processes(c.ctx, now)
	if err != nil {
		return append(steps, tried("keyrings", "", err))
	}
	for _, l := range disagreements(processes) {
		steps = append(steps, provider.Step{What: "keyrings", Verdict: provider.Failed, Saw: l,
			Next: "bring every machine the same keyring"})
	}
	switch n, err := st.CountErasures(c.ctx); {
	case err != nil:
		return append(steps, tried("erasures", "", err))
	case n > 0:
		steps = append(steps, provider.Step{What: "erasures", Verdict: provider.Warning, Saw: erasuresLine(n)})
	}
	ways, err := waysAt(c.ctx, c.f, st, now)
	if err != nil {
		return append(steps, tried("providers", "", err))
	}
	return append(steps, quotas(ways, sum.Count[store.Waiting])...)
}

// start does what `serve` does before it serves, or `deliver` where no key of the JSON interface is configured. The
// warnings of a start become warnings here.
func (c checker) start() []provider.Step {
	var said bytes.Buffer
	quiet := slog.NewTextHandler(&said, &slog.HandlerOptions{Level: slog.LevelWarn, ReplaceAttr: withoutTime})
	verb := "deliver"
	svc, closeAll, err := c.f.Open(c.ctx, slog.New(quiet), nil)
	if err == nil {
		if c.f.Serve.KeyEnv != "" || c.f.Serve.KeyFile != "" {
			verb = "serve"
			_, err = handlers(svc, c.f)
		}
		err = errors.Join(err, closeAll())
	}
	steps := []provider.Step{tried("as `"+verb+"` does", "service and pages can be made; ports were not tried", err)}
	for line := range strings.Lines(said.String()) {
		steps = append(steps, provider.Step{What: "warning", Verdict: provider.Warning, Saw: strings.TrimSpace(line)})
	}
	return steps
}

func withoutTime(_ []string, a slog.Attr) slog.Attr {
	if a.Key == slog.TimeKey || a.Key == slog.LevelKey {
		return slog.Attr{}
	}
	return a
}

// quotas says what is left of the providers' quotas, and warns where less is left than waits: of all of
// them together, if each has one.
func quotas(ways []wayJSON, waiting int) []provider.Step {
	var steps []provider.Step
	left, bounded := 0, true
	for _, w := range ways {
		if w.Shut != "" {
			steps = append(steps, provider.Step{What: w.Name, Verdict: provider.Warning, Saw: w.Shut + " until " +
				clock(w.Until), Next: "it is tried again by itself; `illumicode outbox resume provider " + w.Name +
				"` tries at once"})
		}
		if w.Left == nil {
			bounded = false
			continue
		}
		left += *w.Left
		steps = append(steps, tried("quota of "+w.Name, letters(*w.Left)+" left", nil))
	}
	if bounded && waiting > left {
		steps = append(steps, provider.Step{What: "quotas", Verdict: provider.Warning,
			Saw:  fmt.Sprintf("%d letters wait, and the providers' quotas have room for %d", waiting, left),
			Next: "the others wait for the next day or month; cancel what need not go out, or add a provider"})
	}
	return steps
}

func (c checker) provider(way provider.Provider, from message.Address) section {
	s := section{About: "provider " + way.Name()}
	if can := way.Can(); can.Mail && !can.MaySend(from.String()) {
		s.Steps = append(s.Steps, provider.Step{What: "sender", Verdict: provider.Failed,
			Saw:  from.String() + " is not among its verified senders: " + strings.Join(can.Senders, ", "),
			Next: "verify it with the provider and list it, or send from one of these"})
	}
	asks, ok := way.(provider.Checker)
	if !ok {
		s.Steps = append(s.Steps, tried("ready", "it needs no connection", nil))
		return s
	}
	to := c.to
	if to == "" {
		to = from.Envelope()
	}
	ctx, cancel := context.WithTimeout(c.ctx, 2*time.Minute)
	defer cancel()
	report := asks.Check(ctx, from.Envelope(), to)
	s.Steps, s.Raw = append(s.Steps, report.Steps...), report.Raw
	return s
}

func (a *app) tellSections(all []section) {
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	paint := func(code, s string) string {
		if a.terminal() {
			return "\x1b[" + code + "m" + s + "\x1b[0m"
		}
		return s
	}
	for i, s := range all {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintln(w, paint("1", s.About))
		for _, step := range s.Steps {
			colour := map[provider.Verdict]string{provider.OK: "32", provider.Warning: "33",
				provider.Failed: "31"}[step.Verdict]
			took := ""
			if step.Took > 0 {
				took = fmt.Sprintf("  (%d ms)", step.Took.Milliseconds())
			}
			fmt.Fprintf(w, "  %s\t%s\t%s%s\n", step.What, paint(colour, string(step.Verdict)), strange.Line(step.Saw),
				took)
			if step.Next != "" {
				// as many invisible bytes as above, which the columns count
				fmt.Fprintf(w, "  \t%s\t→ %s\n", paint(colour, ""), step.Next)
			}
		}
		for _, line := range s.Raw {
			fmt.Fprintf(w, "    │ %s\n", line)
		}
	}
	w.Flush()
}
