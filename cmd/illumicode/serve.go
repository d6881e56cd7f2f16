package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"github.com/illumicode/illumicode"
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
			key, err := f.APIKey()
			if err != nil {
				return err
			}
			return a.withService(cmd.Context(), f, func(svc *illumicode.Service, log *slog.Logger) error {
				l, err := net.Listen("tcp", cmp.Or(f.Serve.Listen, "127.0.0.1:8080"))
				if err != nil {
					return fmt.Errorf("serve.listen: %w; choose another address in the configuration", err)
				}
				mux := http.NewServeMux()
				mux.Handle("/v1/", web.NewAPI(svc, key.Reveal()))
				mux.Handle("/", web.NewPages(svc, web.Options{}))
				log.Info("serving", "address", l.Addr().String(), "site", svc.Site().BaseURL)
				group, ctx := errgroup.WithContext(cmd.Context())
				group.Go(func() error { return svc.Run(ctx) })
				group.Go(func() error { return serveUntil(ctx, l, mux) })
				return group.Wait()
			})
		},
	}
}

// serveUntil serves h on l until ctx ends, and lets requests under way finish.
func serveUntil(ctx context.Context, l net.Listener, h http.Handler) error {
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second}
	finished := make(chan error, 1)
	stop := context.AfterFunc(ctx, func() {
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		finished <- server.Shutdown(limited)
	})
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		stop()
		return err
	}
	return <-finished
}
