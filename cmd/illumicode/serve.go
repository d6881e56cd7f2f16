package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

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
			log := a.log()
			svc, closeAll, err := f.Open(cmd.Context(), log)
			if err != nil {
				return err
			}
			defer closeAll()
			listen := f.Serve.Listen
			if listen == "" {
				listen = "127.0.0.1:8080"
			}
			l, err := net.Listen("tcp", listen)
			if err != nil {
				return fmt.Errorf("serve.listen: %w; choose another address in the configuration", err)
			}
			mux := http.NewServeMux()
			mux.Handle("/v1/", web.NewAPI(svc, key.Reveal()))
			mux.Handle("/", web.NewPages(svc, web.Options{}))
			server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second}
			log.Info("serving", "address", l.Addr().String(), "site", svc.Site().BaseURL)
			group, ctx := errgroup.WithContext(cmd.Context())
			group.Go(func() error { return svc.Run(ctx) })
			group.Go(func() error {
				if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
					return err
				}
				return nil
			})
			group.Go(func() error {
				<-ctx.Done()
				limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
				defer cancel()
				return server.Shutdown(limited)
			})
			return group.Wait()
		},
	}
}
