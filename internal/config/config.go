// Package config reads the configuration file of the command-line tool and opens what it
// describes. [Load] is the function to read first; illumicode.example.toml shows every key.
//
// Secrets are not in the file: it holds the names of environment variables or of files. What is
// wrong is refused at start, with the file, the key and the remedy.
package config

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/BurntSushi/toml"

	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/route"
)

// A File is the configuration as it is written.
type File struct {
	Site     Site               `toml:"site"`
	From     From               `toml:"from"`
	Store    Store              `toml:"store"`
	Keys     Keys               `toml:"keys"`
	Letters  Letters            `toml:"letters"`
	Provider []Provider         `toml:"provider"`
	DKIM     []DKIM             `toml:"dkim"`
	Flows    Flows              `toml:"flows"`
	Signup   Flow               `toml:"signup"`
	Reverify Flow               `toml:"reverify"`
	SignIn   Flow               `toml:"signin"`
	StepUp   Flow               `toml:"stepup"`
	Limit    []Limit            `toml:"limit"`
	Outbox   Outbox             `toml:"outbox"`
	Guard    Guard              `toml:"guard"`
	Event    []Event            `toml:"event"`
	Feedback Feedback           `toml:"feedback"`
	Mailbox  map[string]Mailbox `toml:"mailbox"`
	Serve    Serve              `toml:"serve"`

	path string
}

// Site is who is writing and where links lead.
type Site struct {
	BaseURL  string `toml:"base_url"`
	Name     string `toml:"name"`
	HomePage string `toml:"home_page"`
	Imprint  string `toml:"imprint"`
	Mark     string `toml:"mark"`
	MarkFile string `toml:"mark_file"`
	Colours  struct {
		Accent   string `toml:"accent"`
		OnAccent string `toml:"on_accent"`
		Ink      string `toml:"ink"`
		Sheet    string `toml:"sheet"`
		Ground   string `toml:"ground"`
	} `toml:"colours"`
}

// From is the sender of every letter.
type From struct {
	Address string `toml:"address"`
	Name    string `toml:"name"`
}

// Store is the database: an SQLite file, or a PostgreSQL server.
type Store struct {
	File           string `toml:"file"`
	Postgres       string `toml:"postgres"` // a connection string without password
	PasswordEnv    string `toml:"password_env"`
	PasswordFile   string `toml:"password_file"`
	PostgresListen string `toml:"postgres_listen"`
	Connections    int    `toml:"connections"`
	Schema         string `toml:"schema"` // of PostgreSQL; empty for the first of the search path
}

// Guard says what may leave.
type Guard struct {
	Mode    string   `toml:"mode"`
	Domains []string `toml:"domains"`
	Capture string   `toml:"capture"` // a folder: letters are written there as .eml
}

// Event is what an event leads to.
type Event struct {
	Type   string   `toml:"type"`
	Letter string   `toml:"letter"`
	To     string   `toml:"to"`
	Fixed  []string `toml:"fixed"`
	Lane   string   `toml:"lane"`
	Delay  Duration `toml:"delay"`
	Key    string   `toml:"key"`
	Remind string   `toml:"remind"`
	Before Duration `toml:"before"`
	Gather Duration `toml:"gather"`
	Topic  string   `toml:"topic"`
}

// Keys is where the keyring is: in a file, or in an environment variable.
type Keys struct {
	File string `toml:"file"`
	Env  string `toml:"env"`
}

// Letters is a folder of letters that replace the default ones.
type Letters struct {
	Dir      string `toml:"dir"`
	Fallback string `toml:"fallback"`
}

// DKIM is a key that letters are signed with.
type DKIM struct {
	Domain   string `toml:"domain"`
	Selector string `toml:"selector"`
	KeyEnv   string `toml:"key_env"`
	KeyFile  string `toml:"key_file"`
}

