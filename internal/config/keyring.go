package config

import (
	"context"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/token"
)

// KeyringPath returns where the keyring is; empty if it is in an environment variable.
func (f *File) KeyringPath() string {
	if f.Keys.File == "" {
		return ""
	}
	return f.inFolder(f.Keys.File)
}

// KeySource returns where the keyring comes from.
func (f *File) KeySource() illumicode.KeySource {
	if f.Keys.Env != "" {
		return illumicode.KeyEnv(f.Keys.Env)
	}
	return illumicode.KeyFile(f.KeyringPath())
}

// Keyring reads the keyring. It refuses a file that others than its owner can read.
func (f *File) Keyring() (*token.Keyring, error) {
	field := "keys.file"
	if f.Keys.Env != "" {
		field = "keys.env"
	}
	raw, err := f.KeySource()(context.Background())
	if err != nil {
		return nil, f.wrong(field, "%v", err)
	}
	ring, err := token.Parse(raw)
	if err != nil {
		return nil, f.wrong(field, "%s%s: %v", f.Keys.File, f.Keys.Env, err)
	}
	return ring, nil
}

// checkKeys refuses a keyring in two places, or in none.
func (f *File) checkKeys() error {
	switch {
	case f.Keys.File == "" && f.Keys.Env == "":
		return f.wrong("keys.file", "is empty; name the keyring (`illumicode keys new` makes one), or say in keys.env "+
			"which environment variable holds it")
	case f.Keys.File != "" && f.Keys.Env != "":
		return f.wrong("keys.file", "and keys.env are both given; choose one")
	}
	return nil
}
