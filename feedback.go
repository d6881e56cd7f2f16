package illumicode

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/core/report"
	"github.com/illumicode/illumicode/core/token"
	"github.com/illumicode/illumicode/store"
)

// ErrForeignPath means that an address is no return path of this service: what is sent to it is about
// none of its letters, whatever it says.
var ErrForeignPath = errors.New("illumicode: that is no return path of a letter of this service")

// Bounces says what follows from letters that come back. A hard bounce is decided at once; soft ones
// add up. The zero Bounces is all defaults.
type Bounces struct {
	Soft   int           // so many letters that come back softly are as one that does so hard; 0 or less means 5
	Within time.Duration // in this time, and since the address was last proven; 0 or less means 14 days
}

func (b Bounces) withDefaults() Bounces {
	if b.Soft <= 0 {
		b.Soft = 5
	}
	if b.Within <= 0 {
		b.Within = 14 * 24 * time.Hour
	}
	return b
}

// A FeedbackWatcher is told of everything that came back and was tied to its letter, where
// Config.Outbox.Observer is one. It is called by many goroutines and must return at once.
type FeedbackWatcher interface {
	CameBack(source string, kind report.Kind)
}

// A returnPath is where what comes back goes. The zero returnPath is the sender of each letter.
type returnPath struct{ prefix, domain string }

// returnPath reads Config.ReturnPath.
func (c Config) returnPath() (returnPath, error) {
	if c.ReturnPath == "" {
		return returnPath{}, nil
	}
	raw := c.ReturnPath
	if !strings.Contains(raw, "@") {
		raw = strings.Repeat("a", token.PathLength) + "@" + raw
	}
	a, err := message.ParseAddress(raw)
	if err != nil {
		return returnPath{}, fmt.Errorf("is neither a domain nor an address: %w", err)
	}
	if err := mayWrite(a, c.Providers); err != nil {
		return returnPath{}, err
	}
	p := returnPath{domain: a.Domain()}
	if raw == c.ReturnPath {
		local, _, _ := strings.Cut(a.Envelope(), "@")
		if p.prefix = strings.ToLower(local) + "+"; len(p.prefix)+token.PathLength > 64 || a.NeedsUTF8() {
			return p, fmt.Errorf("has a part before the @ that leaves no room for the signature: at most %d ASCII characters, as 64 are allowed (RFC 5321 §4.5.3.1.1)", 63-token.PathLength)
		}
	}
	return p, nil
}

// of returns the envelope sender of a delivery.
func (p returnPath) of(key *token.Key, delivery, sender string) string {
	path := key.ReturnPath(delivery)
	if p.domain == "" || path == "" {
		return sender
	}
	return p.prefix + path + "@" + p.domain
}

// ReadReturnPath returns the delivery whose return path an address is, or [ErrForeignPath]. A listener
// asks it before it takes a message.
func (s *Service) ReadReturnPath(address string) (delivery string, err error) {
	local, domain, _ := strings.Cut(address, "@")
	if s.back.domain == "" || !strings.EqualFold(domain, s.back.domain) || len(local) < len(s.back.prefix) || !strings.EqualFold(local[:len(s.back.prefix)], s.back.prefix) {
		return "", ErrForeignPath
	}
	delivery, ok := s.keys.ReadReturnPath(local[len(s.back.prefix):], s.now())
	if !ok {
		return "", ErrForeignPath
	}
	return delivery, nil
}

// A Feedback is what somebody says of one letter. Which letter that is must be beyond doubt: a return
// path is signed, and for the other two whoever calls answers, as a webhook does that has checked a
// signature. One of them is required.
type Feedback struct {
	report.Report
	Source   string // the provider whose words these are; empty for a report that came by mail
	Path     string // where the report went, or what it names: a return path
	Delivery string // our id
	Letter   string // the provider's own id of the letter, as it answered it
}

// TakeFeedback keeps what came back about letters, all of it or, after an error, none, and returns how
// much was new: a repeat is one with the same Source and ID or, without an ID, the same words. Workers
// apply it, in a moment or, if it has overtaken its own attempt, after that.
//
// A hard bounce makes an address bounced and suppresses it, but for one challenge a day; soft ones do
// if they add up (Config.Bounces); a complaint suppresses notices. A bounce of a letter from before
// its address was last proven changes nothing, and a proof ends what bounces began.
//
// The error matches [ErrForeignPath] if a path is none of this service's.
func (s *Service) TakeFeedback(ctx context.Context, all ...Feedback) (int, error) {
	now := s.now()
	rows := make([]store.Feedback, len(all))
	for i, f := range all {
		row := store.Feedback{Source: cmp.Or(f.Source, store.FromMail), Delivery: f.Delivery, Remote: f.Letter, Kind: f.Kind, Status: f.Status, Words: f.Text, Happened: f.At, Taken: now}
		if f.Path != "" {
			var err error
			if row.Delivery, err = s.ReadReturnPath(f.Path); err != nil {
				return 0, err
			}
		}
		switch {
		case !f.Kind.Known():
			return 0, fmt.Errorf("illumicode: there is no feedback of kind %q", f.Kind)
		case row.Delivery == "" && (row.Remote == "" || f.Source == ""):
			return 0, errors.New("illumicode: feedback must say which letter it is about: a return path, a delivery, or a provider and its id of the letter")
		}
		if row.Delivery != "" {
			row.Remote = ""
		}
		if row.Happened.IsZero() || row.Happened.After(now) {
			row.Happened = now
		}
		row.ID = feedbackID(row.Source, cmp.Or(f.ID, string(f.Kind)+f.Status+f.Text+f.At.String()), row.Delivery, row.Remote, string(f.Kind))
		rows[i] = row
	}
	var added int64
	err := s.store.Write(ctx, func(t store.Tx) (err error) {
		added, err = t.InsertFeedback(ctx, rows...)
		return err
	})
	if added > 0 {
		s.Wake()
	}
	return int(added), err
}

