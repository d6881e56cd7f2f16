package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/store"
)

// with runs fn with a service on the place, without a worker.
func (p *place) with(fn func(svc *illumicode.Service)) {
	p.t.Helper()
	f, err := config.Load(p.config)
	if err != nil {
		p.t.Fatal(err)
	}
	svc, closeAll, err := f.Open(p.t.Context(), slog.New(slog.DiscardHandler), nil)
	if err != nil {
		p.t.Fatal(err)
	}
	defer closeAll()
	fn(svc)
}

// fill puts n letters into the outbox of a place, to n addresses.
func (p *place) fill(n int) {
	p.t.Helper()
	p.with(func(svc *illumicode.Service) {
		for i := range n {
			if _, err := svc.Notify(p.t.Context(),
				illumicode.Notice{Letter: "trial", To: illumicode.Request{Address: address(i)}}); err != nil {
				p.t.Fatal(err)
			}
		}
	})
}

func address(i int) string { return fmt.Sprintf("passenger%03d@ternisle.example", i) }

// arrived counts the letters in the inbox: how many addresses have one, and how many have more.
func (p *place) arrived(n int) (addresses, extra int) {
	for i := range n {
		if got := len(p.inbox.Letters(address(i))); got > 0 {
			addresses++
			extra += got - 1
		}
	}
	return addresses, extra
}

func (p *place) summary() (counts map[string]int, repeats int) {
	p.t.Helper()
	var list struct {
		Summary struct {
			Count   map[string]int
			Repeats int
		}
	}
	if err := json.Unmarshal([]byte(p.must("outbox", "list", "--json", "--most", "1")), &list); err != nil {
		p.t.Fatal(err)
	}
	return list.Summary.Count, list.Summary.Repeats
}

// A worker is killed three times in the middle of 500 deliveries. All arrive; none is lost; what
// arrives twice was in flight at a kill, and is counted as repeated.
func TestKilledWorkerLosesNothing(t *testing.T) {
	const letters, kills, senders = 500, 3, 8
	p := newPlace(t)
	// so that the next worker need not wait for long
	p.change(`lease = "30s"`, fmt.Sprintf("lease = \"1s\"\nsenders = %d", senders))
	p.fill(letters)
	for kill := 1; kill <= kills; kill++ {
		child := tool(t, "--config", p.config, "deliver")
		if err := child.Start(); err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
		if _, err := p.inbox.Wait(ctx, "", len(p.inbox.Letters(""))+90); err != nil {
			t.Fatal(err)
		}
		cancel()
		if err := child.Process.Kill(); err != nil { // SIGKILL
			t.Fatal(err)
		}
		child.Wait() // reports the kill
		if n, _ := p.arrived(letters); n == letters {
			t.Fatalf("all letters had arrived before kill %d: the test tests nothing", kill)
		}
	}
	if out, err := tool(t, "--config", p.config, "deliver", "--until-empty").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	got, extra := p.arrived(letters)
	counts, repeats := p.summary()
	t.Logf("arrived at %d of %d addresses, %d twice; %d repeats counted over %d kills", got, letters, extra, repeats,
		kills)
	if got != letters || counts[string(store.Sent)] != letters {
		t.Errorf("%d of %d arrived and %v: letters were lost", got, letters, counts)
	}
	if extra > repeats || repeats > kills*senders {
		t.Errorf("%d arrived twice, %d repeats were counted, at most %d were in flight", extra, repeats, kills*senders)
	}
}

// Two workers in two processes share one file: every letter arrives once. The letters come when both
// work, and slowly enough for two senders that neither can do all of them alone.
func TestTwoWorkersOneFile(t *testing.T) {
	const letters = 300
	p := newPlace(t)
	p.change(`lease = "30s"`, "lease = \"30s\"\nsenders = 2")
	var workers []*exec.Cmd
	var output [2]bytes.Buffer
	for i := range output {
		w := tool(t, "--config", p.config, "deliver")
		w.Stdout, w.Stderr = &output[i], &output[i]
		if err := w.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { w.Process.Kill() }) // or it would work on in the background
		workers = append(workers, w)
	}
	f, err := config.Load(p.config)
	if err != nil {
		t.Fatal(err)
	}
	st, err := f.OpenStore(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for working := 0; working < len(workers); {
		if err := st.DB().QueryRowContext(t.Context(), "SELECT COUNT(*) FROM illumicode_worker").Scan(
			&working); err != nil {
			t.Fatal(err)
		}
	}
	st.Close()
	p.fill(letters)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	if _, err := p.inbox.Wait(ctx, "", letters); err != nil {
		t.Fatal(err)
	}
	for i, w := range workers {
		if err := w.Process.Signal(syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
		if err := w.Wait(); err != nil {
			t.Fatalf("%v\n%s", err, output[i].String())
		}
		if n := bytes.Count(output[i].Bytes(), []byte("class=accepted")); n == 0 || n == letters {
			t.Errorf("worker %d delivered %d of %d: they did not share", i, n, letters)
		}
	}
	if got, extra := p.arrived(letters); got != letters || extra != 0 {
		t.Errorf("%d of %d arrived, %d twice", got, letters, extra)
	}
}

// Several processes migrate one new file at once: all succeed, and one does the work.
func TestMigrateFromSeveralProcesses(t *testing.T) {
	p := newPlace(t)
	p.change("outbox.db", "fresh.db")
	out := make([]bytes.Buffer, 6)
	var all []*exec.Cmd
	for i := range out {
		cmd := tool(t, "--config", p.config, "migrate")
		cmd.Stdout, cmd.Stderr = &out[i], &out[i]
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		all = append(all, cmd)
	}
	applied := 0
	for i, cmd := range all {
		if err := cmd.Wait(); err != nil {
			t.Errorf("%v: %s", err, out[i].String())
		}
		if strings.Contains(out[i].String(), "Applied 0001") {
			applied++
		}
	}
	if applied != 1 {
		t.Errorf("%d processes applied the first step, want 1", applied)
	}
}
