package main

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// memoryFigures measures the resident memory of worker processes that drain a million rows: of an
// application that does nothing else, and of the command-line tool.
func memoryFigures(scale int) ([]figure, error) {
	var all []figure
	for _, worker := range []struct{ what, program string }{{"an application", "./bench/worker"},
		{"illumicode deliver", theTool}} {
		some, err := memoryOf(worker.what, worker.program, 100_000*scale)
		if err != nil {
			return nil, err
		}
		all = append(all, some...)
	}
	return all, nil
}

func memoryOf(what, program string, n int) ([]figure, error) {
	b, err := newBed(nobody{})
	if err != nil {
		return nil, err
	}
	defer b.close()
	ctx := context.Background()
	if err := b.seed(ctx, n); err != nil {
		return nil, err
	}
	var said bytes.Buffer
	worker, err := b.worker(program)
	if err != nil {
		return nil, err
	}
	worker.Stderr = &said
	start := time.Now()
	if err := worker.Start(); err != nil {
		return nil, err
	}
	defer worker.Process.Kill() // if this ends early; else it has ended
	ended := make(chan error, 1)
	go func() { ended <- worker.Wait() }()
	var half, most int // KiB: the most of the first half, and of all
	for looks := 1; ; looks++ {
		select {
		case err := <-ended:
			return nil, fmt.Errorf("%s ended with rows left: %v: %s", program, err, said.Bytes())
		case <-time.After(100 * time.Millisecond):
		}
		most = max(most, resident(worker.Process.Pid))
		if looks%20 != 0 { // counting reads the whole table
			continue
		}
		left := 0
		loads, err := b.store.Loads(ctx)
		if err != nil {
			return nil, err
		}
		for _, l := range loads {
			left += l.Count
		}
		if half == 0 && left < n/2 {
			half = most
		}
		if left == 0 {
			break
		}
	}
	took := time.Since(start)
	if err := worker.Process.Signal(syscall.SIGTERM); err != nil {
		return nil, err
	}
	return []figure{
		{fmt.Sprintf("resident memory of %s draining %d rows, SQLite", what, n), "48 MiB", float64(most) / (48 << 10),
			1,
			fmt.Sprintf("%.1f MiB at most; %.0f deliveries a second", float64(most)/1024, rate(n, took))},
		{"the same, all of it", "its first half", float64(most) / float64(half), 1.1, "flat"},
	}, <-ended
}

const theTool = "./cmd/illumicode"

// worker builds a program that delivers what waits in the bed's database.
func (b *bed) worker(program string) (*exec.Cmd, error) {
	binary, file := filepath.Join(b.dir, "worker"), filepath.Join(b.dir, "bench.db")
	if out, err := exec.Command("go", "build", "-o", binary, program).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("go build %s: %w: %s", program, err, out)
	}
	worker := exec.Command(binary, file)
	if program == theTool {
		config, ring := filepath.Join(b.dir, "illumicode.toml"), filepath.Join(b.dir, "keyring.json")
		if err := os.WriteFile(config, fmt.Appendf(nil, toolConfig, file, ring), 0o600); err != nil {
			return nil, err
		}
		if out, err := exec.Command(binary, "keys", "new", "--out", ring).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("keys new: %w: %s", err, out)
		}
		worker = exec.Command(binary, "deliver", "--config", config)
	}
	return worker, nil
}

// toolConfig is a configuration of the command-line tool, for a database and a keyring.
const toolConfig = `
site.name = "Tern Isle Ferry"
site.base_url = "https://ferry.example"
from.address = "crew@ternisle.example"
store.file = %q
keys.file = %q
[[provider]]
name = "sink"
kind = "discard"
`

// resident returns the resident memory of a process in KiB (proc(5)).
func resident(pid int) (kib int) {
	f, err := os.Open(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if rest, ok := strings.CutPrefix(lines.Text(), "VmRSS:"); ok {
			fmt.Sscan(rest, &kib)
		}
	}
	return kib
}
