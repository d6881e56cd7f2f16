package metrics_test

import (
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/internal/proxy"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/metrics"
	"github.com/illumicode/illumicode/store/postgres"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// asked returns what a process says at a path.
func asked(k *illumicodetest.Kit, m *metrics.Metrics, path string) (string, int) {
	w := httptest.NewRecorder()
	m.Handler(k.Service).ServeHTTP(w, httptest.NewRequest("GET", path, nil))
	return w.Body.String(), w.Code
}

// A worker whose database is silent, or that does not come round, is not ready; and it says so once a minute.
func TestSilentIsNotReady(t *testing.T) {
	conn := pgtest.Fresh(t)
	way := pgtest.Proxy(t, conn)
	st, err := postgres.Open(t.Context(), pgtest.Through(t, conn, way),
		postgres.Options{Silence: 500 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	if err := st.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		c.Store, c.Outbox.Poll = st, 50*time.Millisecond
	})
	m := metrics.New()
	if body, code := asked(k, m, "/readyz"); code != 200 {
		t.Fatalf("%d %s", code, body)
	}
	way.Silence(proxy.ToClient, true)
	if body, code := asked(k, m, "/readyz"); code != 503 || !strings.Contains(body, "database") {
		t.Errorf("with a silent database: %d %s", code, body)
	}
	time.Sleep(2 * time.Second)
	if n := strings.Count(k.Logged(), "level=ERROR") + strings.Count(k.Logged(), "level=WARN"); n != 1 {
		t.Errorf("%d lines of log in two seconds, want 1:\n%s", n, k.Logged())
	}
	way.Silence(proxy.ToClient, false)
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		body, code := asked(k, m, "/readyz")
		if code == 200 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("afterwards: %d %s", code, body)
		}
	}
}

// That nobody works is told where letters are due, where lists wait and where events do; not for what a pause keeps.
// Only a worker is unready for it.
func TestNobodyWorks(t *testing.T) {
	k := illumicodetest.Idle(t, func(c *illumicode.Config) { c.Outbox.Poll = time.Hour })
	m := metrics.New()
	rows := flow.Of(k.Service).Store
	ask := func(what, want string) {
		t.Helper()
		k.Clock.Move(2 * time.Minute)
		body, code := asked(k, m, "/readyz")
		figure, _ := asked(k, m, "/metrics")
		if code != 200 || strings.Contains(body, "NOBODY WORKS") != (want == "1") ||
			!strings.Contains(figure, "illumicode_nobody_works "+want) {
			t.Errorf("%s: %d %s, and want the figure %s", what, code, body, want)
		}
	}
	ask("an empty outbox", "0")
	if _, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: "mara@ternisle.example"}); err != nil {
		t.Fatal(err)
	}
	ask("a letter", "1")
	if err := rows.Pause(t.Context(), store.Pause{Kind: "lane", Name: "urgent", Since: k.Clock.Now()}); err != nil {
		t.Fatal(err)
	}
	ask("a letter of a paused lane", "0")
	if err := rows.Write(t.Context(), func(tx store.Tx) error {
		return tx.InsertEvent(t.Context(), store.Event{Source: "harbour", ID: "1", Type: "moved", Data: "{}"})
	}); err != nil {
		t.Fatal(err)
	}
	ask("an event", "1")
	if n := strings.Count(k.Logged(), "NOBODY WORKS"); n != 1 {
		t.Errorf("the log was told %d times within a minute", n)
	}
}
