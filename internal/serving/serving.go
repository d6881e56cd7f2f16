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
	return Within(ctx, l, h, 10*time.Second)
}

// Within is Until with another grace. What is not done by its end is cut off, which is no error: who stops a server has
// been told when.
func Within(ctx context.Context, l net.Listener, h http.Handler, grace time.Duration) error {
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second}
	finished := make(chan error, 1)
	stop := context.AfterFunc(ctx, func() {
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), grace)
		defer cancel()
		err := server.Shutdown(limited)
		if errors.Is(err, context.DeadlineExceeded) {
			err = server.Close()
		}
		finished <- err
	})
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		stop()
		return err
	}
	return <-finished
}
