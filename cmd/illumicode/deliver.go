package main

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"runtime/debug"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/flow"
)

func (a *app) deliver() *cobra.Command {
	var untilEmpty bool
	var at string
	cmd := &cobra.Command{
		Use:   "deliver",
		Short: "Deliver what waits in the outbox, until it is stopped",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if os.Getenv("GOGC") == "" {
				debug.SetGCPercent(50) // nearly all that it allocates is for one letter: half the heap, for little time
			}
			f, err := a.load()
			if err != nil {
				return err
			}
			if !cmd.Flags().Changed("metrics") {
				at = f.Serve.Metrics
			}
			figures, err := a.figures(at)
			if err != nil {
				return err
			}
			return a.withService(cmd.Context(), f, func(svc *illumicode.Service, log *slog.Logger) error {
				beside, stop := context.WithCancel(cmd.Context())
				ended := make(chan error, 1)
				go func() { ended <- figures.serve(beside, svc, log) }()
				err := a.work(cmd.Context(), svc, log, untilEmpty)
				stop()
				return errors.Join(err, <-ended)
			})
		},
	}
	cmd.Flags().StringVar(&at, "metrics",
		"", "serve /metrics, /healthz and /readyz at this host:port (default: serve.metrics of the configuration)")
	cmd.Flags().BoolVar(&untilEmpty, "until-empty", false, "exit as soon as nothing that is due waits or is under way")
	return cmd
}

// work delivers until ctx ends, or until the outbox is empty, and says how it then stands.
func (a *app) work(ctx context.Context, svc *illumicode.Service, log *slog.Logger, untilEmpty bool) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	log.Info("delivering", "site", flow.Of(svc).Site.BaseURL, "until_empty", untilEmpty)
	if untilEmpty {
		go func() {
			defer stop()
			if err := waitEmpty(ctx, svc); err != nil && ctx.Err() == nil {
				log.Error("the outbox cannot be counted", "error", err)
			}
		}()
	}
	if err := svc.Run(ctx); err != nil {
		return err
	}
	sum, err := flow.Of(svc).Store.Summary(context.WithoutCancel(ctx), svc.Now())
	if err != nil {
		return err
	}
	return a.print(summaryOf(sum, svc.Now()), func() { a.line("%s", summaryLine(sum)) })
}

// waitEmpty returns when the outbox has nothing left to do that is due within a minute.
func waitEmpty(ctx context.Context, svc *illumicode.Service) error {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		left, err := flow.Of(svc).Store.Left(ctx, svc.Now().Add(time.Minute))
		if err != nil || !left {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}
