package main

import (
	"bytes"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
)

// noonZone returns a time zone in which it is about noon: no day ends while a test runs.
func noonZone() string {
	offset := time.Now().UTC().Hour() - 12
	return fmt.Sprintf("Etc/GMT%+d", offset) // the signs of these are the other way round
}

// Three processes, some killed in the middle, keep a provider's caps together: the day's to the letter,
// though less what a dead worker had leased, and no more in any second of the provider's clock than two in
// a hundred over. What is kept for the urgent lane stays for it.
func TestCapsAcrossProcesses(t *testing.T) { onBoth(t, capsAcrossProcesses) }

func capsAcrossProcesses(t *testing.T, p *place) {
	const perDay, perSecond, letters, kept, connections = 150, 50, 180, 30, 6
	p.change(`kind = "smtp"`, fmt.Sprintf("kind = \"smtp\"\nper_day = %d\nper_second = %d\nat_once = %d\nzone = %q",
		perDay, perSecond, connections, noonZone()))
	p.change(`lease = "30s"`, `lease = "3s"`)
	p.fill(letters)
	var workers []*exec.Cmd
	begin := func() {
		w := tool(t, "--config", p.config, "deliver")
		w.Stderr = new(bytes.Buffer) // for interrupt
		if err := w.Start(); err != nil {
			t.Fatal(err)
		}
		workers = append(workers, w)
	}
	for range 3 {
		begin()
	}
	kills := 0
	for end := time.Now().Add(2 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		n := len(p.inbox.Letters(""))
		if kills < 3 && n > 25*(kills+1) {
			if err := workers[kills].Process.Kill(); err != nil {
				t.Fatal(err)
			}
			workers[kills].Wait()
			begin()
			kills++
		}
		if kills == 3 && quiet(p) &&
			strings.Contains(p.must("outbox", "list", "--state", "waiting", "--json"),
				"day quota used but for what is kept for urgent letters") {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("after two minutes %d letters have arrived, and the queue does not say that the day's quota "+
				"is used:\n%s", n, p.must("outbox", "list", "--state", "waiting"))
		}
	}
	common := len(p.inbox.Letters(""))
	// A killed worker can have spent, of each of its leases, one letter, and one for each of its connections.
	if most, least := perDay-kept, perDay-kept-kills*(1+connections); common > most || common < least {
		t.Errorf("%d letters of the normal lane arrived, want between %d and %d", common, least, most)
	}
	p.with(func(svc *illumicode.Service) {
		for i := range 40 {
			if _, err := svc.Signup(t.Context(), illumicode.Request{Address: "urgent." + address(i)},
				illumicode.Subject(address(i))); err != nil {
				t.Fatal(err)
			}
		}
	})
	// A letter whose claim was lost gives its place back to its own worker, where it may stay.
	for end := time.Now().Add(time.Minute); len(p.inbox.Letters("")) < common+kept-connections || !quiet(p); {
		if time.Now().After(end) {
			t.Fatalf("of what is kept for the urgent lane, %d letters arrived in a minute, want %d",
				len(p.inbox.Letters(""))-common, kept)
		}
	}
	if n := len(p.inbox.Letters("")); n > perDay {
		t.Errorf("%d letters on one day, want %d at most", n, perDay)
	}
	for _, w := range workers[kills:] {
		interrupt(t, w)
	}
	times := p.inbox.Letters("")
	for i, j := 0, 0; j < len(times); j++ {
		for times[j].Received.Sub(times[i].Received) >= time.Second {
			i++
		}
		if n := j - i + 1; n > perSecond+perSecond/50 {
			t.Fatalf("%d letters within a second", n)
		}
	}
}

// quiet reports whether nothing arrives for a while.
func quiet(p *place) bool {
	n := len(p.inbox.Letters(""))
	time.Sleep(700 * time.Millisecond)
	return len(p.inbox.Letters("")) == n
}
