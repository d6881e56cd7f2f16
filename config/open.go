package config

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/letter"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/core/retry"
	"github.com/illumicode/illumicode/core/route"
	"github.com/illumicode/illumicode/dkim"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/outbox"
	"github.com/illumicode/illumicode/provider/file"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/postgres"
	"github.com/illumicode/illumicode/store/sqlite"
)

// OpenStore opens the database alone: enough to look at the outbox and to migrate.
func (f *File) OpenStore(ctx context.Context) (*store.Store, error) {
	if f.Store.File != "" {
		st, err := sqlite.Open(ctx, f.beside(f.Store.File))
		if err != nil {
			return nil, f.wrong("store.file", "cannot be opened: %w", err)
		}
		return st, nil
	}
	password, err := f.secret("store.password", f.Store.PasswordEnv, f.Store.PasswordFile)
	if err != nil {
		return nil, err
	}
	st, err := postgres.Open(ctx, f.Store.Postgres, postgres.Options{Listen: f.Store.PostgresListen, Connections: f.Store.Connections, Password: password.Reveal()})
	if err != nil {
		return nil, f.wrong("store.postgres", "cannot be opened: %w", err)
	}
	return st, nil
}

// Open opens everything the file describes; the function it returns closes it again. watch is told
// what workers do; it may be nil.
func (f *File) Open(ctx context.Context, log *slog.Logger, watch outbox.Observer) (_ *illumicode.Service, _ func() error, err error) {
	var closers []func() error
	closeAll := func() error {
		var errs []error
		for i := len(closers) - 1; i >= 0; i-- {
			errs = append(errs, closers[i]())
		}
		return errors.Join(errs...)
	}
	defer func() {
		if err != nil {
			closeAll()
		}
	}()
	keys, err := f.Keyring()
	if err != nil {
		return nil, nil, err
	}
	from, err := f.Sender()
	if err != nil {
		return nil, nil, err
	}
	set, err := f.LetterSet()
	if err != nil {
		return nil, nil, err
	}
	site, err := f.site()
	if err != nil {
		return nil, nil, err
	}
	sign, err := f.Signer()
	if err != nil {
		return nil, nil, err
	}
	terms, err := f.Terms()
	if err != nil {
		return nil, nil, err
	}
	rules, err := f.rules()
	if err != nil {
		return nil, nil, err
	}
	ways, err := f.Providers()
	if err != nil {
		return nil, nil, err
	}
	for _, way := range ways {
		if c, ok := way.(io.Closer); ok {
			closers = append(closers, c.Close)
		}
	}
	st, err := f.OpenStore(ctx)
	if err != nil {
		return nil, nil, err
	}
	closers = append(closers, st.Close)
	c := illumicode.Config{
		Store: st, Keys: keys, From: from, Providers: ways, Letters: set, Log: log,
		Site:   site,
		Signup: f.Signup.policy(), Reverify: f.Reverify.policy(), SignIn: f.SignIn.policy(), StepUp: f.StepUp.policy(),
		TellOwner: f.Flows.TellOwner, Welcome: f.Flows.Welcome, Undo: time.Duration(f.Flows.Undo),
		Recheck: illumicode.Recheck{Every: time.Duration(f.Flows.RecheckEvery), Batch: f.Flows.RecheckBatch, Grace: time.Duration(f.Flows.Grace)},
		Limits:  rules,

		ReturnPath: f.Feedback.ReturnPath, Bounces: illumicode.Bounces{Soft: f.Feedback.Soft, Within: time.Duration(f.Feedback.Within)},

		Events: f.events(),
		Guard:  outbox.Guard{Mode: outbox.Mode(f.Guard.Mode), Domains: f.Guard.Domains},
		Outbox: outbox.Config{
			Senders: f.Outbox.Senders, Reserved: f.Outbox.Reserved, Observer: watch,
			Keep: time.Duration(f.Outbox.Keep), KeepOnce: time.Duration(f.Outbox.KeepOnce), Lease: time.Duration(f.Outbox.Lease), Poll: time.Duration(f.Outbox.Poll),
			Attempt: time.Duration(f.Outbox.Attempt), Grace: time.Duration(f.Outbox.Grace),
			Order: route.Order(f.Outbox.Order), Terms: terms,
			Retry: retry.Policy{Attempts: f.Outbox.Attempts, Base: time.Duration(f.Outbox.Base), Max: time.Duration(f.Outbox.Max)},
		},
	}
	c.Outbox.Weights = make(map[store.Lane]int)
	for lane, weight := range map[store.Lane]int{store.Urgent: f.Outbox.Weights.Urgent, store.Normal: f.Outbox.Weights.Normal, store.Bulk: f.Outbox.Weights.Bulk} {
		if weight > 0 {
			c.Outbox.Weights[lane] = weight
		}
	}
	if f.Flows.RefuseDomains != "" {
		raw, err := os.ReadFile(f.beside(f.Flows.RefuseDomains))
		if err == nil {
			c.Admit, err = illumicode.RefuseDomains(string(raw))
		}
		if err != nil {
			return nil, nil, f.wrong("flows.refuse_domains", "%w", err)
		}
	}
	if f.Guard.Capture != "" {
		if c.Capture, err = file.New("capture", f.beside(f.Guard.Capture)); err != nil {
			return nil, nil, f.wrong("guard.capture", "%w", err)
		}
	}
	if sign != nil {
		c.Sign = sign // a nil *dkim.Signer in the interface would not be nil
	}
	svc, err := illumicode.New(c)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", f.path, err)
	}
	return svc, closeAll, nil
}

