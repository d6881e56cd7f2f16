package config

import (
	"net"
	"path/filepath"
	"strings"
	"testing"
)

// A socket that a killed process has left is taken over; one that somebody listens on is not.
func TestListenFeedback(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lmtp")
	left, err := net.ListenUnix("unix", &net.UnixAddr{Name: path, Net: "unix"})
	if err != nil {
		t.Fatal(err)
	}
	left.SetUnlinkOnClose(false)
	left.Close()
	f := &File{path: "illumicode.toml", Feedback: Feedback{ReturnPath: "bounces.ternisle.example",
		Listen: "unix:" + path}}
	l, err := f.ListenFeedback()
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if _, err := f.ListenFeedback(); err == nil || !strings.Contains(err.Error(), "feedback.listen") {
		t.Errorf("a second listener: %v", err)
	}
	f.Feedback.ReturnPath = ""
	if _, err := f.ListenFeedback(); err == nil || !strings.Contains(err.Error(), "feedback.return_path") {
		t.Errorf("without a return path: %v", err)
	}
}
