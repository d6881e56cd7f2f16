package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/illumicode/illumicode/inbox"
	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/core/rehearsal"
)

// start starts the tool as a process, waits for a line of one of its outputs that has the given
// piece, and returns that line. At the test's end the process is interrupted and must exit 0.
func start(t *testing.T, piece string, args ...string) string {
	t.Helper()
	cmd := tool(t, args...)
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stdout, cmd.Stderr = w, w
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	w.Close()
	t.Cleanup(func() { interrupt(t, cmd) })
	lines := bufio.NewReader(r)
	for {
		line, err := lines.ReadString('\n')
		if err != nil {
			t.Fatalf("%v ended before it said %q", args, piece)
		}
		if strings.Contains(line, piece) {
			go io.Copy(io.Discard, lines) // so that it can go on talking
			return line
		}
	}
}

func interrupt(t *testing.T, cmd *exec.Cmd) {
	t.Helper()
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Error(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("%v, interrupted: %v\n%v", cmd.Args, err, cmd.Stderr) // a buffer, where the test has set one
	}
}

// An application in another language signs a passenger up through serve alone.
func TestServe(t *testing.T) {
	p := newPlace(t)
	line := start(t, "msg=serving", "--config", p.config, "serve")
	_, rest, _ := strings.Cut(line, "address=")
	base := "http://" + strings.Fields(rest)[0]
	post := func(path, body string) (int, string) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), "POST", base+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Bearer a key of the application's own")
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, string(b)
	}
	status, body := post("/v1/signup", `{"subject":"17","address":"mara@ternisle.example","name":"Mara","locale":"de"}`)
	var pending struct{ Ticket string }
	if err := json.Unmarshal([]byte(body), &pending); err != nil || status != 201 {
		t.Fatalf("signup: %d %s", status, body)
	}
	letters, err := p.inbox.Wait(t.Context(), "mara@ternisle.example", 1)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(letters[0].Link(), "https://ferry.example/confirm?t=") ||
		!strings.Contains(letters[0].Text, "Guten Tag Mara") {
		t.Errorf("the letter:\n%s", letters[0].Text)
	}
	status, body = post("/v1/proof/code", `{"ticket":"`+pending.Ticket+`","code":"`+letters[0].Code()+`"}`)
	if status != 200 || !strings.Contains(body, `"confirmed":true`) {
		t.Errorf("code: %d %s", status, body)
	}
}

// The capture inbox alone takes a letter that notify sends with the configuration it prints.
func TestInboxAlone(t *testing.T) {
	p := newPlace(t)
	ca := p.file("alone.pem")
	line := start(t, `"smtp"`, "inbox", "--pages", "127.0.0.1:0", "--smtp", "127.0.0.1:0", "--data", p.file("letters"),
		"--certificate", ca, "--json")
	port := strings.Trim(line[strings.LastIndexByte(line, ':')+1:], "\",\n ")
	p.change("port = ", "port = "+port+" # ")
	p.change(`ca_file = "inbox.pem"`, `ca_file = "alone.pem"`)
	p.must("notify", "--to", "mara@ternisle.example")
	files, err := filepath.Glob(p.file("letters/*.eml"))
	if err != nil || len(files) != 1 {
		t.Fatalf("%d letters kept, %v", len(files), err)
	}
	again, err := inbox.New(inbox.Config{Dir: p.file("letters")}) // after a restart it is there
	if err != nil || len(again.Letters("mara@ternisle.example")) != 1 {
		t.Errorf("after a restart: %d letters, %v", len(again.Letters("")), err)
	}
}

