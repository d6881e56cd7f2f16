package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/token"
)

// keyList is what `keys list --json` prints.
type keyList struct {
	Keys []struct {
		Kid, Use, Status  string
		Known, Challenges int
	}
	Processes     []processJSON
	Disagreements []string
}

func (p *place) keys() (l keyList) {
	p.t.Helper()
	if err := json.Unmarshal([]byte(p.must("keys", "list", "--json")), &l); err != nil {
		p.t.Fatal(err)
	}
	return l
}

// until waits for a list of keys.
func (p *place) until(what string, is func(keyList) bool) (l keyList) {
	p.t.Helper()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if l = p.keys(); is(l) {
			return l
		}
		if time.Now().After(end) {
			p.t.Fatalf("%s: %+v", what, l)
		}
	}
}

// A planned rotation breaks nothing; a key that something depends on is not retired but in an emergency, which says
// what it breaks.
func TestKeysVerbs(t *testing.T) {
	p := newPlace(t)
	p.with(func(svc *illumicode.Service) {
		if _, err := svc.Signup(t.Context(), illumicode.Request{Address: "mara@ternisle.example"},
			illumicode.Subject("1")); err != nil {
			t.Fatal(err)
		}
	})
	l := p.keys()
	old := l.Keys[0].Kid
	if len(l.Keys) != 3 || l.Keys[0].Challenges != 1 || l.Keys[0].Status != "active" || len(l.Processes) != 0 {
		t.Fatalf("%+v", l)
	}
	if _, errOut, code := p.do("keys", "retire", old); code != exitFailed || !strings.Contains(errOut,
		"rotate and activate") {
		t.Errorf("retiring the active key: exit %d, %s", code, errOut)
	}
	for _, use := range []string{"link", "receipt", "index"} {
		out := p.must("keys", "rotate", "--use", use)
		_, kid, _ := strings.Cut(strings.TrimSpace(out), "keys activate ")
		kid, _, _ = strings.Cut(kid, "`")
		if l = p.keys(); use == "link" && l.Keys[0].Kid != old || !strings.Contains(out, "signs nothing yet") {
			t.Errorf("an added key signs: %s\n%+v", out, l)
		}
		if out = p.must("keys", "activate", kid); strings.Contains(out, "verifies until") == (use == "index") ||
			!strings.Contains(out, "0 of 0 processes know it") {
			t.Errorf("%s is activated: %s", use, out)
		}
		if _, errOut, code := p.do("keys", "activate", kid); code != exitFailed || !strings.Contains(errOut,
			"active already") {
			t.Errorf("twice: exit %d, %s", code, errOut)
		}
	}
	p.must("keys", "rekey")
	l = p.keys()
	if len(l.Keys) != 6 || l.Keys[0].Kid == old || l.Keys[1].Kid != old || l.Keys[1].Status != "verify" {
		t.Errorf("after the rotations: %+v", l)
	}
	var set struct{ Keys []map[string]string }
	if err := json.Unmarshal([]byte(p.must("keys", "jwks")), &set); err != nil || len(set.Keys) != 2 ||
		set.Keys[0]["d"] != "" {
		t.Errorf("jwks: %+v, %v", set, err)
	}
	if _, errOut, code := p.do("keys", "retire", old); code != exitFailed ||
		!strings.Contains(errOut, "1 open challenges") {
		t.Errorf("retiring a key in use: exit %d, %s", code, errOut)
	}
	for _, verb := range []string{"retire", "activate"} {
		if _, errOut, code := p.do("keys", verb, "2020-01-01-beef"); code != exitFailed ||
			!strings.Contains(errOut, "2020-01-01-beef") {
			t.Errorf("%s, mistyped: exit %d, %s", verb, code, errOut)
		}
	}
	if out := p.must("keys", "retire", old, "--emergency"); !strings.Contains(out, "BROKEN by it: 1 open challenges") {
		t.Errorf("in an emergency: %s", out)
	}
	if _, errOut, code := p.do("keys", "activate", old, "--overlap", "1m"); code != exitMisused {
		t.Errorf("an overlap of a minute: exit %d, %s", code, errOut)
	}
	if info, err := os.Stat(p.file("keyring.json")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("others can read the keyring, or %v", err)
	}
}

