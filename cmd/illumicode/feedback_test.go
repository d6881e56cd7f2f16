package main

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/standin"
	"github.com/illumicode/illumicode/token"
)

// A provider tells `serve` by webhook what came back; the operator sees it, and what follows from it.
// Unsigned, or signed with another key, it is refused.
func TestFeedbackVerbs(t *testing.T) {
	p := newPlace(t)
	const key = "a key that both sides know"
	t.Setenv("HARBOUR_HOOK_KEY", key)
	pier := standin.New(1, standin.Temper{})
	server := httptest.NewServer(pier.Handler())
	defer server.Close()
	p.add(`
[[provider]]
name = "pier"
kind = "http"
url = "` + server.URL + `/mail"
body = '{"from": {{json .From}}, "to": {{json .To}}, "subject": {{json .Subject}}, "text": {{json .Text}}}'
message_id = "/letter/id"
only = ["skerry.example"]
[feedback]
return_path = "bounces.ternisle.example"
[[feedback.webhook]]
provider = "pier"
key_env = "HARBOUR_HOOK_KEY"
signature = "X-Standin-Signature"
prefix = "sha256="
timestamp = "X-Standin-Time"
letter = "/id"
kind = "/event"
kinds = { delivered = "delivered", returned = "bounce", complaint = "complaint" }
status = "/status"
text = "/text"
`)
	p.change(`ca_file = "inbox.pem"`, `ca_file = "inbox.pem"
never = ["skerry.example"]`)
	line := start(t, "msg=serving", "--config", p.config, "serve")
	_, rest, _ := strings.Cut(line, "address=")
	hook := "http://" + strings.Fields(rest)[0] + "/feedback/pier"
	for name, header := range map[string]string{"unsigned": "", "another key": "sha256=" + strings.Repeat("00", 32)} {
		req, err := http.NewRequest("POST", hook, strings.NewReader(`{"id": "stand-in-000001", "event": "complaint"}`))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("X-Standin-Time", fmt.Sprint(time.Now().Unix()))
		req.Header.Set("X-Standin-Signature", header)
		resp, err := http.DefaultClient.Do(req)
		if err != nil || resp.StatusCode != http.StatusUnauthorized {
			t.Errorf("%s: %v, %v", name, resp, err)
		}
	}
	pier.SetTemper(standin.Temper{Webhook: hook, WebhookKey: key, Return: 1})
	p.must("notify", "--to", "ole@skerry.example")
	wait := func(piece string, args ...string) (out string) {
		t.Helper()
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
			if out = p.must(args...); strings.Contains(out, piece) {
				return out
			}
		}
		t.Fatalf("%v does not say %q:\n%s", args, piece, out)
		return ""
	}
	wait("the address has bounced", "feedback", "list", "--state", "applied")
	out := p.must("address", "show", "ole@skerry.example")
	if !strings.Contains(out, "SUPPRESSED (it bounced") ||
		!strings.Contains(out, "hard bounce, told by pier: 5.1.1 550 5.1.1 nobody of that name") {
		t.Errorf("address show:\n%s", out)
	}
	if out, _, code := p.do("notify", "--to", "ole@skerry.example"); code != exitFailed ||
		!strings.Contains(out, "suppressed") {
		t.Errorf("a second notice: exit %d\n%s", code, out)
	}

	// A report that lies in a file.
	out = p.must("notify", "--to", "ines@ternisle.example", "--json")
	_, id, _ := strings.Cut(out, `"id": "`)
	id = id[:36]
	raw, err := os.ReadFile(p.file("keyring.json"))
	if err != nil {
		t.Fatal(err)
	}
	ring, err := token.Parse(raw)
	if err != nil {
		t.Fatal(err)
	}
	p.write("report.eml", "To: <"+keyring.Of(ring).Active().ReturnPath(id)+`@bounces.ternisle.example>
Content-Type: multipart/report; boundary=b

--b
Content-Type: message/delivery-status

Reporting-MTA: dns; mx

Action: failed
Status: 5.2.2
Diagnostic-Code: smtp; 552 5.2.2 full
--b--
`)
	if out := p.must("feedback", "read", p.file("report.eml")); !strings.Contains(out,
		"soft bounce 5.2.2 552 5.2.2 full") {
		t.Errorf("feedback read:\n%s", out)
	}
	wait("outcome       soft bounce", "outbox", "show", id)
	p.write("forged.eml", "To: someone@bounces.ternisle.example\nSubject: hello\n\nhello\n")
	out, errOut, code := p.do("feedback", "read", p.file("forged.eml"), p.file("missing.eml"))
	if code != exitFailed || strings.Count(out, "NOT TAKEN") != 2 ||
		!strings.Contains(errOut, "2 of 2 were not taken") {
		t.Errorf("exit %d\n%s%s", code, out, errOut)
	}
	if _, errOut, code := p.do("feedback", "list", "--state", "lost"); code != exitMisused ||
		!strings.Contains(errOut, "waiting, applied or aside") {
		t.Errorf("exit %d: %s", code, errOut)
	}
}