// feedbackID returns what tells one feedback from another.
func feedbackID(all ...string) string {
	h := sha256.New()
	for _, one := range all {
		fmt.Fprintf(h, "%d:%s", len(one), one)
	}
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil)[:16])
}

// What has overtaken its attempt is looked at again after a tenth of its age, and given up in the end.
const (
	feedbackWait  = 24 * time.Hour
	feedbackBatch = 500
)

// applyFeedback does what follows from what came back.
func (s *Service) applyFeedback(ctx context.Context) (n int, err error) {
	now := s.now()
	due, err := s.store.DueFeedback(ctx, now, feedbackBatch)
	if err != nil || len(due) == 0 {
		return 0, err
	}
	later := make(map[string]time.Time)
	var simple []store.Feedback
	for _, f := range due {
		age := now.Sub(f.Taken)
		f.State = store.FeedbackApplied
		switch {
		case f.Sent.IsZero() && age < feedbackWait:
			later[f.ID] = now.Add(max(time.Second, age/10))
		case f.Sent.IsZero():
			f.State, f.Note = store.FeedbackAside, "nobody knows a letter with this id, or none was sent"
			simple = append(simple, f)
		case f.Kind == report.SoftBounce || f.Kind == report.HardBounce || f.Kind == report.Complaint:
			err = errors.Join(err, s.applyOne(ctx, f))
			n++
		default:
			simple = append(simple, f)
		}
	}
	if len(later) > 0 {
		err = errors.Join(err, s.store.PostponeFeedback(ctx, later))
	}
	if len(simple) > 0 {
		err = errors.Join(err, s.settle(ctx, simple...))
	}
	return n + len(simple), err
}

// settle records what became of feedbacks, and tells of those that were applied; what another worker has
// recorded it has told.
func (s *Service) settle(ctx context.Context, all ...store.Feedback) error {
	var mine []string
	err := s.store.Write(ctx, func(t store.Tx) (err error) {
		mine, err = t.SettleFeedback(ctx, all...)
		return err
	})
	if err != nil {
		return err
	}
	for _, f := range all {
		if f.State == store.FeedbackApplied && slices.Contains(mine, f.ID) {
			s.tellFeedback(f)
		}
	}
	return nil
}

// tellFeedback tells the log and the observer.
func (s *Service) tellFeedback(f store.Feedback) {
	s.log.Info("feedback", "delivery", f.Delivery, "source", f.Source, "kind", f.Kind, "status", f.Status)
	if s.feedbackWatch != nil {
		s.feedbackWatch.CameBack(f.Source, f.Kind)
	}
}

// applyOne does what follows from a bounce or a complaint, once.
func (s *Service) applyOne(ctx context.Context, f store.Feedback) error {
	d, err := s.store.Delivery(ctx, f.Delivery)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	to, parseErr := message.ParseRecipient(d.Address)
	if err != nil || parseErr != nil {
		f.State, f.Note = store.FeedbackAside, "its delivery is not kept any more"
		return s.settle(ctx, f)
	}
	f.Mailbox = to.Mailbox()
	did := false
	err = s.store.Write(ctx, func(t store.Tx) error {
		act, err := s.consequence(ctx, t, &f)
		if err != nil {
			return err
		}
		if mine, err := t.SettleFeedback(ctx, f); err != nil || len(mine) == 0 { // another worker has done it
			return err
		}
		step := store.Step{Challenge: d.Challenge, Mailbox: f.Mailbox, At: s.now(), What: "feedback", Outcome: string(f.Kind) + ": " + f.Note}
		if err := t.Record(ctx, step); err != nil {
			return err
		}
		did = true
		return act()
	})
	if err == nil && did {
		s.tellFeedback(f)
	}
	return err
}

// consequence decides what follows, and returns it to be done; f.Note says it.
func (s *Service) consequence(ctx context.Context, t store.Tx, f *store.Feedback) (act func() error, err error) {
	said := strings.TrimSpace(f.Status + " " + f.Words)
	suppress := func(scope store.Scope, reason string) error {
		return s.suppress(ctx, t, f.Mailbox, scope, reason)
	}
	if f.Kind == report.Complaint {
		f.Note = "its reader has complained: no more notices"
		return func() error { return suppress(store.NoticesOnly, "a complaint, told by "+f.Source) }, nil
	}
	proven, err := t.Proven(ctx, f.Mailbox)
	if err != nil {
		return nil, err
	}
	nothing := func() error { return nil }
	if proven.After(f.Sent) {
		f.Note = "nothing, as the address was proven after this letter was sent"
		return nothing, nil
	}
	reason := fmt.Sprintf("a letter came back, told by %s: %s", f.Source, said)
	if f.Kind == report.SoftBounce {
		since := s.now().Add(-s.bounces.Within)
		if proven.After(since) {
			since = proven
		}
		others, err := t.SoftBounces(ctx, f.Mailbox, since, f.Delivery)
		if err != nil {
			return nil, err
		}
		if int(others)+1 < s.bounces.Soft {
			f.Note = fmt.Sprintf("nothing yet: letter %d of %d that come back softly", others+1, s.bounces.Soft)
			return nothing, nil
		}
		reason = fmt.Sprintf("%d letters came back, the last told by %s: %s", others+1, f.Source, said)
	}
	f.Note = "the address has bounced"
	return func() error {
		now := s.now()
		if err := t.SetBounced(ctx, f.Mailbox, reason, now.Add(s.recheck.Grace), now); err != nil {
			return err
		}
		return suppress(store.BouncedOnce, reason)
	}, nil
}