// Provider is one way out. Which keys it has depends on its kind.
type Provider struct {
	Name    string   `toml:"name"`
	Kind    string   `toml:"kind"` // smtp, http, sendmail, file or discard
	Senders []string `toml:"senders"`

	// what it takes, and what it is for
	PerSecond  float64  `toml:"per_second"`
	PerDay     int      `toml:"per_day"`
	PerMonth   int      `toml:"per_month"`
	PerCountry int      `toml:"per_country"`
	AtOnce     int      `toml:"at_once"`
	Zone       string   `toml:"zone"`
	Reserve    float64  `toml:"reserve"`
	Only       []string `toml:"only"`
	Never      []string `toml:"never"`
	Weight     int      `toml:"weight"`
	Cost       float64  `toml:"cost"` // of one letter or text, in a currency of your choice

	// smtp
	Host         string   `toml:"host"`
	Port         int      `toml:"port"`
	TLS          string   `toml:"tls"`
	Clear        bool     `toml:"clear"`
	User         string   `toml:"user"` // http too
	PasswordEnv  string   `toml:"password_env"`
	PasswordFile string   `toml:"password_file"`
	CAFile       string   `toml:"ca_file"`
	Hello        string   `toml:"hello"`
	Dial         Duration `toml:"dial"`
	Command      Duration `toml:"command"`
	Final        Duration `toml:"final"`
	Idle         Duration `toml:"idle"`
	Age          Duration `toml:"age"`
	Letters      int      `toml:"letters"`
	Most         int      `toml:"most"` // http too

	// http
	Method            string            `toml:"method"`
	URL               string            `toml:"url"`
	SMS               bool              `toml:"sms"`
	Form              bool              `toml:"form"`
	Body              string            `toml:"body"`
	Headers           map[string]string `toml:"headers"`
	BearerEnv         string            `toml:"bearer_env"`
	BearerFile        string            `toml:"bearer_file"`
	HMACEnv           string            `toml:"hmac_env"`
	HMACFile          string            `toml:"hmac_file"`
	HMACHeader        string            `toml:"hmac_header"`
	IdempotencyHeader string            `toml:"idempotency_header"`
	MessageID         string            `toml:"message_id"`
	Timeout           Duration          `toml:"timeout"`
	Probe             string            `toml:"probe"`

	Outcome []Outcome `toml:"outcome"` // of SMTP and HTTP, which have keys of their own

	// sendmail and file
	Path string `toml:"path"`
}

// Outcome says what a provider's answer means.
type Outcome struct {
	Class string `toml:"class"`

	// SMTP
	At       string `toml:"at"`
	Code     string `toml:"code"`
	Enhanced string `toml:"enhanced"`
	Words    string `toml:"words"`
	Concerns string `toml:"concerns"`

	// HTTP
	Status  string `toml:"status"`
	Pointer string `toml:"pointer"`
	Equals  string `toml:"equals"`
}

// Flows is what all flows have in common.
type Flows struct {
	RefuseDomains string   `toml:"refuse_domains"` // a file, one domain a line
	TellOwner     bool     `toml:"tell_owner"`
	TellByText    bool     `toml:"tell_owner_by_text"`
	Welcome       bool     `toml:"welcome"`
	Undo          Duration `toml:"undo"`
	RecheckEvery  Duration `toml:"recheck_every"`
	RecheckBatch  int      `toml:"recheck_batch"`
	Grace         Duration `toml:"grace"`
}

// Flow is the policy of the challenges of one purpose.
type Flow struct {
	Forms    string     `toml:"forms"`
	CodeLife Duration   `toml:"code_life"`
	LinkLife Duration   `toml:"link_life"`
	Cap      Duration   `toml:"cap"`
	Digits   int        `toml:"digits"`
	Tries    int        `toml:"tries"`
	Resend   []Duration `toml:"resend"`
}

// Outbox is how workers work.
type Outbox struct {
	Senders  int    `toml:"senders"`
	Reserved int    `toml:"reserved"`
	Order    string `toml:"order"` // which provider is preferred: listed, weights or cost
	Weights  struct {
		Urgent int `toml:"urgent"`
		Normal int `toml:"normal"`
		Bulk   int `toml:"bulk"`
	} `toml:"weights"`
	Keep     Keeping  `toml:"keep"`
	KeepOnce Duration `toml:"keep_once"`
	Lease    Duration `toml:"lease"`
	Poll     Duration `toml:"poll"`
	Attempt  Duration `toml:"attempt"`
	Grace    Duration `toml:"grace"`
	Attempts int      `toml:"attempts"`
	Base     Duration `toml:"base"`
	Max      Duration `toml:"max"`

	FallbackAfter Duration `toml:"fallback_after"`
}

