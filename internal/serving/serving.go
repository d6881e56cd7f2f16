// Package serving runs HTTP servers.
package serving

import (
	"context"
	"errors"
	"net"
	"net/http"
	"time"
)

// Until serves h on l until ctx ends, and lets requests under way finish for ten seconds.
func Until(ctx context.Context, l net.Listener, h http.Handler) error {
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
