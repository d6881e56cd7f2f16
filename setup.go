package illumicode

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/core/near"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/outbox"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
)

// What New checks before it asks the database, and what it puts where nothing was said.

// wrong returns an error about a field of Config.
func wrong(field, what string) error { return fmt.Errorf("illumicode: Config.%s %s", field, what) }

// checked returns c with its defaults, or what is missing or cannot be.
func (c Config) checked() (Config, error) {
	for _, check := range []func(*Config) error{
		(*Config).checkRequired, (*Config).checkSite, (*Config).checkGuard, (*Config).checkLetters,
		(*Config).checkTerms,
	} {
		if err := check(&c); err != nil {
			return c, err
		}
	}
	if c.KeySource != nil {
		var err error
		if c.Keys, err = c.KeySource.read(context.Background()); err != nil {
			return c, wrong("KeySource", err.Error())
		}
	}
	if c.MaxAttachments <= 0 {
		c.MaxAttachments = 20 << 20
	}
	if c.Undo <= 0 {
		c.Undo = undoFor
	}
	if c.Limits == nil {
		c.Limits = DefaultLimits()
	}
	if c.Log == nil {
		c.Log = slog.Default()
	}
	c.Log = rows.Quiet(c.Log)
	if c.Observer == nil {
		c.Observer = nobody{}
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	c.Bounces, c.Recheck = bouncesWithDefaults(c.Bounces), recheckWithDefaults(c.Recheck)
	return c, nil
}

func (c *Config) checkRequired() error {
	switch {
	case c.Store == nil || rows.Of(c.Store) == nil:
		return wrong("Store", "is nil or zero; open one with sqlite.Open")
	case c.KeySource != nil && c.Keys != nil:
		return wrong("KeySource", "is given beside Keys; choose one")
	case c.KeySource == nil && (c.Keys == nil || keyring.Of(c.Keys) == nil):
		return wrong("Keys", "is nil or zero; read a keyring made by `illumicode keys new` with token.Parse, or set "+
			"KeySource to KeyFile")
	case c.Site.Name == "":
		return wrong("Site.Name", "is empty; letters must say who writes")
	case c.From.String() == "":
		return wrong("From", "is empty; make it with message.ParseAddress")
	case len(c.Providers) == 0:
		return wrong("Providers", "is empty; without a way out no letter arrives")
	}
	seen := make(map[string]bool)
	for i, p := range c.Providers {
		field := fmt.Sprintf("Providers[%d]", i)
		switch {
		case p == nil:
			return wrong(field, "is nil")
		case p.Name() == "":
			return wrong(field, "has no name; caps, reports and the queue tell providers by it")
		case seen[p.Name()]:
			return wrong(field,
				fmt.Sprintf("is named %q like another one; caps, reports and the queue tell providers by "+
					"their names, so give it one of its own", p.Name()))
		}
		seen[p.Name()] = true
	}
	return nil
}

func (c *Config) checkSite() error {
	base, err := flow.CheckBaseURL(c.Site.BaseURL)
	if err != nil {
		return wrong("Site.BaseURL", err.Error())
	}
	c.Site.BaseURL = base
	c.Site.ConfirmPath = cmp.Or(c.Site.ConfirmPath, "/confirm")
	c.Site.NotMePath = cmp.Or(c.Site.NotMePath, "/not-me")
	c.Site.UnsubscribePath = cmp.Or(c.Site.UnsubscribePath, "/unsubscribe")
	return nil
}

func (c *Config) checkGuard() error {
	checked, err := guardInside(c.Guard).Check()
	if err != nil {
		return wrong("Guard", err.Error())
	}
	c.Guard.Mode = delivery.Mode(checked.Mode)
	if (c.Guard.Mode == delivery.Capture) != (c.Capture != nil) {
		return wrong("Capture", "and the guard's mode capture go together; set both or neither")
	}
	return nil
}

// inside returns the guard as workers have it.
func guardInside(g delivery.Guard) outbox.Guard {
	return outbox.Guard{Mode: outbox.Mode(g.Mode), Domains: g.Domains}
}

// ways returns what letters leave by.
func (c Config) ways() []provider.Provider {
	if c.Guard.Mode == delivery.Capture {
		return []provider.Provider{c.Capture}
	}
	return c.Providers
}

func (c Config) carriesSMS() bool {
	return slices.ContainsFunc(c.Providers, func(p provider.Provider) bool { return p.Can().SMS })
}

// set returns the letters.
func (c Config) set() *render.Set { return render.Of(c.Letters) }

func (c *Config) checkLetters() error {
	if c.Letters == nil {
		var err error
		if c.Letters, err = letters.Default(); err != nil {
			return err
		}
	}
	if c.set() == nil {
		return wrong("Letters", "is a zero Set; read one with letters.Load, or leave it nil for the default letters")
	}
	for name, sample := range c.Data {
		if err := c.set().CheckType(name, sample); err != nil {
			return wrong("Data", err.Error())
		}
	}
	if all := flow.Misfits(c.set()); len(all) > 0 {
		return wrong("Letters", all[0].What)
	}
	return nil
}

// checkSamples refuses letters that cannot be made of their own sample values.
func (c *Config) checkSamples(w render.Writer) error {
	if err := c.set().TrySamples(w, c.Site.BaseURL); err != nil {
		return wrong("Letters", err.Error())
	}
	return nil
}

func (c *Config) checkTerms() error {
	names := make([]string, len(c.Providers))
	for i, p := range c.Providers {
		names[i] = p.Name()
	}
	for name, terms := range c.Outbox.Terms {
		if !slices.ContainsFunc(c.Providers, func(p provider.Provider) bool { return p.Name() == name }) {
			return wrong("Outbox.Terms", fmt.Sprintf("has terms of a provider %q, and %s", name,
				near.List(name, names)))
		}
		if err := choose.Check(terms); err != nil {
			return wrong("Outbox.Terms", fmt.Sprintf("of provider %q cannot be: %v", name, err))
		}
	}
	return nil
}

func bouncesWithDefaults(b delivery.Bounces) delivery.Bounces {
	if b.Soft <= 0 {
		b.Soft = 5
	}
	if b.Within <= 0 {
		b.Within = 14 * 24 * time.Hour
	}
	return b
}

// returnPath reads Config.ReturnPath.
func (c Config) returnPath() (flow.ReturnPath, error) {
	if c.ReturnPath == "" {
		return flow.ReturnPath{}, nil
	}
	raw := c.ReturnPath
	if !strings.Contains(raw, "@") {
		raw = strings.Repeat("a", keyring.PathLength) + "@" + raw
	}
	a, err := message.ParseAddress(raw)
	if err != nil {
		return flow.ReturnPath{}, fmt.Errorf("is neither a domain nor an address: %w", err)
	}
	if err := mayWrite(a, c.Providers); err != nil {
		return flow.ReturnPath{}, err
	}
	p := flow.ReturnPath{Domain: a.Domain()}
	if raw == c.ReturnPath {
		local, _, _ := strings.Cut(a.Envelope(), "@")
		p.Prefix = strings.ToLower(local) + "+"
		if len(p.Prefix)+keyring.PathLength > 64 || a.NeedsUTF8() {
			return p, fmt.Errorf(
				"has a part before the @ that leaves no room for the signature: at most %d ASCII characters, "+
					"as 64 are allowed (RFC 5321 §4.5.3.1.1)", 63-keyring.PathLength)
		}
	}
	return p, nil
}

// senders checks who writes, and returns the addresses of letters that have their own.
func (c Config) senders() (map[string]message.Address, error) {
	if err := mayWrite(c.From, c.Providers); err != nil {
		return nil, wrong("From", err.Error())
	}
	froms := make(map[string]message.Address)
	for _, name := range c.set().Names() {
		raw := c.set().Kind(name).From
		if raw == "" {
			continue
		}
		from, err := message.ParseAddress(raw)
		if err == nil {
			from, err = from.WithName(c.From.Name)
		}
		if err == nil {
			err = mayWrite(from, c.Providers)
		}
		if err != nil {
			return nil, wrong("Letters", fmt.Sprintf("letter %q: from %v", name, err))
		}
		froms[name] = from
	}
	return froms, nil
}

// checkLimits refuses rules for purposes that there are not.
func (c Config) checkLimits(purposes map[string]flow.Purpose) error {
	for _, r := range c.Limits {
		for _, purpose := range r.On {
			if _, known := purposes[purpose]; !known && purpose != judge.Told {
				return wrong("Limits", fmt.Sprintf("rule %q is on %q, which is no purpose; %s", r.Name, purpose,
					near.List(purpose, slices.Collect(maps.Keys(purposes)))))
			}
		}
	}
	return nil
}

// linkPurposes returns the purposes that links have, in order.
func linkPurposes(purposes map[string]flow.Purpose) []string {
	return append(slices.Sorted(maps.Keys(purposes)), challenge.NotMe, challenge.Undo)
}

// purposes returns all purposes with their letters and policies.
func (c Config) purposes() (map[string]flow.Purpose, error) {
	own := make(map[string]flow.Purpose, len(c.Purposes))
	for name, p := range c.Purposes {
		own[name] = flow.Purpose(p)
	}
	all, err := flow.Purposes(c.set(), flow.Policies{
		challenge.Signup: c.Signup, challenge.Reverify: c.Reverify, challenge.SignIn: c.SignIn,
		challenge.StepUp: c.StepUp,
	}, own)
	if err != nil {
		return nil, wrong("Purposes", err.Error())
	}
	return all, nil
}

// writer returns who is writing, as letters show it, and the mark that travels with them, nil if none does; or what is
// wrong with them.
func (s Site) writer() (render.Writer, *compose.Part, error) {
	return flow.Look{
		Name: s.Name, HomePage: s.HomePage, Imprint: s.Imprint, Mark: s.Mark, MarkImage: s.MarkImage,
		Colours: render.Colours(s.Colours),
	}.Writer()
}
