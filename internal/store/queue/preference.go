package queue

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Preference is what a person wants of a category: the row.
type Preference struct {
	Mailbox  string
	Category string
	Wanted   bool
	Since    time.Time
}

// preferenceRow are the columns of a preference.
var preferenceRow = db.Columns[Preference]{
	db.Text("mailbox", func(r *Preference) *string { return &r.Mailbox }),
	db.Text("category", func(r *Preference) *string { return &r.Category }),
	db.Bool("wanted", func(r *Preference) *bool { return &r.Wanted }),
	db.Time("since", func(r *Preference) *time.Time { return &r.Since }),
}

var (
	newPreference = preferenceRow.Insert("preference", db.Values{})
	setPreference = db.Q(newPreference.Alone() + ` ON CONFLICT (mailbox, category) DO UPDATE
		SET wanted = excluded.wanted, since = excluded.since`)
	unwanted = db.Q(`SELECT EXISTS (SELECT 1 FROM @preference WHERE mailbox = ? AND category = ? AND wanted = 0)`)

	selectPreferences = db.Q(`SELECT ` + preferenceRow.Names() + ` FROM @preference WHERE mailbox = ?
		ORDER BY category`)
)

// Prefer records what a person wants.
func (s Rows) Prefer(ctx context.Context, p Preference) error {
	_, err := s.Exec(ctx, setPreference, newPreference.Args(p)...)
	return err
}

// Unwanted reports whether a person has said no to a category.
func (s Rows) Unwanted(ctx context.Context, mailbox, category string) (bool, error) {
	return db.One(ctx, s, db.Scalar[bool], unwanted, mailbox, category)
}

// Preferences returns what a person has said.
func (s Rows) Preferences(ctx context.Context, mailbox string) ([]Preference, error) {
	return db.All(ctx, s, preferenceRow.Scan, selectPreferences, mailbox)
}
