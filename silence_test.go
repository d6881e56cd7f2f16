package illumicode_test

import (
	"context"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/internal/proxy"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
)

// A server that goes silent, in one direction or in both, does not keep letters when another host has the database.
func TestSilentServer(t *testing.T) {
	for what, silent := range map[string][]int{
		"frozen": {proxy.ToServer, proxy.ToClient}, "deaf": {proxy.ToServer}, "mute": {proxy.ToClient},
	} {
		t.Run(what, func(t *testing.T) {
			conn := pgtest.Fresh(t)
			first, second := pgtest.Proxy(t, conn), pgtest.Proxy(t, conn)
			k := illumicodetest.New(t, withPier(t), onPostgres(t, pgtest.Through(t, conn, first, second)),
				func(c *illumicode.Config) { c.Outbox.Poll = 100 * time.Millisecond })
			notify(t, k, movedTo(1))
			k.Letter(mara, 1)
			for _, direction := range silent {
				first.Silence(direction, true)
			}
			began := time.Now()
			for i := 0; ; i++ { // an application tries again
				ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
				_, err := k.Service.Notify(ctx, movedTo(2+i))
				cancel()
				if err == nil {
					break
				}
				if time.Since(began) > 20*time.Second {
					t.Fatal("nothing can be accepted: ", err)
				}
			}
			accepted := time.Since(began)
			k.Letter(mara, 2)
			t.Logf("accepted again after %v, delivered after %v", accepted, time.Since(began))
			if time.Since(began) > 20*time.Second {
				t.Errorf("the letter left after %v", time.Since(began))
			}
		})
	}
}

// Run returns though the database is silent, and a provider does not listen to its context.
func TestRunReturns(t *testing.T) {
	conn := pgtest.Fresh(t)
	way := pgtest.Proxy(t, conn)
	deaf := make(chan struct{})
	t.Cleanup(func() { close(deaf) })
	k := illumicodetest.Idle(t, withPier(t), onPostgres(t, pgtest.Through(t, conn, way)),
		func(c *illumicode.Config) {
			c.Outbox.Poll, c.Outbox.Grace = 50*time.Millisecond, time.Second
			c.Providers = []provider.Provider{stuck{c.Providers[0], deaf}}
		})
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- k.Service.Run(ctx) }()
	notify(t, k, movedTo(1))
	waitUntil(t, k, func(sum store.Summary) bool { return sum.Count[store.Claimed] == 1 })
	way.Silence(proxy.ToServer, true)
	way.Silence(proxy.ToClient, true)
	stop()
	select {
	case err := <-ended:
		if err != nil {
			t.Error(err)
		}
	case <-time.After(20 * time.Second):
		t.Fatal("Run has not returned 20 s after its end, with a grace of 1 s")
	}
}

// A stuck provider does not come back.
type stuck struct {
	provider.Provider
	until chan struct{}
}

func (s stuck) Send(ctx context.Context, h provider.Handover) provider.Result {
	h.Begin(ctx)
	<-s.until
	return provider.Result{}
}

func movedTo(n int) illumicode.Notice {
	return illumicode.Notice{Letter: "moved", Data: pier(n), To: illumicode.Request{Address: mara}}
}
