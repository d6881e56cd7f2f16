package main

import (
	"cmp"
	"fmt"
	"log/slog"
	"net"
	"net/http"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/feedback"
	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/serving"
	"github.com/illumicode/illumicode/web"
)

func (a *app) serve() *cobra.Command {
	return &cobra.Command{
		Use:   "serve",
		Short: "Serve the flows over HTTP, pages and JSON, and deliver their letters",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			f, err := a.load()
			if err != nil {
				return err
			}
			figures, err := a.figures(f.Serve.Metrics)
			if err != nil {
				return err
			}
			return a.withService(cmd.Context(), f, func(svc *illumicode.Service, log *slog.Logger) error {
				h, err := handlers(svc, f)
				if err != nil {
					return err
				}
				l, err := net.Listen("tcp", cmp.Or(f.Serve.Listen, "127.0.0.1:8080"))
				if err != nil {
					return fmt.Errorf("serve.listen: %w; choose another address in the configuration", err)
				}
				back, err := f.ListenFeedback()
				if err != nil {
					return err
				}
				log.Info("serving", "address", l.Addr().String(), "site", flow.Of(svc).Site.BaseURL)
				group, ctx := errgroup.WithContext(cmd.Context())
				group.Go(func() error { return svc.Run(ctx) })
				group.Go(func() error { return figures.serve(ctx, svc, log) })
				group.Go(func() error { return serving.Until(ctx, l, h) })
				if back != nil {
					log.Info("taking bounces and complaints", "address", back.Addr().String(), "lmtp", f.Feedback.LMTP)
					group.Go(func() error {
						return feedback.New(svc, f.Feedback.Complaints, log).Serve(ctx, back, f.Feedback.LMTP)
					})
				}
				return group.Wait()
			})
		},
	}
}

// handlers returns what is served: the pages, the JSON interface, and what providers POST to.
func handlers(svc *illumicode.Service, f *config.File) (http.Handler, error) {
	key, err := f.APIKey()
	if err != nil {
		return nil, err
	}
	client, err := f.Client()
	if err != nil {
		return nil, err
	}
	pages, err := web.NewPages(svc, web.Options{Client: client, Origins: f.Serve.Origins, After: f.Serve.After})
	if err != nil {
		return nil, err
	}
	hooks, err := f.Webhooks()
	if err != nil {
		return nil, err
	}
	webhooks, err := web.NewWebhooks(svc, hooks)
	if err != nil {
		return nil, err
	}
	api, err := web.NewAPI(svc, key.Reveal(), web.APIOptions{Origins: f.Serve.Origins, Client: client})
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.Handle(webhooks.Path, webhooks)
	mux.Handle(api.Path, api)
	mux.Handle("/", pages)
	return mux, nil
}
