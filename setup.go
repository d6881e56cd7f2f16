package illumicode

import (
	"cmp"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/letter"
	"github.com/illumicode/illumicode/core/limit"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/outbox"
	"github.com/illumicode/illumicode/provider"
)

// What New checks before it asks the database, and what it puts where nothing was said.

// wrong returns an error about a field of Config.
func wrong(field, what string) error { return fmt.Errorf("illumicode: Config.%s %s", field, what) }

// checked returns c with its defaults, or what is missing or cannot be.
func (c Config) checked() (Config, error) {
	switch {
	case c.Store == nil:
		return c, wrong("Store", "is nil; open one with sqlite.Open")
	case c.Keys == nil:
		return c, wrong("Keys", "is nil; read a keyring made by `illumicode keys new` with token.ParseKeyring")
	case c.Site.Name == "":
		return c, wrong("Site.Name", "is empty; letters must say who writes")
	case c.From.String() == "":
		return c, wrong("From", "is empty; make it with message.ParseAddress")
	case len(c.Providers) == 0:
		return c, wrong("Providers", "is empty; without a way out no letter arrives")
	}
	base, err := CheckBaseURL(c.Site.BaseURL)
	if err != nil {
		return c, wrong("Site.BaseURL", err.Error())
	}
	c.Site.BaseURL = base
	c.Site.ConfirmPath = cmp.Or(c.Site.ConfirmPath, "/confirm")
	c.Site.NotMePath = cmp.Or(c.Site.NotMePath, "/not-me")
	c.Site.UnsubscribePath = cmp.Or(c.Site.UnsubscribePath, "/unsubscribe")
	if c.Guard, err = c.Guard.Check(); err != nil {
		return c, wrong("Guard", err.Error())
	}
	if (c.Guard.Mode == outbox.Capture) != (c.Capture != nil) {
		return c, wrong("Capture", "and the guard's mode capture go together; set both or neither")
	}
	if c.Letters == nil {
		if c.Letters, err = letters.Default(); err != nil {
			return c, err
		}
	}
	for name, sample := range c.Data {
		if err := c.Letters.CheckType(name, sample); err != nil {
			return c, wrong("Data", err.Error())
		}
	}
	for name, terms := range c.Outbox.Terms {
		if !slices.ContainsFunc(c.Providers, func(p provider.Provider) bool { return p.Name() == name }) {
			return c, wrong("Outbox", fmt.Sprintf("has terms of a provider %q, and there is none of that name", name))
		}
		if err := terms.Check(); err != nil {
			return c, wrong("Outbox", fmt.Sprintf("has terms of provider %q that cannot be: %v", name, err))
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
	if c.Now == nil {
		c.Now = time.Now
	}
	return c, nil
}

// senders checks who writes, and returns the addresses of letters that have their own.
func (c Config) senders() (map[string]message.Address, error) {
	if err := mayWrite(c.From, c.Providers); err != nil {
		return nil, wrong("From", err.Error())
	}
	froms := make(map[string]message.Address)
	for _, name := range c.Letters.Names() {
		raw := c.Letters.Kind(name).From
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

// limits returns the rules.
func (c Config) limits(purposes map[string]Purpose) (*limit.Set, error) {
	for _, r := range c.Limits {
		for _, purpose := range r.On {
			if _, known := purposes[purpose]; !known {
				return nil, wrong("Limits", fmt.Sprintf("rule %q is on %q, which is no purpose; Purposes names the application's own", r.Name, purpose))
			}
		}
	}
	rules, err := limit.NewSet(c.Limits...)
	if err != nil {
		return nil, wrong("Limits", err.Error())
	}
	return rules, nil
}

// Policies returns the policies of all purposes with their defaults, for working out what they allow.
func (c Config) Policies() (map[string]challenge.Policy, error) {
	if c.Letters == nil {
		var err error
		if c.Letters, err = letters.Default(); err != nil {
			return nil, err
		}
	}
	all, err := c.purposes()
	out := make(map[string]challenge.Policy, len(all))
	for name, p := range all {
		out[name] = p.Policy
	}
	return out, err
}

// purposes returns all purposes with their letters and policies.
func (c Config) purposes() (map[string]Purpose, error) {
	all := map[string]Purpose{
		challenge.Signup: {confirmLetter, c.Signup}, challenge.Reverify: {reverifyLetter, c.Reverify},
		challenge.SignIn: {signInLetter, c.SignIn}, challenge.StepUp: {stepUpLetter, c.StepUp},
	}
	for name, p := range c.Purposes {
		_, taken := all[name]
		switch {
		case taken || name == LinkNotMe || name == LinkUndo || name == "":
			return nil, fmt.Errorf("illumicode: Config.Purposes: %q is taken; choose another name", name)
		case !c.Letters.Has(p.Letter) || !c.Letters.CarriesProof(p.Letter):
			return nil, fmt.Errorf("illumicode: Config.Purposes: %q needs a letter that has a button or a place for a code; %q is none", name, p.Letter)
		}
		all[name] = p
	}
	for name, p := range all {
		link, code := c.Letters.Offers(p.Letter)
		room := map[[2]bool]challenge.Forms{{true, true}: challenge.Both, {true, false}: challenge.LinkOnly, {false, true}: challenge.CodeOnly}[[2]bool{link, code}]
		switch {
		case p.Policy.Forms == "":
			p.Policy.Forms = room
		case p.Policy.Forms != room && room != challenge.Both:
			return nil, fmt.Errorf("illumicode: the policy of %s: its letters carry %s, and letter %q has room for %s only", name, p.Policy.Forms, p.Letter, room)
		}
		var err error
		if p.Policy, err = p.Policy.WithDefaults(name); err != nil {
			return nil, fmt.Errorf("illumicode: the policy of %s: %w", name, err)
		}
		all[name] = p
	}
	return all, nil
}

// Writer returns who is writing, as letters show it, and the mark that travels with them, nil if none
// does; or what is wrong with them.
func (s Site) Writer() (letter.Writer, *message.Part, error) {
	w := letter.Writer{Name: s.Name, HomePage: s.HomePage, Imprint: s.Imprint, Mark: s.Mark, Colours: s.Colours}
	var mark *message.Part
	if s.MarkImage != nil {
		kind := http.DetectContentType(s.MarkImage)
		ext, ok := map[string]string{"image/png": "png", "image/jpeg": "jpg", "image/gif": "gif"}[kind]
		switch {
		case s.Mark != "":
			return w, nil, errors.New("has both Mark and MarkImage; choose one")
		case !ok:
			return w, nil, fmt.Errorf("MarkImage is no PNG, JPEG or GIF picture, but %s", kind)
		case len(s.MarkImage) > 100<<10:
			return w, nil, fmt.Errorf("MarkImage has %d bytes and travels with every letter; keep it under 100 KiB", len(s.MarkImage))
		}
		p := message.BytesPart("mark."+ext, kind, s.MarkImage)
		p.ID = "mark"
		mark, w.Mark = &p, "cid:mark"
	}
	w, err := w.Check()
	return w, mark, err
}

// CheckBaseURL returns the base URL of a site without a slash at its end, or what is wrong with
// it. A worker has no request to take the host from, so every link is made from this.
func CheckBaseURL(raw string) (string, error) {
	u, err := url.Parse(raw)
	switch {
	case raw == "":
		return "", errors.New("is missing; say where the site is, such as https://ferry.example")
	case err != nil || !u.IsAbs() || u.Host == "":
		return "", errors.New("is not absolute; write it with scheme and host, such as https://ferry.example")
	case u.User != nil || u.RawQuery != "" || u.Fragment != "":
		return "", errors.New("has a user, a query or a fragment; give scheme, host and path only")
	case u.Scheme == "http" && !loopback(u.Hostname()):
		return "", errors.New("is http: links would cross the network in the clear; use https")
	case u.Scheme != "http" && u.Scheme != "https":
		return "", errors.New("is neither https nor http")
	}
	return strings.TrimSuffix(u.String(), "/"), nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || strings.HasSuffix(host, ".localhost") || ip != nil && ip.IsLoopback()
}
