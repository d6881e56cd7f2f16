package main

import (
	"context"
	"log/slog"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/store"
)

func (a *app) deliver() *cobra.Command {
	var untilEmpty bool
	cmd := &cobra.Command{
		Use:   "deliver",
		Short: "Deliver what waits in the outbox, until it is stopped",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			f, err := a.load()
			if err != nil {
				return err
			}
			return a.withService(cmd.Context(), f, func(svc *illumicode.Service, log *slog.Logger) error {
				return a.work(cmd.Context(), svc, log, untilEmpty)
			})
		},
	}
	cmd.Flags().BoolVar(&untilEmpty, "until-empty", false, "exit as soon as nothing waits and nothing is under way")
	return cmd
}

// work delivers until ctx ends, or until the outbox is empty, and says how it then stands.
func (a *app) work(ctx context.Context, svc *illumicode.Service, log *slog.Logger, untilEmpty bool) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	log.Info("delivering", "site", svc.Site().BaseURL, "until_empty", untilEmpty)
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
	sum, err := svc.Store().Summary(context.WithoutCancel(ctx), svc.Now())
	if err != nil {
		return err
	}
	return a.print(summaryOf(sum, svc.Now()), func() { a.line("%s", summaryLine(sum)) })
}

// waitEmpty returns when the outbox has nothing left to do.
func waitEmpty(ctx context.Context, svc *illumicode.Service) error {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		sum, err := svc.Store().Summary(ctx, svc.Now())
		if err != nil || sum.Count[store.Waiting]+sum.Count[store.Claimed] == 0 {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}
