package store

import (
	"context"
	"strings"

	"github.com/illumicode/illumicode/internal/store/queue"
)

const settingHome = "home"

// AtHome reports whether the database is where it was when a worker first worked on it, or was last adopted. A copy is
// not. Small changes of its place, which no copy has, are taken on record.
func (s *Store) AtHome(ctx context.Context) (bool, error) {
	here, err := s.Home(ctx)
	if err != nil || here == nil {
		return err == nil, err
	}
	kept, err := s.SetOnce(ctx, settingHome, strings.Join(here, "\n"))
	if err != nil {
		return false, err
	}
	if s.elsewhere(here, kept) {
		return false, nil
	}
	for i, was := range strings.Split(kept, "\n") {
		if i < len(here) && here[i] == "" {
			here[i] = was // not known from here, and known before
		}
	}
	if now := strings.Join(here, "\n"); now != kept {
		return true, s.Set(ctx, settingHome, now)
	}
	return true, nil
}

// LooksAway reports whether the database looks like a copy from here, and changes nothing.
func (s *Store) LooksAway(ctx context.Context) (bool, error) {
	here, err := s.Home(ctx)
	if err != nil || here == nil {
		return false, err
	}
	kept, err := s.Setting(ctx, settingHome)
	return kept != "" && s.elsewhere(here, kept), err
}

// Adopt makes the database send for a site, and be at home where it is.
func (s *Store) Adopt(ctx context.Context, site string) error {
	here, err := s.Home(ctx)
	if err != nil {
		return err
	}
	if here != nil {
		if err := s.Set(ctx, settingHome, strings.Join(here, "\n")); err != nil {
			return err
		}
	}
	return s.Set(ctx, queue.SettingSite, site)
}

// elsewhere reports whether so much of a place is another that it is a copy's. What is not known counts for nothing.
func (s *Store) elsewhere(here []string, kept string) bool {
	differ := 0
	for i, was := range strings.Split(kept, "\n") {
		if i < len(here) && here[i] != was && here[i] != "" && was != "" {
			differ++
		}
	}
	return differ >= s.Moved()
}