// events returns the rules for events.
func (f *File) events() []illumicode.EventRule {
	var rules []illumicode.EventRule
	for _, e := range f.Event {
		r := illumicode.EventRule{Type: e.Type, Letter: e.Letter, To: e.To, Lane: store.Lane(e.Lane), Delay: time.Duration(e.Delay), Key: e.Key,
			Remind: e.Remind, Before: time.Duration(e.Before), Collapse: time.Duration(e.Collapse), By: e.By}
		for _, one := range e.Fixed {
			r.Fixed = append(r.Fixed, illumicode.Request{Address: one})
		}
		rules = append(rules, r)
	}
	return rules
}

// Signer returns what letters are signed with, or nil if no key is configured.
func (f *File) Signer() (*dkim.Signer, error) {
	var keys []dkim.Key
	for i, k := range f.DKIM {
		name := fmt.Sprintf("dkim[%d]", i)
		raw, err := f.secret(name+".key", k.KeyEnv, k.KeyFile)
		if err != nil {
			return nil, err
		}
		if raw == "" {
			return nil, f.wrong(name, "has neither key_env nor key_file; name where the private key is, in PEM")
		}
		key, err := dkim.ParseKey(k.Domain, k.Selector, []byte(raw.Reveal()))
		if err != nil {
			return nil, f.wrong(name, "%w", err)
		}
		keys = append(keys, key)
	}
	if len(keys) == 0 {
		return nil, nil
	}
	return dkim.New(keys...)
}

// site returns the site, with its mark read.
func (f *File) site() (illumicode.Site, error) {
	s := illumicode.Site{BaseURL: f.Site.BaseURL, Name: f.Site.Name, HomePage: f.Site.HomePage, Imprint: f.Site.Imprint, Mark: f.Site.Mark,
		Colours: letter.Colours(f.Site.Colours)}
	if f.Site.MarkFile != "" {
		raw, err := os.ReadFile(f.beside(f.Site.MarkFile))
		if err != nil {
			return s, f.wrong("site.mark_file", "cannot be read: %w", err)
		}
		s.MarkImage = raw
	}
	return s, nil
}

// Sender returns the address that letters are from.
func (f *File) Sender() (message.Address, error) {
	from, err := message.ParseAddress(f.From.Address)
	if err != nil {
		return from, f.wrong("from.address", "is %v", err)
	}
	if from, err = from.WithName(f.From.Name); err != nil {
		return from, f.wrong("from.name", "is %v", err)
	}
	return from, nil
}

// Writer returns who is writing, as [illumicode.Site.Writer] does.
func (f *File) Writer() (letter.Writer, *message.Part, error) {
	s, err := f.site()
	if err != nil {
		return letter.Writer{}, nil, err
	}
	w, mark, err := s.Writer()
	if err != nil {
		return w, nil, f.wrong("site", "%w", err)
	}
	return w, mark, nil
}

// LetterSet returns the letters.
func (f *File) LetterSet() (*letter.Set, error) {
	if f.Letters.Dir == "" {
		return letters.Default()
	}
	fallback := f.Letters.Fallback
	if fallback == "" {
		fallback = "en"
	}
	set, err := letters.Load(os.DirFS(f.beside(f.Letters.Dir)), fallback)
	if err != nil {
		return nil, f.wrong("letters.dir", "%s: %v", f.Letters.Dir, err)
	}
	return set, nil
}

func (f Flow) policy() challenge.Policy {
	p := challenge.Policy{
		Forms: challenge.Forms(f.Forms), CodeLife: time.Duration(f.CodeLife), LinkLife: time.Duration(f.LinkLife), Cap: time.Duration(f.Cap),
		Digits: f.Digits, Tries: f.Tries,
	}
	for _, rung := range f.Resend {
		p.Ladder = append(p.Ladder, time.Duration(rung))
	}
	return p
}
