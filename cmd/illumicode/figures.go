package main

import (
	"context"
	"fmt"
	"log/slog"
	"net"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/serving"
	"github.com/illumicode/illumicode/metrics"
)

// Figures are what a long-running verb serves to those who watch it. A nil one serves nothing.
type figures struct {
	listen net.Listener
	kept   *metrics.Metrics
}

// figures listens at an address, and makes the service's workers tell their figures; nil for an
// empty one.
func (a *app) figures(address string) (*figures, error) {
	if address == "" {
		return nil, nil
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("serve.metrics: %w; choose another address", err)
	}
	f := &figures{l, metrics.New()}
	a.metrics = f.kept
	return f, nil
}

// serve serves them until ctx ends.
func (f *figures) serve(ctx context.Context, svc *illumicode.Service, log *slog.Logger) error {
	if f == nil {
		return nil
	}
	log.Info("figures", "address", f.listen.Addr().String())
	return serving.Until(ctx, f.listen, f.kept.Handler(svc))
}
