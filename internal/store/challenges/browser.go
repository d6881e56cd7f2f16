package challenges

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Browser is the row of one that has signed in to an account before.
type Browser struct {
	ID        string
	Subject   string
	Mailbox   string // by which it has signed in
	Name      string // as people know it in a list
	Challenge string // by which it has last signed in
	Since     time.Time
	Used      time.Time // when it has last signed in
}

// browserRow are the columns of a known browser, but for what is counted of it.
var browserRow = db.Columns[Browser]{
	db.Text("id", func(r *Browser) *string { return &r.ID }),
	db.Text("subject", func(r *Browser) *string { return &r.Subject }),
	db.Text("mailbox", func(r *Browser) *string { return &r.Mailbox }),
	db.Text("name", func(r *Browser) *string { return &r.Name }),
	db.Text("challenge", func(r *Browser) *string { return &r.Challenge }),
	db.Time("since", func(r *Browser) *time.Time { return &r.Since }),
	db.Time("used", func(r *Browser) *time.Time { return &r.Used }),
}

// MostBrowsers is how many browsers of a subject are known.
const MostBrowsers = 10

var (
	newBrowser  = browserRow.Insert("browser", db.Values{})
	keepBrowser = db.Q(newBrowser.Alone())
	useBrowser  = db.Q(`UPDATE @browser SET name = ?, challenge = ?, used = ? WHERE id = ? AND subject = ?`)
	dropOldest  = db.Q(`DELETE FROM @browser WHERE subject = ? AND id NOT IN (SELECT id FROM @browser
		WHERE subject = ? ORDER BY used DESC, id DESC LIMIT ?)`)
	selectBrowser  = db.Q(`SELECT ` + browserRow.Names() + ` FROM @browser WHERE id = ?`)
	selectBrowsers = db.Q(`SELECT ` + browserRow.Names() + ` FROM @browser WHERE subject = ?
		ORDER BY used DESC, id DESC`)
	browsersAt = db.Q(`SELECT ` + browserRow.Names() + ` FROM @browser WHERE mailbox = ?
		ORDER BY used DESC, id DESC`)
	revokeBrowser  = db.Q(`DELETE FROM @browser WHERE subject = ? AND id = ?`)
	revokeBrowsers = db.Q(`DELETE FROM @browser WHERE subject = ?`)
	revokeBegun    = db.Q(`DELETE FROM @browser WHERE subject = ? AND (id = ? OR challenge = ?)`)

	oldBrowsers = db.Q(`DELETE FROM @browser WHERE id @in(SELECT id FROM @browser WHERE used < ? LIMIT 500)`)

	// What a browser has for itself comes back a day after it was begun to be used.
	ownLetter  = db.Q(`UPDATE @browser SET lettered = ? WHERE id = ? AND lettered <= ?`)
	spendTries = db.Q(`UPDATE @browser SET tries = CASE WHEN tries_from <= ? THEN 1 ELSE tries + 1 END,
		tries_from = CASE WHEN tries_from <= ? THEN ? ELSE tries_from END
		WHERE id = ? AND (tries_from <= ? OR tries < ? OR (SELECT COALESCE(SUM(o.tries - ?), 0) FROM @browser o
		WHERE o.subject = illumicode_browser.subject AND o.tries > ? AND o.tries_from > ?) < ?)`)
)

// UseBrowser says that a known browser has signed in once more, and reports whether it is known: not if it was revoked.
func (t Tx) UseBrowser(ctx context.Context, b Browser) (bool, error) {
	n, err := t.Exec(ctx, useBrowser, b.Name, b.Challenge, db.Millis(b.Used), b.ID, b.Subject)
	return n == 1, err
}

// KeepBrowser adds a browser that has signed in, and forgets the oldest of its subject beyond [MostBrowsers].
func (t Tx) KeepBrowser(ctx context.Context, b Browser) error {
	if _, err := t.Exec(ctx, keepBrowser, newBrowser.Args(b)...); err != nil {
		return err
	}
	_, err := t.Exec(ctx, dropOldest, b.Subject, b.Subject, MostBrowsers)
	return err
}

// Browser returns a known browser, or [db.ErrNotFound].
func (s Rows) Browser(ctx context.Context, id string) (Browser, error) {
	return db.One(ctx, s, browserRow.Scan, selectBrowser, id)
}

// Browsers returns the known browsers of a subject, the one that has signed in last first.
func (s Rows) Browsers(ctx context.Context, subject string) ([]Browser, error) {
	return db.All(ctx, s, browserRow.Scan, selectBrowsers, subject)
}

// BrowsersAt returns the browsers that are known at a mailbox, the one that has signed in last first.
func (s Rows) BrowsersAt(ctx context.Context, mailbox string) ([]Browser, error) {
	return db.All(ctx, s, browserRow.Scan, browsersAt, mailbox)
}

// RevokeBrowser forgets a browser of a subject and reports whether it did.
func (t Tx) RevokeBrowser(ctx context.Context, subject, id string) (bool, error) {
	n, err := t.Exec(ctx, revokeBrowser, subject, id)
	return n == 1, err
}

// RevokeBrowsers forgets all browsers of a subject and returns how many these were.
func (t Tx) RevokeBrowsers(ctx context.Context, subject string) (int64, error) {
	return t.Exec(ctx, revokeBrowsers, subject)
}

// RevokeBegun forgets the browser that began a challenge, and the one that has signed in by it.
func (t Tx) RevokeBegun(ctx context.Context, c Challenge) error {
	_, err := t.Exec(ctx, revokeBegun, c.Subject, c.Browser, c.ID)
	return err
}

// OwnLetter spends the letter that a browser has for itself until a day after now, and reports whether it was there.
func (s Rows) OwnLetter(ctx context.Context, id string, now time.Time) (ok bool, err error) {
	err = s.Write(ctx, func(t db.Tx) error {
		n, err := t.Exec(ctx, ownLetter, db.Millis(now), id, db.Millis(now.Add(-day)))
		ok = n == 1
		return err
	})
	return ok, err
}

const day = 24 * time.Hour

// A TryBudget says how many tries of codes browsers have in a day.
type TryBudget struct {
	Own    int // each
	Shared int // those of one subject together, beyond their own
}

// SpendKnownTry spends a try of a known browser, its own or one that all of its subject share, and reports whether
// there was one.
func (s Rows) SpendKnownTry(ctx context.Context, id string, b TryBudget, now time.Time) (ok bool, err error) {
	ago := db.Millis(now.Add(-day))
	err = s.Write(ctx, func(t db.Tx) error {
		n, err := t.Exec(ctx, spendTries, ago, ago, db.Millis(now), id, ago, b.Own, b.Own, b.Own, ago, b.Shared)
		ok = n == 1
		return err
	})
	return ok, err
}

// SweepBrowsers forgets browsers that have not signed in since an instant, and returns how many these were.
func (s Rows) SweepBrowsers(ctx context.Context, since time.Time) (int64, error) {
	return s.Steps(ctx, func(t db.Tx) (int64, error) { return t.Exec(ctx, oldBrowsers, db.Millis(since)) })
}

var _ = db.Hot(map[string]string{
	"known browser": selectBrowser, "browsers of a subject": selectBrowsers, "browsers at a mailbox": browsersAt,
	"a browser's own letter":      ownLetter,
	"spend a known browser's try": spendTries, "forget the oldest browser": dropOldest,
	"forget the browser that began": revokeBegun, "old browsers": oldBrowsers,
})
