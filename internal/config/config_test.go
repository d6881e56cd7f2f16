package config_test

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/dkim"
	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/token"
)

const minimal = `
[site]
base_url = "https://ferry.example"
name = "Tern Isle Ferry"
[from]
address = "crew@ternisle.example"
[store]
file = "x.db"
[keys]
file = "keyring.json"
[[provider]]
name = "harbour"
kind = "smtp"
host = "smtp.harbour.example"
tls = "starttls"
`

// write writes a configuration and a keyring into a folder and returns the configuration's path.
func write(t *testing.T, text string) string {
	t.Helper()
	dir := t.TempDir()
	ring := token.Generate(time.Now())
	_, private, err := dkim.GenerateKey("ternisle.example", "pier")
	if err != nil {
		t.Fatal(err)
	}
	for name, body := range map[string]string{
		"dkim.pem":        string(private),
		"illumicode.toml": text, "keyring.json": string(ring.Marshal()), "empty": "",
		"open.json": string(ring.Marshal())} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(body), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(filepath.Join(dir, "open.json"), 0o644); err != nil {
		t.Fatal(err)
	}
	return filepath.Join(dir, "illumicode.toml")
}

func open(t *testing.T, path string) error {
	t.Helper()
	f, err := config.Load(path)
	if err != nil {
		return err
	}
	_, closeAll, err := f.Open(context.Background(), slog.New(slog.DiscardHandler), nil)
	if err == nil {
		closeAll()
	}
	return err
}

// Each mistake is refused at start with the file, the key or line, and the remedy.
func TestRefusals(t *testing.T) {
	swap := func(old, new string) string { return strings.Replace(minimal, old, new, 1) }
	for _, tt := range []struct{ name, text, want string }{
		{"unknown key", minimal + "\n[outbox]\nsendrs = 3\n", `unknown key "outbox.sendrs"`},
		{"not TOML", swap(`name = "Tern Isle Ferry"`, `name = Tern`), "line 4"},
		{"bad duration", minimal + "\n[outbox]\nlease = \"soon\"\n", `"soon" is no duration`},
		{"no base URL", swap(`base_url = "https://ferry.example"`, ""),
			"site.base_url is missing; say where the site is"},
		{"relative base URL", swap("https://ferry.example", "/ferry"), "site.base_url is not absolute"},
		{"base URL in the clear", swap("https://", "http://"), "use https"},
		{"no name", swap(`name = "Tern Isle Ferry"`, ""), "site.name is missing"},
		{"bad sender", swap("crew@ternisle.example", "crew"), "from.address is not a usable address"},
		{"no provider", minimal[:strings.Index(minimal, "[[provider]]")], "[[provider]]"},
		{"unknown kind", swap(`kind = "smtp"`, `kind = "pigeon"`), `provider[0].kind is "pigeon"; say smtp, http`},
		{"HTTP without JSON",
			swap(`kind = "smtp"`, "kind = \"http\"\nurl = \"https://x.example/\"\nbody = \"{{.To}}\""),
			"does not make JSON"},
		{"a sender that is not verified", swap(`tls = `, "senders = [\"gullquay.example\"]\ntls = "),
			`provider "harbour" has not verified`},
		{"a file provider without path", swap(`kind = "smtp"`, `kind = "file"`), "provider[0].path is missing"},
		{"a free-mail sender", swap("crew@ternisle.example", "ternisle@gmail.com"), "where anybody gets a mailbox"},
		{"a public suffix for a sender", swap("crew@ternisle.example", "crew@co.uk"), "public suffix"},
		{"an outcome of HTTP for SMTP",
			swap(`tls = `, "outcome = [{status = \"429\", class = \"throttled\"}]\ntls = "),
			"provider[0].outcome[0] has status, pointer or equals"},
		{"an outcome that fits nothing",
			swap(`tls = `, "outcome = [{code = \"4xx\", enhanced = \"5.1.1\", class = \"throttled\"}]\ntls = "),
			"outcome 1: it never fits"},
		{"an outcome of discard", swap(`kind = "smtp"`, "kind = \"discard\"\noutcome = [{class = \"throttled\"}]"),
			"provider[0].outcome has no effect"},
		{"unknown tls", swap(`tls = "starttls"`, `tls = "maybe"`), `say "starttls", "implicit" or "none"`},
		{"no tls", swap(`tls = "starttls"`, ""), `say "starttls", "implicit" or "none"`},
		{"secret not set", swap(`tls = `, "user = \"crew\"\npassword_env = \"NO_SUCH_VARIABLE_HERE\"\ntls = "),
			"names the environment variable NO_SUCH_VARIABLE_HERE, which is not set"},
		{"secret file empty", swap(`tls = `, "user = \"crew\"\npassword_file = \"empty\"\ntls = "), "which is empty"},
		{"secret file missing", swap(`tls = `, "user = \"crew\"\npassword_file = \"gone\"\ntls = "),
			"password_file cannot be read"},
		{"two secrets", swap(`tls = `, "user = \"crew\"\npassword_file = \"empty\"\npassword_env = \"X\"\ntls = "),
			"choose one"},
		{"a file in a schema", swap("file = \"x.db\"", "file = \"x.db\"\nschema = \"own\""), "which are a server's"},
		{"no keyring", swap("keyring.json", "gone.json"), "illumicode keys new --out gone.json"},
		{"keyring open to all", swap("keyring.json", "open.json"), "chmod 600"},
		{"keyring is something else", swap("keyring.json", "illumicode.toml"), "not a JWK Set"},
		{"tables missing", minimal, "run `illumicode migrate`"},
		{"contradictory caps", swap(`tls = `, "per_day = 500\nper_month = 300\ntls = "),
			"provider[0] (harbour) cannot be: the cap by day (500) is above the one by month (300)"},
		{"a cap in an unknown zone", swap(`tls = `, "per_day = 5\nzone = \"Mars/Base\"\ntls = "),
			`zone "Mars/Base" is no time zone`},
		{"all of a cap reserved", swap(`tls = `, "per_day = 5\nreserve = 1.0\ntls = "),
			"leaves nothing to other lanes"},
		{"unknown order", minimal + "\n[outbox]\norder = \"fastest\"\n", "say listed, weights or cost"},
		{"a rule on an unknown purpose",
			minimal + "\n[[limit]]\nname = \"x\"\nby = \"all\"\nrate = \"1 per hour\"\non = [\"sginup\"]\n",
			`is on "sginup", which is no purpose`},
		{"a field of proxies without proxies", minimal + "\n[serve]\nforwarded = \"X-Forwarded-For\"\n",
			"list the networks of your proxies"},
		{"a proxy that is no network", minimal + "\n[serve]\nproxies = [\"the usual\"]\n",
			"which is no network such as 10.0.0.0/8"},
		{"proxies without a field", minimal + "\n[serve]\nproxies = [\"10.0.0.0/8\"]\n", "name the one that yours set"},
		{"bad policy", minimal + "\n[signup]\ntries = 99\n", "Tries lies between 1 and 20"},
	} {
		path := write(t, tt.text)
		err := open(t, path)
		if err == nil || !strings.Contains(err.Error(), tt.want) || !strings.HasPrefix(err.Error(), path) {
			t.Errorf("%s: %v\n  want it to begin with the file and to say %q", tt.name, err, tt.want)
		}
	}
	if err := open(t, filepath.Join(t.TempDir(), "gone.toml")); err == nil ||
		!strings.Contains(err.Error(), "copy illumicode.example.toml") {
		t.Errorf("no file: %v", err)
	}
}

