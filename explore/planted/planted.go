// Package planted plants faults in the service, one at a time, and says whether the explorer finds them. A fault is a
// change of a few words in one place. [Faults] is what to read first.
package planted

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"
)

// A Fault is old words in a file that are replaced by new ones. The old ones must be there exactly once.
type Fault struct {
	Name     string // what is wrong then
	File     string // from the top of the repository
	Old, New string
	Kind     string // of the histories that must find it; empty for those of one step after another
	On       string // the database that they are played on; empty for SQLite
	Masked   string // why nobody can see it; empty for those that must be found
}

// Plant returns the file with the fault in it. top is the top of the repository.
func (f Fault) Plant(top string) (string, error) {
	raw, err := os.ReadFile(filepath.Join(top, f.File))
	if err != nil {
		return "", err
	}
	if n := strings.Count(string(raw), f.Old); n != 1 {
		return "", fmt.Errorf("%s: the words %q stand in %s %d times, not once", f.Name, f.Old, f.File, n)
	}
	return strings.Replace(string(raw), f.Old, f.New, 1), nil
}

// Run plants each fault whose name has filter in it, and prints whether the explorer finds it within limit. The error
// says how many it has not found.
func Run(ctx context.Context, filter string, limit time.Duration) error {
	top, err := os.Getwd()
	if err != nil {
		return err
	}
	tried, missed, masked := 0, 0, 0
	for _, f := range Faults {
		if !strings.Contains(f.Name, filter) {
			continue
		}
		tried++
		began := time.Now()
		story, err := f.find(ctx, top, limit)
		switch {
		case err != nil:
			return fmt.Errorf("%s: %w", f.Name, err)
		case story == "" && f.Masked != "":
			fmt.Printf("masked     %s: %s\n", f.Name, f.Masked)
			masked++
		case story == "":
			missed++
			fmt.Printf("NOT FOUND  %s, in %v\n", f.Name, time.Since(began).Round(time.Second))
		default:
			fmt.Printf("found      %s: %s\n", f.Name, story)
		}
	}
	fmt.Printf("%d of %d were found\n", tried-missed-masked, tried)
	if missed > 0 || tried == 0 {
		return fmt.Errorf("%d of %d planted faults were not found", missed, tried)
	}
	return nil
}

// find builds an explorer whose service has the fault, and has it explore. It returns after how much it was found, ""
// if it was not.
func (f Fault) find(ctx context.Context, top string, limit time.Duration) (found string, err error) {
	dir, err := os.MkdirTemp("", "illumicode-planted-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	text, err := f.Plant(top)
	if err != nil {
		return "", err
	}
	changed, overlay := filepath.Join(dir, "planted.go"), filepath.Join(dir, "overlay.json")
	raw, err := json.Marshal(map[string]any{"Replace": map[string]string{filepath.Join(top, f.File): changed}})
	err = errors.Join(err, os.WriteFile(changed, []byte(text), 0o600), os.WriteFile(overlay, raw, 0o600))
	if err != nil {
		return "", err
	}
	binary := filepath.Join(dir, "explore")
	build := exec.CommandContext(ctx, "go", "build", "-overlay", overlay, "-o", binary, "./explore")
	build.Dir = top
	if out, err := build.CombinedOutput(); err != nil {
		return "", fmt.Errorf("it does not build: %w\n%s", err, out)
	}
	out, err := exec.CommandContext(ctx, binary, "-for", limit.String(), "-kind",
		cmp.Or(f.Kind, "sequential"), "-on", cmp.Or(f.On, "sqlite")).CombinedOutput()
	switch {
	case err == nil:
		return "", nil
	case failed.Match(out):
		return string(failed.FindSubmatch(out)[1]), nil
	}
	return "", fmt.Errorf("the explorer ended otherwise: %w\n%s", err, out)
}

// failed matches the line in which the explorer reports a find.
var failed = regexp.MustCompile(`(?m)^(after \d+ histories, in .*)$`)
