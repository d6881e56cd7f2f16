//go:build unix

package sqlite

import (
	"fmt"
	"os"
	"syscall"
)

// inode returns what a file is, wherever it is moved to on its disk.
func inode(path string) string {
	info, err := os.Stat(path)
	if err != nil {
		return ""
	}
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return fmt.Sprint(s.Ino)
	}
	return ""
}