// Mailbox is the convention of a domain, by which limits count.
type Mailbox struct {
	IgnoresDots bool     `toml:"ignores_dots"`
	Signs       string   `toml:"signs"`
	Same        []string `toml:"same"`
}

// Serve is the HTTP side.
type Serve struct {
	Listen    string            `toml:"listen"`
	KeyEnv    string            `toml:"key_env"`
	KeyFile   string            `toml:"key_file"`
	Origins   []string          `toml:"origins"`   // of other hosts of the application, whose pages may call
	Proxies   []string          `toml:"proxies"`   // networks whose word on where a request came from is taken
	Forwarded string            `toml:"forwarded"` // the one field in which they say it
	After     map[string]string `toml:"after"`     // where a browser goes on, by purpose
	// where /metrics, /healthz and /readyz are served; not for the public
	Metrics string `toml:"metrics"`
}

// A Duration is written as Go writes them: "10m", "1h30m".
type Duration time.Duration

// UnmarshalText implements encoding.TextUnmarshaler.
func (d *Duration) UnmarshalText(text []byte) error {
	v, err := time.ParseDuration(string(text))
	if err != nil || v < 0 {
		return fmt.Errorf("%q is no duration; write it as 45s, 10m or 1h30m", text)
	}
	*d = Duration(v)
	return nil
}

// Keeping is how long something is kept: a duration, or "for ever", which is less than 0.
type Keeping time.Duration

// UnmarshalText implements encoding.TextUnmarshaler.
func (k *Keeping) UnmarshalText(text []byte) error {
	if string(text) == "for ever" {
		*k = -1
		return nil
	}
	v, err := time.ParseDuration(string(text))
	if err != nil || v <= 0 {
		return fmt.Errorf("%q is not how long something is kept; write it as 720h or \"for ever\"", text)
	}
	*k = Keeping(v)
	return nil
}

// KeptSince returns when what ended by then is removed by now, or the zero time if it is kept for ever.
func (f *File) KeptSince(now time.Time) time.Time {
	keep := cmp.Or(time.Duration(f.Outbox.Keep), outbox.KeepByDefault)
	if keep < 0 {
		return time.Time{}
	}
	return now.Add(-keep)
}

// Load reads the file at path and checks everything that needs no database and no network.
func Load(path string) (*File, error) {
	f := &File{path: path}
	if err := decode(path, f, "copy illumicode.example.toml and fill it in, or name another with --config",
		"illumicode.example.toml"); err != nil {
		return nil, err
	}
	return f, f.check()
}

// decode reads a TOML file into v. remedy is what to do where there is none, keys what lists every key.
func decode(path string, v any, remedy, keys string) error {
	meta, err := toml.DecodeFile(path, v)
	var parse toml.ParseError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s: there is no such file; %s", path, remedy)
	case errors.As(err, &parse):
		return fmt.Errorf("%s: line %d: %s", path, parse.Position.Line, parse.Message)
	case err != nil:
		return fmt.Errorf("%s: %w", path, err)
	}
	if unknown := meta.Undecoded(); len(unknown) > 0 {
		return fmt.Errorf("%s: unknown key %q; %s lists every key", path, unknown[0].String(), keys)
	}
	return nil
}

// SiteURL returns the base URL of the site, as the database knows it.
func (f *File) SiteURL() string {
	base, err := flow.CheckBaseURL(f.Site.BaseURL)
	if err != nil {
		panic(err) // Load has checked it
	}
	return base
}

// wrong returns an error about a key of the file.
func (f *File) wrong(key, format string, args ...any) error {
	return fmt.Errorf("%s: %s %w", f.path, key, fmt.Errorf(format, args...))
}

