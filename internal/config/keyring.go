package config

import (
	"context"
	"log/slog"
	"os"
	"time"

	"github.com/illumicode/illumicode/internal/core/keyring"
)

// followEvery is how often a running process looks whether its keyring has changed.
const followEvery = 2 * time.Second

// FollowKeyring makes ring hold what the keyring file does, until ctx ends: a rotation needs no
// restart. A file that cannot be read is logged, and the keys stay.
func (f *File) FollowKeyring(ctx context.Context, ring *keyring.Keyring, log *slog.Logger) {
	seen := f.keyringVersion()
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		version := f.keyringVersion()
		if version == seen {
			continue
		}
		seen = version
		next, err := f.Keyring()
		if err != nil {
			log.Error("the keyring has changed and cannot be read; the keys stay as they were", "error", err)
			continue
		}
		ring.Replace(keyring.Of(next))
		log.Info("took up the keyring", "signs", keyring.Of(next).Active())
	}
}

// keyringVersion changes when the file does.
func (f *File) keyringVersion() string {
	info, err := os.Stat(f.KeyringPath())
	if err != nil {
		return err.Error()
	}
	return info.ModTime().String() + info.Mode().String()
}
