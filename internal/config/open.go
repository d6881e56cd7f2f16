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
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/dkim"
	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/letter"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider/file"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/postgres"
	"github.com/illumicode/illumicode/store/sqlite"
)

// OpenStore opens the database alone: enough to look at the outbox and to migrate.
func (f *File) OpenStore(ctx context.Context) (*store.Store, error) {
	if f.Store.File != "" {
		st, err := sqlite.Open(ctx, f.inFolder(f.Store.File))
		if err != nil {
			return nil, f.wrong("store.file", "cannot be opened: %w", err)
		}
		return st, nil
	}
	password, err := f.secret("store.password", f.Store.PasswordEnv, f.Store.PasswordFile)
	if err != nil {
		return nil, err
	}
	st, err := postgres.Open(ctx, f.Store.Postgres,
		postgres.Options{Listen: f.Store.PostgresListen, Schema: f.Store.Schema, Password: password.Reveal()})
	if err != nil {
		return nil, f.wrong("store.postgres", "cannot be opened: %w", err)
	}
	if n := f.Store.Connections; n > 0 {
		st.DB().SetMaxOpenConns(n)
		st.DB().SetMaxIdleConns(n)
	}
	return st, nil
}

// Open opens everything the file describes; the function it returns closes it again. watch is told what the service
// does; it may be nil.
func (f *File) Open(ctx context.Context, log *slog.Logger, watch delivery.Observer) (_ *illumicode.Service,
	_ func() error, err error) {
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
	c, err := f.Config()
	for _, way := range c.Providers {
		if c, ok := way.(io.Closer); ok {
			closers = append(closers, c.Close)
		}
	}
	if err != nil {
		return nil, nil, err
	}
	if c.Store, err = f.OpenStore(ctx); err != nil {
		return nil, nil, err
	}
	closers = append(closers, c.Store.Close)
	c.Log, c.Observer = log, watch
	svc, err := illumicode.New(c)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", f.path, err)
	}
	return svc, closeAll, nil
}

// Config returns the configuration of the service that the file describes, but for its store. After an error it has the
// providers that were made.
func (f *File) Config() (illumicode.Config, error) {
	c := f.plain()
	for _, read := range []func(*illumicode.Config) error{f.readParts, f.readRules, f.readProviders} {
		if err := read(&c); err != nil {
			return c, err
		}
	}
	return c, nil
}

// conventions returns those of the file's domains.
func (f *File) conventions() map[string]message.Convention {
	all := make(map[string]message.Convention, len(f.Mailbox))
	for domain, m := range f.Mailbox {
		all[domain] = message.Convention(m)
	}
	return all
}

// plain returns what the file says as it is.
func (f *File) plain() illumicode.Config {
	c := illumicode.Config{
		Signup: f.Signup.policy(), Reverify: f.Reverify.policy(), SignIn: f.SignIn.policy(), StepUp: f.StepUp.policy(),
		TellOwner: f.Flows.TellOwner, TellOwnerByText: f.Flows.TellByText, Welcome: f.Flows.Welcome,
		Undo: time.Duration(f.Flows.Undo),
		Recheck: delivery.Recheck{
			Every: time.Duration(f.Flows.RecheckEvery), Batch: f.Flows.RecheckBatch,
			Grace: time.Duration(f.Flows.Grace),
		},
		ReturnPath:  f.Feedback.ReturnPath,
		Conventions: f.conventions(),
		Bounces:     delivery.Bounces{Soft: f.Feedback.Soft, Within: time.Duration(f.Feedback.Within)},
		Events:      f.events(),
		Guard:       delivery.Guard{Mode: delivery.Mode(f.Guard.Mode), Domains: f.Guard.Domains},
		Outbox: delivery.Settings{
			Senders: f.Outbox.Senders, Reserved: f.Outbox.Reserved,
			Keep: time.Duration(f.Outbox.Keep), KeepOnce: time.Duration(f.Outbox.KeepOnce),
			Lease: time.Duration(f.Outbox.Lease), Poll: time.Duration(f.Outbox.Poll),
			Attempt: time.Duration(f.Outbox.Attempt), Grace: time.Duration(f.Outbox.Grace),
			Order: route.Order(f.Outbox.Order), Weights: make(map[delivery.Lane]int),
			FallbackAfter: time.Duration(f.Outbox.FallbackAfter),
			Retry: retry.Policy{
				Attempts: f.Outbox.Attempts, Base: time.Duration(f.Outbox.Base), Max: time.Duration(f.Outbox.Max),
			},
		},
	}
	for lane, weight := range map[delivery.Lane]int{
		delivery.Urgent: f.Outbox.Weights.Urgent, delivery.Normal: f.Outbox.Weights.Normal,
		delivery.Bulk: f.Outbox.Weights.Bulk,
	} {
		if weight > 0 {
			c.Outbox.Weights[lane] = weight
		}
	}
	return c
}