// A full demo, with every attempt logged, prints none of the secrets that were in use: no key, no
// password, no code, no token. What it prints fits a narrow terminal and has no colours where there is none.
func TestDemoPrintsNoSecret(t *testing.T) {
	data := t.TempDir()
	var out, errOut bytes.Buffer
	if code := run(t.Context(), []string{"demo", "--script", "--verbose", "--data", data}, &out,
		&errOut); code != exitDone {
		t.Fatalf("exit %d\n%s", code, errOut.String())
	}
	text := out.String()
	for _, want := range []string{"15 of 15 passengers confirmed and signed in", "451 4.7.1",
		"put off and repeated, 0 ambiguous", "harbour falls over", "harbour: circuit open (transient)",
		"Dieser Link ist abgelaufen", "Already confirmed"} {
		if !strings.Contains(text, want) {
			t.Errorf("the script does not say %q", want)
		}
	}
	for line := range strings.SplitSeq(text, "\n") {
		if n := len([]rune(line)); n > 100 || strings.Contains(line, "\x1b") {
			t.Errorf("a line of %d columns, or with colours though this is no terminal: %q", n, line)
		}
	}
	printed := text + errOut.String()
	if strings.Count(printed, "msg=attempt") < 14 {
		t.Fatalf("the attempts are not logged:\n%s", errOut.String())
	}
	in, err := inbox.New(inbox.Config{Dir: filepath.Join(data, "inbox")})
	if err != nil {
		t.Fatal(err)
	}
	ring, err := os.ReadFile(filepath.Join(data, "keyring.json"))
	if err != nil {
		t.Fatal(err)
	}
	var set struct{ Keys []struct{ K string } }
	if err := json.Unmarshal(ring, &set); err != nil {
		t.Fatal(err)
	}
	secrets := []string{"low tide at nine", set.Keys[0].K}
	for _, l := range in.Letters("") {
		// also those that take something back
		for _, link := range regexp.MustCompile(`\?t=(\S+)`).FindAllStringSubmatch(l.Text, -1) {
			secrets = append(secrets, link[1])
		}
		if code := l.Code(); code != "" {
			secrets = append(secrets, code)
			// not within an id, where six digits are no code
			plain := strings.ReplaceAll(code, " ", "")
			if regexp.MustCompile(`(^|[^0-9A-Za-z])` + plain + `($|[^0-9A-Za-z])`).MatchString(printed) {
				t.Errorf("the demo prints the code %s", plain)
			}
		}
	}
	if len(secrets) < 50 {
		t.Fatalf("only %d secrets found to look for", len(secrets))
	}
	for _, s := range secrets {
		if s == "" || strings.Contains(printed, s) {
			t.Errorf("the demo prints the secret %q", s)
		}
	}
}

// The script and the storm, for programs: everybody is signed in, every notice is sent while people register,
// the summary counts both, and says who carried what while a provider was down. --data keeps everything.
func TestDemoStorm(t *testing.T) {
	data := t.TempDir()
	var out, errOut bytes.Buffer
	if code := run(t.Context(), []string{"--json", "demo", "--script", "--storm=400", "--data", data}, &out,
		&errOut); code != exitDone {
		t.Fatalf("exit %d\n%s%s", code, out.String(), errOut.String())
	}
	var end struct{ Notices, Sent, Codes int }
	carried := make(map[string]int)
	for dec := json.NewDecoder(&out); dec.More(); {
		var o struct {
			Notices, Sent, Codes, Letters, Arrived int
			SignedIn                               int `json:"signed_in"`
			Provider                               string
		}
		if err := dec.Decode(&o); err != nil {
			t.Fatal(err)
		}
		if o.SignedIn > 0 && (o.SignedIn != 15 || o.Sent != 27 || o.Arrived != 27) {
			t.Errorf("the script came to %+v", o)
		}
		if o.Codes > 0 {
			end.Notices, end.Sent, end.Codes = o.Notices, o.Sent, o.Codes
		}
		if o.Provider != "" { // the last word is the storm's
			carried[o.Provider] = o.Letters
		}
	}
	if end.Notices != 400 || end.Sent != 400 || end.Codes == 0 {
		t.Errorf("the storm came to %+v", end)
	}
	if carried["beacon"]+carried["foghorn"] != 400 || carried["harbour"]+carried["pier"] != end.Codes {
		t.Errorf("the providers carried %v, of 400 notices and %d codes", carried, end.Codes)
	}
	for _, name := range []string{"ferry.db", "keyring.json", "inbox/000001.eml"} {
		if _, err := os.Stat(filepath.Join(data, name)); err != nil {
			t.Errorf("--data keeps no %s: %v", name, err)
		}
	}
	// The scenario of the same storm says the same of who carries what.
	s, err := config.LoadScenario(storm)
	if err != nil {
		t.Fatal(err)
	}
	s.Notices[0].Count = 400
	played, err := rehearsal.Run(s, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range played.Providers {
		if notices := p.Name == "beacon" || p.Name == "foghorn"; notices && p.Letters != carried[p.Name] ||
			(p.Letters > 0) != (carried[p.Name] > 0) {
			t.Errorf("%s carried %d letters in the demo, and %d in the rehearsal", p.Name, carried[p.Name], p.Letters)
		}
	}
}
