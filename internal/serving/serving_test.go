package serving_test

import (
	"context"
	"net"
	"net/http"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/serving"
)

// A request that takes longer than the grace of a shutdown is cut off, and is no failure of the server.
func TestSlowRequestAtTheEnd(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	asked, ended := make(chan bool), make(chan error, 1)
	slow := http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		close(asked)
		<-r.Context().Done()
	})
	go func() { ended <- serving.Within(ctx, l, slow, 50*time.Millisecond) }()
	go http.Get("http://" + l.Addr().String())
	<-asked
	stop()
	if err := <-ended; err != nil {
		t.Errorf("at its end: %v", err)
	}
}
