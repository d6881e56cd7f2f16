package pgtest

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Standby makes and starts a server that has all commits of s before s says that they are made.
func (s *Server) Standby(ctx context.Context) (*Server, error) {
	b := &Server{bin: s.bin, as: s.as}
	var err error
	if b.dir, err = os.MkdirTemp("", "illumicode-pg-"); err != nil {
		return nil, err
	}
	if b.as != nil {
		if err := os.Chown(b.dir, int(b.as.Uid), int(b.as.Gid)); err != nil {
			return nil, err
		}
	}
	if err := b.run(ctx, "pg_basebackup", "-h", s.dir, "-U", "illumicode", "-D", b.data(), "-R", "-c",
		"fast"); err != nil {
		return nil, err
	}
	if err := b.Up(ctx); err != nil {
		return nil, err
	}
	return b, s.commitsWait(ctx, true)
}

// commitsWait says whether commits wait for a standby, and waits until there is one if they do.
func (s *Server) commitsWait(ctx context.Context, wait bool) error {
	conn, err := pgx.Connect(ctx, s.Conn("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	change := "ALTER SYSTEM SET synchronous_standby_names = ''"
	if wait {
		change = "ALTER SYSTEM SET synchronous_standby_names = '*'"
	}
	for _, text := range []string{change, "SELECT pg_reload_conf()"} {
		if _, err := conn.Exec(ctx, text); err != nil {
			return err
		}
	}
	for wait {
		var sync int
		if err := conn.QueryRow(ctx, "SELECT COUNT(*) FROM pg_stat_replication WHERE sync_state = 'sync'").Scan(
			&sync); err != nil {
			return err
		}
		if sync > 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// Promote makes a standby the primary. Its commits wait for nobody.
func (s *Server) Promote(ctx context.Context) error {
	if err := s.run(ctx, "pg_ctl", "-D", s.data(), "-w", "-s", "promote"); err != nil {
		return err
	}
	return s.commitsWait(ctx, false)
}

// Freeze stops all processes of the server where they are: connections stay open, and nothing answers.
func (s *Server) Freeze() error { return s.signal(syscall.SIGSTOP) }

// Thaw lets them go on.
func (s *Server) Thaw() error { return s.signal(syscall.SIGCONT) }

// signal sends a signal to the server and to its children.
func (s *Server) signal(sig syscall.Signal) error {
	file, err := os.ReadFile(filepath.Join(s.data(), "postmaster.pid"))
	if err != nil {
		return err
	}
	first, _, _ := strings.Cut(string(file), "\n")
	pid, err := strconv.Atoi(first)
	if err != nil {
		return err
	}
	if err := syscall.Kill(pid, sig); err != nil {
		return fmt.Errorf("pgtest: process %d: %w", pid, err)
	}
	all, err := filepath.Glob("/proc/[0-9]*/stat")
	if err != nil {
		return err
	}
	for _, name := range all {
		stat, err := os.ReadFile(name)
		if err != nil {
			continue // it has ended
		}
		// pid (name) state parent …; the name may hold anything
		fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
		if len(fields) > 1 && fields[1] == first {
			child, err := strconv.Atoi(filepath.Base(filepath.Dir(name)))
			if err == nil {
				syscall.Kill(child, sig) // it may have ended meanwhile
			}
		}
	}
	return nil
}

// Socket returns where the server listens.
func (s *Server) Socket() string { return filepath.Join(s.dir, ".s.PGSQL.5432") }

// Dir returns the folder of its socket.
func (s *Server) Dir() string { return s.dir }
