package sqlite

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
)

// home returns what marks a database's place: its file's path, what the file is, and the machine; nil for one in
// memory. What nobody knows is empty.
func home(ctx context.Context, own *sql.DB) ([]string, error) {
	file := fileOf(ctx, own)
	if file == "" {
		return nil, nil
	}
	path, err := filepath.EvalSymlinks(file)
	if err != nil {
		path = file
	}
	if whole, err := filepath.Abs(path); err == nil {
		path = whole
	}
	machine, _ := os.ReadFile("/etc/machine-id") // a container often has none
	return []string{path, inode(path), strings.TrimSpace(string(machine))}, nil
}