// The first key for receipts signs at once, and that is said.
func TestFirstReceiptKey(t *testing.T) {
	p := newPlace(t)
	p.write("keyring.json", string(token.Generate(time.Now()).Marshal()))
	if out := p.must("keys", "rotate", "--use", "receipt"); !strings.Contains(out, "signs at once") ||
		strings.Contains(out, "signs nothing") {
		t.Error(out)
	}
}

// A machine is a worker with a keyring file of its own.
type machine struct {
	*exec.Cmd
	keyring string
	said    *bytes.Buffer
}

// machine starts a worker; the first has the keyring of the place's configuration.
func (p *place) machine(n int) *machine {
	p.t.Helper()
	m := &machine{keyring: "keyring.json", said: new(bytes.Buffer)}
	name := p.config
	if n > 0 {
		m.keyring = fmt.Sprintf("keyring-%d.json", n)
		p.copy("keyring.json", m.keyring)
		raw, err := os.ReadFile(p.config)
		if err != nil {
			p.t.Fatal(err)
		}
		p.write(fmt.Sprintf("machine-%d.toml", n), strings.Replace(string(raw), `"keyring.json"`, fmt.Sprintf("%q",
			m.keyring), 1))
		name = p.file(fmt.Sprintf("machine-%d.toml", n))
	}
	m.Cmd = tool(p.t, "deliver", "--config", name)
	m.Stderr = m.said
	if err := m.Start(); err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { m.Process.Kill(); m.Wait() })
	return m
}

func (p *place) copy(from, to string) {
	p.t.Helper()
	raw, err := os.ReadFile(p.file(from))
	if err != nil {
		p.t.Fatal(err)
	}
	p.write("copy.tmp", string(raw))
	if err := os.Rename(p.file("copy.tmp"), p.file(to)); err != nil {
		p.t.Fatal(err)
	}
}

