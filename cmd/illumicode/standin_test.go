package main

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
)

// A provider that is a page of configuration carries a letter and an SMS to the stand-ins, and the
// operator sees the provider's own id of each.
func TestHTTPProviderAgainstStandin(t *testing.T) {
	p := newPlace(t)
	line := start(t, `"mail"`, "standin", "--http", "127.0.0.1:0", "--smtp", "127.0.0.1:0", "--json")
	base := strings.TrimSuffix(strings.Trim(strings.SplitN(line, ":", 2)[1], "\", \n"), "/mail")
	t.Setenv("PIER_KEY", "sea gull at noon")
	p.change("[[provider]]", `[[provider]]
name = "pier"
kind = "http"
url = "`+base+`/mail"
bearer_env = "PIER_KEY"
idempotency_header = "Idempotency-Key"
message_id = "/letter/id"
body = """{"from": {{json .From}}, "to": {{json .To}}, "subject": {{json .Subject}}, "text": {{json .Text}}}"""
[[provider]]
name = "gull"
kind = "http"
sms = true
form = true
url = "`+base+`/sms"
message_id = "/sms/0/id"
body = """
to={{.To}}
text={{.SMS}}
"""
[[provider]]`)
	p.must("notify", "--to", "mara@ternisle.example")
	if _, errOut, code := p.do("notify", "--to", "+4790012345"); code != exitFailed ||
		!strings.Contains(errOut, "sms part") {
		t.Errorf("a letter without sms part: exit %d, %s", code, errOut)
	}
	if _, errOut, code := p.do("notify", "--to", "+47 9"); code != exitFailed ||
		!strings.Contains(errOut, "country code") {
		t.Errorf("a number that cannot be: exit %d, %s", code, errOut)
	}
	resp, err := http.Get(base + "/letters")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	var got []struct{ ID, To, Subject string }
	if err := json.Unmarshal(raw, &got); err != nil || len(got) != 1 || got[0].To != "mara@ternisle.example" {
		t.Fatalf("the stand-in has %s, %v", raw, err)
	}
	out := p.must("outbox", "list", "--json")
	var list struct{ Deliveries []struct{ ID string } }
	if err := json.Unmarshal([]byte(out), &list); err != nil {
		t.Fatal(err)
	}
	if show := p.must("outbox", "show", list.Deliveries[0].ID); !strings.Contains(show, "through pier") ||
		!strings.Contains(show, got[0].ID) {
		t.Errorf("outbox show:\n%s", show)
	}
}
