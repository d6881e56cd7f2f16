package main

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/store"
)

// diskSize is how large the small disk is, in bytes, and ballast how much of it lies there to be
// removed.
const (
	diskSize = 12 << 20
	ballast  = 4 << 20
)

// smallDisk mounts a small disk on dir.
func smallDisk(dir string) (unmount func(), err error) {
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, fmt.Sprintf("size=%d", diskSize)); err != nil {
		return nil, fmt.Errorf("a small disk cannot be mounted, which takes root: %w", err)
	}
	return func() { syscall.Unmount(dir, 0) }, os.WriteFile(filepath.Join(dir, "ballast"), make([]byte, ballast), 0o600)
}

// diskFull enqueues until the disk is full, while workers deliver; then makes room. What was
// accepted has to arrive, and what was refused must not.
func diskFull(s *stage, _, _ int) error {
	if err := s.start(); err != nil {
		return err
	}
	note := strings.Repeat("The sea is calm. ", 60)
	for s.accepted < 50_000 { // far more than there is room for
		_, err := s.svc.Notify(s.ctx, illumicode.Notice{Letter: "trial", Data: map[string]string{"note": note},
			To: illumicode.Request{Address: fmt.Sprintf("p%d@ternisle.example", s.accepted)}})
		if err != nil {
			if !errors.Is(err, store.ErrFull) {
				return fmt.Errorf("a full disk is reported as: %w", err)
			}
			s.faults++
			break
		}
		s.accepted++
	}
	if s.faults == 0 {
		return errors.New("the disk never got full: the scenario proves nothing")
	}
	if err := s.pause(2e9); err != nil { // workers find it full too
		return err
	}
	if err := os.Remove(filepath.Join(s.dir, "ballast")); err != nil {
		return err
	}
	return s.untilEmpty(func() error { return s.pause(1e8) })
}

// reader opens a transaction that reads the SQLite file and goes on seeing what it saw.
func (s *stage) reader() (*sql.Tx, error) {
	db, err := sql.Open("sqlite", "file:"+s.file)
	if err != nil {
		return nil, err
	}
	return db.BeginTx(s.ctx, &sql.TxOptions{ReadOnly: true})
}