// Three machines get a new key one after the other. It signs only once all know it, and meanwhile no letter fails; a
// keyring that another machine does not have is told of.
func TestRotationOnThreeMachines(t *testing.T) {
	onBoth(t, func(t *testing.T, p *place) {
		var all []*machine
		for n := range 3 {
			all = append(all, p.machine(n))
		}
		l := p.until("three appear", func(l keyList) bool { return len(l.Processes) == 3 })
		old := l.Keys[0].Kid
		if l.Processes[0].Host == "" || l.Processes[0].PID == 0 || l.Keys[0].Known != 3 {
			t.Errorf("%+v", l)
		}
		p.must("keys", "rotate")
		l = p.until("the first knows it", func(l keyList) bool { return l.Keys[1].Known == 1 })
		kid := l.Keys[1].Kid
		_, errOut, code := p.do("keys", "activate", kid)
		if code != exitFailed || !strings.Contains(errOut, "2 of 3 processes do not know "+kid) ||
			!strings.Contains(errOut, fmt.Sprintf("(pid %d), seen", all[1].Process.Pid)) ||
			strings.Contains(errOut, fmt.Sprintf("(pid %d)", all[0].Process.Pid)) {
			t.Errorf("while two do not know it: exit %d\n%s", code, errOut)
		}
		if p.keys().Keys[0].Kid != old {
			t.Error("it signs although it was refused")
		}
		for i, m := range all[1:] {
			p.copy("keyring.json", m.keyring)
			p.until("the next knows it", func(l keyList) bool { return l.Keys[1].Known == i+2 })
		}
		if out := p.must("keys", "activate", kid); !strings.Contains(out, "3 of 3 processes know it") {
			t.Error(out)
		}
		p.fill(60) // unsubscribe links and envelopes are signed by whoever sends
		p.until("the first signs with it", func(l keyList) bool {
			signs := 0
			for _, one := range l.Processes {
				if one.Signs[0] == kid {
					signs++
				}
			}
			return signs == 1 && len(l.Disagreements) == 0
		})
		for end := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			if counts, _ := p.summary(); counts["sent"] == 60 {
				break
			} else if time.Now().After(end) || counts["failed"] > 0 {
				t.Fatalf("%v", counts)
			}
		}

		if _, errOut, code := p.do("keys", "retire", old); code != exitFailed || !strings.Contains(errOut,
			"these sign with "+old) ||
			!strings.Contains(errOut, fmt.Sprintf("(pid %d)", all[1].Process.Pid)) {
			t.Errorf("retiring what two machines sign with: exit %d\n%s", code, errOut)
		}
		p.must("keys", "new", "--out", p.file("stray.json"))
		p.copy("stray.json", all[2].keyring)
		l = p.until("a stray keyring is told of", func(l keyList) bool { return len(l.Disagreements) > 0 })
		if out := p.must("keys", "list"); !strings.Contains(out, "THE KEYRINGS DIFFER: ") {
			t.Error(out)
		}
		if out, _, code := p.do("check", "database"); code != exitFailed || !strings.Contains(out, "does not know") {
			t.Errorf("check: exit %d\n%s", code, out)
		}
		all[2].Process.Kill() // counts for a day
		all[2].Wait()
		for _, m := range all[:2] {
			if err := m.Process.Signal(syscall.SIGTERM); err != nil {
				t.Fatal(err)
			}
			if err := m.Wait(); err != nil {
				t.Errorf("%v\n%s", err, m.said)
			}
		}
		if l = p.keys(); len(l.Processes) != 1 || l.Processes[0].PID != all[2].Process.Pid {
			t.Errorf("after two clean ends and a kill: %+v", l.Processes)
		}
		p.must("keys", "rotate")
		next := p.keys().Keys
		kid = next[len(next)-4].Kid // the last for links: it was added
		if _, errOut, code := p.do("keys", "activate", kid); code != exitFailed || !strings.Contains(errOut, "1 of 1") {
			t.Errorf("one that died counts for a day: exit %d\n%s", code, errOut)
		}
		if out := p.must("keys", "activate", kid, "--now"); !strings.Contains(out, "0 of 1 processes know it") {
			t.Error(out)
		}
	})
}

// A keyring in an environment variable is read from there, and its new value goes to a file.
func TestKeyringInEnvironment(t *testing.T) {
	p := newPlace(t)
	raw, err := os.ReadFile(p.file("keyring.json"))
	if err != nil {
		t.Fatal(err)
	}
	p.change(`file = "keyring.json"`, `env = "FERRY_KEYRING"`)
	if _, errOut, code := p.do("keys", "list"); code != exitFailed || !strings.Contains(errOut,
		"FERRY_KEYRING is empty") {
		t.Errorf("an empty variable: exit %d, %s", code, errOut)
	}
	t.Setenv("FERRY_KEYRING", string(raw))
	p.must("deliver", "--until-empty")
	if _, errOut, code := p.do("keys", "rotate"); code != exitMisused || !strings.Contains(errOut, "--out") {
		t.Errorf("rotate without a file: exit %d, %s", code, errOut)
	}
	if out := p.must("keys", "rotate", "--out", p.file("new.json")); !strings.Contains(out, "delete the file") {
		t.Error(out)
	}
	if raw, err = os.ReadFile(p.file("new.json")); err != nil {
		t.Fatal(err)
	}
	t.Setenv("FERRY_KEYRING", string(raw))
	l := p.keys()
	if len(l.Keys) != 4 || l.Keys[1].Status != "verify" {
		t.Errorf("%+v", l)
	}
	if out := p.must("keys", "list"); !strings.Contains(out, l.Keys[1].Kid+" signs nothing, and has no end") {
		t.Error(out)
	}
	p.must("keys", "activate", l.Keys[1].Kid, "--out", p.file("new.json"))
	p.change(`env = "FERRY_KEYRING"`, "file = \"keyring.json\"\nenv = \"FERRY_KEYRING\"")
	if _, errOut, code := p.do("keys", "list"); code != exitFailed || !strings.Contains(errOut, "both given") {
		t.Errorf("in two places: exit %d, %s", code, errOut)
	}
}