// The example file is complete and valid: with its secrets set, only the database is missing.
// What it shows commented out can be uncommented.
func TestExampleFile(t *testing.T) {
	raw, err := os.ReadFile("../../illumicode.example.toml")
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("HARBOUR_PASSWORD", "sea gull")
	t.Setenv("ILLUMICODE_API_KEY", "a key of the application's own")
	var all []string
	for line := range strings.SplitSeq(string(raw), "\n") {
		rest, found := strings.CutPrefix(line, "# ")
		if found && !strings.HasPrefix(rest, "  ") &&
			(strings.Contains(rest, " = ") && !strings.Contains(rest, "illumicode.toml and") &&
				!strings.Contains(rest, "kind = \"sendmail\"") && !strings.Contains(rest, "(path") ||
				strings.HasPrefix(rest, "[")) {
			line = rest
		}
		all = append(all, line)
	}
	for name, text := range map[string]string{"as it is": string(raw), "with every key": strings.Join(all, "\n")} {
		path := write(t, text)
		if err := os.WriteFile(filepath.Join(filepath.Dir(path), "refused.txt"),
			[]byte("throwaway.example # mailboxes of an hour\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		f, err := config.Load(path)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if _, err := f.APIKey(); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if err := open(t, path); err == nil || !strings.Contains(err.Error(), "illumicode migrate") {
			t.Errorf("%s: %v, want only the tables to be missing", name, err)
		}
	}
	env, err := os.ReadFile("../../.env.example")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"HARBOUR_PASSWORD", "ILLUMICODE_API_KEY"} {
		if !strings.Contains(string(env), "\n"+name+"=\n") {
			t.Errorf(".env.example lacks %s, or has a value for it", name)
		}
	}
}
