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

// memoryFigures measures the memory of worker processes that drain a million rows. Of an application that does nothing
// else it is what is resident. Of the command-line tool it is what is private: the system can drop the pages of its
// file, which holds plots and their fonts too.
func memoryFigures(scale int) ([]figure, error) {
	var all []figure
	for _, worker := range []measured{
		{"an application", "./bench/worker", "resident", 48, func(m memory) int { return m.resident }},
		{"illumicode deliver", theTool, "private", 28, func(m memory) int { return m.private }}} {
		if !wanted(worker.what) {
			continue
		}
		some, err := memoryOf(worker, 100_000*scale)
		if err != nil {
			return nil, err
		}
		all = append(all, some...)
	}
	return all, nil
}

// A measured is a program, and which of its memory has a goal.
type measured struct {
	what, program, kind string
	goal                int // MiB
	of                  func(memory) int
}

func memoryOf(m measured, n int) ([]figure, error) {
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
	worker, err := b.worker(m.program)
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
	var half, most, pages int // KiB: the most of the first half, and of all; the most of the program's own pages
	for looks := 1; ; looks++ {
		select {
		case err := <-ended:
			return nil, fmt.Errorf("%s ended with rows left: %v: %s", m.program, err, said.Bytes())
		case <-time.After(100 * time.Millisecond):
		}
		now := memoryNow(worker.Process.Pid)
		most, pages = max(most, m.of(now)), max(pages, now.file)
		if looks%20 != 0 { // counting reads the whole table
			continue
		}
		left, err := b.left(ctx)
		if err != nil {
			return nil, err
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
		{fmt.Sprintf("%s memory of %s draining %d rows, SQLite", m.kind, m.what, n), fmt.Sprintf("%d MiB", m.goal),
			float64(most) / float64(m.goal<<10), 1, fmt.Sprintf(
				"%.1f MiB at most, %.1f of pages of its file; %.0f deliveries a second", float64(most)/1024,
				float64(pages)/1024, rate(n, took))},
		{"the same, all of it: " + m.what, "its first half", float64(most) / float64(half), 1.1, "flat"},
	}, <-ended
}

// left returns how many letters wait or are under way.
func (b *bed) left(ctx context.Context) (n int, err error) {
	loads, err := b.store.Loads(ctx)
	for _, l := range loads {
		n += l.Count
	}
	return n, err
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

// memory is what a process has, in KiB (proc(5)): in all, its own alone, and pages of files.
type memory struct{ resident, private, file int }

func memoryNow(pid int) (m memory) {
	f, err := os.Open(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return m
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		for name, into := range map[string]*int{"VmRSS:": &m.resident, "RssAnon:": &m.private, "RssFile:": &m.file} {
			if rest, ok := strings.CutPrefix(lines.Text(), name); ok {
				fmt.Sscan(rest, into)
			}
		}
	}
	return m
}