func (f *File) check() error {
	if _, err := flow.CheckBaseURL(f.Site.BaseURL); err != nil {
		return f.wrong("site.base_url", "%s", err)
	}
	for _, required := range []struct{ key, value, remedy string }{
		{"site.name", f.Site.Name, "say who writes, as people know you"},
		{"from.address", f.From.Address, "name the address that your provider accepts as sender"},
		{"store.file", f.Store.File + f.Store.Postgres, "name the SQLite file, or store.postgres"},
	} {
		if required.value == "" {
			return f.wrong(required.key, "is missing; %s", required.remedy)
		}
	}
	if err := errors.Join(f.checkStore(), f.checkKeys()); err != nil {
		return err
	}
	if len(f.Provider) == 0 {
		return f.wrong("provider", "is missing; without a [[provider]] no letter arrives")
	}
	names := make(map[string]bool)
	for i, p := range f.Provider {
		key := fmt.Sprintf("provider[%d]", i)
		switch {
		case p.Name == "":
			return f.wrong(key+".name", "is missing; logs and attempts name providers by it")
		case names[p.Name]:
			return f.wrong(key+".name", "is %q, like another's; names must differ", p.Name)
		case !slices.Contains(kinds, p.Kind):
			return f.wrong(key+".kind", "is %q; say %s", p.Kind, strings.Join(kinds, ", "))
		}
		names[p.Name] = true
	}
	if _, err := f.Terms(); err != nil {
		return err
	}
	if order := route.Order(f.Outbox.Order); order != "" && order != route.Listed && order != route.Weights &&
		order != route.Cost {
		return f.wrong("outbox.order", "is %q; say listed, weights or cost", order)
	}
	if _, err := f.Client(); err != nil {
		return err
	}
	for i, one := range f.Feedback.Complaints {
		if _, err := message.ParseAddress(one); err != nil {
			return f.wrong(fmt.Sprintf("feedback.complaints[%d]", i), "is %w", err)
		}
	}
	_, err := f.Limits()
	return err
}

var kinds = []string{"smtp", "http", "sendmail", "file", "discard"}

// inFolder returns a path that the file gives relative to its own folder.
func (f *File) inFolder(path string) string {
	if path == "" || filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(f.path), path)
}

// secret reads a secret from the environment variable or the file that key_env or key_file name.
// It returns "" if neither is named.
func (f *File) secret(key, env, file string) (provider.Secret, error) {
	switch {
	case env != "" && file != "":
		return "", f.wrong(key+"_env", "and %s_file are both given; choose one", key)
	case env != "":
		v := os.Getenv(env)
		if v == "" {
			return "", f.wrong(key+"_env",
				"names the environment variable %s, which is not set; set it where this program starts", env)
		}
		return provider.Secret(v), nil
	case file != "":
		raw, err := os.ReadFile(f.inFolder(file))
		if err != nil {
			return "", f.wrong(key+"_file", "cannot be read: %v", err)
		}
		v := strings.TrimRight(string(raw), "\r\n")
		if v == "" {
			return "", f.wrong(key+"_file", "names %s, which is empty", file)
		}
		return provider.Secret(v), nil
	}
	return "", nil
}

// APIKey returns the key that applications must show to the JSON interface. It is required.
func (f *File) APIKey() (provider.Secret, error) {
	key, err := f.secret("serve.key", f.Serve.KeyEnv, f.Serve.KeyFile)
	if err != nil {
		return "", err
	}
	if len(key) < 24 {
		return "", f.wrong("serve.key_env",
			"(or serve.key_file) must lead to a key of 24 characters or more: whoever has it can begin signups in "+
				"your name")
	}
	return key, nil
}

// checkStore refuses two databases, and what is said of a server where there is a file.
func (f *File) checkStore() error {
	if f.Store.File == "" {
		return nil
	}
	if f.Store.Postgres != "" {
		return f.wrong("store.file", "and store.postgres are both given; choose one")
	}
	said := f.Store
	said.File = ""
	if said != (Store{}) {
		return f.wrong("store.file",
			"is SQLite; leave out the password, postgres_listen, connections and schema, which are a server's")
	}
	return nil
}
