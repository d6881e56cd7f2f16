package queue

import (
	"context"
	"errors"

	"github.com/illumicode/illumicode/internal/store/db"
)

// SettingSite names the setting that holds the base URL of the site that the database sends for.
const SettingSite = "site"

var (
	selectSetting = db.Q(`SELECT value FROM @setting WHERE name = ?`)
	insertSetting = db.Q(`INSERT INTO @setting (name, value) VALUES (?, ?) ON CONFLICT (name) DO NOTHING`)
	updateSetting = db.Q(`INSERT INTO @setting (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE
		SET value = excluded.value`)
)

// Setting returns a setting; empty if it was never set.
func (s Rows) Setting(ctx context.Context, name string) (string, error) {
	v, err := db.One(ctx, s, db.Scalar[string], selectSetting, name)
	if errors.Is(err, db.ErrNotFound) {
		err = nil
	}
	return v, err
}

// SetOnce sets a setting that was never set, and returns what it is then.
func (s Rows) SetOnce(ctx context.Context, name, value string) (string, error) {
	if v, err := s.Setting(ctx, name); err != nil || v != "" {
		return v, err
	}
	if _, err := s.Exec(ctx, insertSetting, name, value); err != nil {
		return "", err
	}
	return s.Setting(ctx, name)
}

// Set sets a setting.
func (s Rows) Set(ctx context.Context, name, value string) error {
	_, err := s.Exec(ctx, updateSetting, name, value)
	return err
}
