package flow

import (
	"errors"
	"strconv"

	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/store"
)

// ErrMeddled means that a row is not as this service has written it.
var ErrMeddled = errors.New("illumicode: the row is not as it was made; somebody else has written to its table")

// The kinds of rows that are bound.
const (
	boundChallenge = "challenge"
	boundChange    = "change"
)

// challengeFields are what a challenge is bound to. Its counters, its times and its state are not among them.
func challengeFields(c store.Challenge) []string {
	return []string{c.ID, c.Kid, c.Purpose, c.Subject, c.Address, c.Mailbox, c.Action, c.Ticket,
		strconv.FormatBool(c.Decoy)}
}

// changeFields are what a change of address is bound to.
func changeFields(c store.Change) []string {
	return []string{c.ID, c.Kid, c.Subject, c.Old, c.OldMailbox, c.New, c.NewMailbox, c.Challenge,
		strconv.FormatInt(c.Made.UnixMilli(), 10), strconv.FormatInt(c.UndoEnds.UnixMilli(), 10)}
}

// BindChallenge binds a challenge to what it says, under a key.
func BindChallenge(key *keyring.Key, c *store.Challenge) {
	c.Kid = key.ID()
	c.Bound = key.Bind(boundChallenge, challengeFields(*c)...)
}

// BindChange is BindChallenge for a change of address. After a correction it is bound anew, under the same key: links
// that were sent before stay good.
func BindChange(key *keyring.Key, c *store.Change) {
	c.Kid = key.ID()
	c.Bound = key.Bind(boundChange, changeFields(*c)...)
}

// OldBound binds the link that takes a change back to what no correction changes.
func OldBound(key *keyring.Key, c store.Change) string {
	return key.Bind("old address", c.ID, c.Subject, c.Old)
}

// ChallengeKey returns the key of a challenge that is as it was made. The error matches [keyring.ErrUnknownKey], or is
// [ErrMeddled], which is logged.
func (p *Parts) ChallengeKey(c store.Challenge) (*keyring.Key, error) {
	return p.keyOf(row{boundChallenge, c.ID, c.Kid, c.Bound, challengeFields(c)})
}

// ChangeKey is ChallengeKey for a change of address.
func (p *Parts) ChangeKey(c store.Change) (*keyring.Key, error) {
	return p.keyOf(row{boundChange, c.ID, c.Kid, c.Bound, changeFields(c)})
}

// A row is one that is bound, as it is now.
type row struct {
	kind, id, kid, bound string
	fields               []string
}

func (p *Parts) keyOf(r row) (*keyring.Key, error) {
	key, err := p.Keys.Key(r.kid, p.Now())
	if err != nil {
		return nil, err
	}
	if !key.Fits(r.bound, r.kind, r.fields...) {
		p.Log.Error("a row is not as it was made, and is not used: somebody else writes to the database",
			"table", r.kind, "id", r.id)
		return nil, ErrMeddled
	}
	return key, nil
}
