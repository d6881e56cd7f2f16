// The illumicode command: demo, servers, workers, and the operator's view of the outbox and the
// keys. Every verb has a file of its own; what they do is done by the library.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"
	_ "time/tzdata"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/config"
)

// Exit codes.
const (
	exitDone    = 0
	exitFailed  = 1
	exitMisused = 2
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := run(ctx, os.Args[1:], os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}

// A misuse is a command line that cannot be carried out.
type misuse struct{ error }

// An app is what all verbs share.
type app struct {
	configPath string
	json       bool
	metrics    delivery.Observer // of verbs that serve figures; else nil
	out, err   io.Writer
}

// run carries out one command line and returns the exit code.
func run(ctx context.Context, args []string, out, errOut io.Writer) int {
	a := &app{out: out, err: errOut}
	root := &cobra.Command{
		Use: "illumicode",
		Short: "Signup confirmation for your service: signed links, one-time codes, and letters that are " +
			"not lost",
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          noArgs,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.SetOut(out)
	root.SetErr(errOut)
	if info, ok := debug.ReadBuildInfo(); ok {
		root.Version = version(info)
		root.SetVersionTemplate("{{.Version}}\n")
	}
	root.PersistentFlags().StringVar(&a.configPath, "config", "illumicode.toml", "the configuration file")
	root.PersistentFlags().BoolVar(&a.json, "json", false, "print JSON, for programs")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return misuse{err} })
	root.AddCommand(a.demo(), a.serve(), a.deliver(), a.migrate(), a.outbox(), a.token(), a.keys(), a.inbox(),
		a.notify(), a.letter(), a.address(), a.feedback(), a.limits(), a.rehearse(), a.standin(), a.check())
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	_, wrong := errors.AsType[misuse](err)
	switch {
	case err == nil:
		return exitDone
	case wrong:
		fmt.Fprintf(errOut, "illumicode: %v\nSee `illumicode --help`.\n", err)
		return exitMisused
	}
	fmt.Fprintf(errOut, "illumicode: %v\n", err)
	return exitFailed
}

// noArgs refuses arguments; for the root and groups, these are verbs that do not exist.
func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return misuse{fmt.Errorf("%s: unknown verb or argument %q", cmd.CommandPath(), args[0])}
	}
	return nil
}

// oneArg wants exactly one argument, which what names.
func oneArg(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != 1 {
			return misuse{fmt.Errorf("%s wants one argument: %s", cmd.CommandPath(), what)}
		}
		return nil
	}
}

// group returns a verb that only holds others.
func group(use, short string, verbs ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: noArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		return cmd.Help()
	}}
	cmd.AddCommand(verbs...)
	return cmd
}

// load reads the configuration.
func (a *app) load() (*config.File, error) { return config.Load(a.configPath) }

// withService runs fn with everything that the configuration describes.
func (a *app) withService(ctx context.Context, f *config.File,
	fn func(*illumicode.Service, *slog.Logger) error) (err error) {
	log := a.log()
	svc, closeAll, err := f.Open(ctx, log, a.metrics)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, closeAll()) }()
	return fn(svc, log)
}

// log returns the log of a long-running verb, on standard error.
func (a *app) log() *slog.Logger {
	if a.json {
		return slog.New(slog.NewJSONHandler(a.err, nil))
	}
	return slog.New(slog.NewTextHandler(a.err, nil))
}

// print writes v as JSON if --json was given, else what text writes.
func (a *app) print(v any, text func()) error {
	if !a.json {
		text()
		return nil
	}
	enc := json.NewEncoder(a.out)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

func (a *app) line(format string, args ...any) { fmt.Fprintf(a.out, format+"\n", args...) }

// wrapped prints words with an indent, in lines of at most 108 columns.
func (a *app) wrapped(indent int, words string) {
	line := ""
	for word := range strings.FieldsSeq(words) {
		if line != "" && utf8.RuneCountInString(line+word)+1 > 108-indent {
			a.line("%*s%s", indent, "", line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	a.line("%*s%s", indent, "", line)
}

// terminal reports whether output goes to a person's screen.
func (a *app) terminal() bool {
	f, ok := a.out.(*os.File)
	return ok && term.IsTerminal(int(f.Fd())) && os.Getenv("NO_COLOR") == ""
}