// readParts reads the keyring, the letters, the site and what signs.
func (f *File) readParts(c *illumicode.Config) (err error) {
	if _, err = f.Keyring(); err != nil { // in the words of the configuration
		return err
	}
	c.KeySource = f.KeySource()
	if c.From, err = f.Sender(); err != nil {
		return err
	}
	if c.Letters, err = f.LetterSet(); err != nil {
		return err
	}
	if c.Site, err = f.site(); err != nil {
		return err
	}
	sign, err := f.Signer()
	if sign != nil {
		c.Sign = sign // a nil *dkim.Signer in the interface would not be nil
	}
	return err
}

// readRules reads the limits, and which addresses are refused.
func (f *File) readRules(c *illumicode.Config) (err error) {
	if c.Limits, err = f.rules(); err != nil {
		return err
	}
	if f.Flows.RefuseDomains == "" {
		return nil
	}
	raw, err := os.ReadFile(f.inFolder(f.Flows.RefuseDomains))
	if err == nil {
		c.Admit, err = message.RefuseDomains(string(raw))
	}
	if err != nil {
		return f.wrong("flows.refuse_domains", "%w", err)
	}
	return nil
}

// readProviders makes the providers, with their terms, and what captures.
func (f *File) readProviders(c *illumicode.Config) (err error) {
	if c.Outbox.Terms, err = f.Terms(); err != nil {
		return err
	}
	if f.Guard.Capture != "" {
		if c.Capture, err = file.New("capture", f.inFolder(f.Guard.Capture)); err != nil {
			return f.wrong("guard.capture", "%w", err)
		}
	}
	c.Providers, err = f.Providers()
	return err
}

// events returns the rules for events.
func (f *File) events() []illumicode.EventRule {
	var rules []illumicode.EventRule
	for _, e := range f.Event {
		r := illumicode.EventRule{Type: e.Type, Letter: e.Letter, To: e.To, Lane: delivery.Lane(e.Lane),
			Delay: time.Duration(e.Delay), Key: e.Key,
			Remind: e.Remind, Before: time.Duration(e.Before), Gather: time.Duration(e.Gather), Topic: e.Topic}
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
	s := illumicode.Site{BaseURL: f.Site.BaseURL, Name: f.Site.Name, HomePage: f.Site.HomePage, Imprint: f.Site.Imprint,
		Mark: f.Site.Mark, Colours: letter.Colours(f.Site.Colours)}
	if f.Site.MarkFile != "" {
		raw, err := os.ReadFile(f.inFolder(f.Site.MarkFile))
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

// Writer returns who is writing, as letters show it, and the mark that travels with them.
func (f *File) Writer() (render.Writer, *compose.Part, error) {
	s, err := f.site()
	if err != nil {
		return render.Writer{}, nil, err
	}
	w, mark, err := flow.Look{
		Name: s.Name, HomePage: s.HomePage, Imprint: s.Imprint, Mark: s.Mark, MarkImage: s.MarkImage,
		Colours: render.Colours(s.Colours),
	}.Writer()
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
	set, err := letters.Load(os.DirFS(f.inFolder(f.Letters.Dir)), fallback)
	if err != nil {
		return nil, f.wrong("letters.dir", "%s: %v", f.Letters.Dir, err)
	}
	return set, nil
}

func (f Flow) policy() challenge.Policy {
	p := challenge.Policy{
		Forms: challenge.Forms(f.Forms), CodeLife: time.Duration(f.CodeLife), LinkLife: time.Duration(f.LinkLife),
		Cap: time.Duration(f.Cap), Digits: f.Digits, Tries: f.Tries,
	}
	for _, rung := range f.Resend {
		p.Ladder = append(p.Ladder, time.Duration(rung))
	}
	return p
}
