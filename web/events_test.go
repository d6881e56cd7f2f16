package web_test

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/events"
)

// Events over HTTP: with the key, whole or not at all, and with the reason.
func TestEventsOverHTTP(t *testing.T) {
	s := newSite(t, func(c *illumicode.Config) {
		c.Events = []illumicode.EventRule{{Type: "ferry.tried", Letter: "trial", To: "/who"}}
	})
	inLines := `{"specversion":"1.0","source":"/quay","id":"9","type":"ferry.tried"}` + "\n\"mara@ternisle.example\"\n"
	good := `{"specversion":"1.0","source":"/quay","id":"%s","type":"ferry.tried",` +
		`"data":{"who":"mara@ternisle.example"}}`
	for _, tt := range []struct {
		kind, body, key string
		status          int
		want            string
	}{
		{events.Single, strings.ReplaceAll(good, "%s", "1"), "", 401, "key"},
		{events.Single, strings.ReplaceAll(good, "%s", "1"), apiKey, 202, `"taken":1`},
		{events.Single, strings.ReplaceAll(good, "%s", "1"), apiKey, 202, `"taken":1`}, // no second effect
		{events.Single, strings.Replace(strings.ReplaceAll(good, "%s", "1"), "mara", "jens", 1), apiKey, 409,
			"something else"},
		{events.Batch, "[" + strings.ReplaceAll(good, "%s", "2") + "," +
			strings.Replace(strings.ReplaceAll(good, "%s", "3"), "mara@", "", 1) + "]", apiKey, 422, "event 2 of 2"},
		{"application/json", strings.ReplaceAll(good, "%s", "4"), apiKey, 422, "content type"},
		{events.Single, "{", apiKey, 422, "JSON object"},
		{events.JSONLines, inLines, apiKey, 422, `without its last line {\"end\": 1}`},
		{events.JSONLines, inLines + `{"end": 1}`, "", 401, "key"},
		{events.JSONLines, inLines + `{"end": 1}`, apiKey, 202, `"recipients":1`},
		{events.JSONLines, inLines + "\"jens@ternisle.example\"\n" + `{"end": 2}`, apiKey, 409, "something else"},
	} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, s.server.URL+"/v1/events",
			strings.NewReader(tt.body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", tt.kind)
		if tt.key != "" {
			req.Header.Set("Authorization", "Bearer "+tt.key)
		}
		r, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(r.Body)
		r.Body.Close()
		if r.StatusCode != tt.status || !strings.Contains(string(body), tt.want) {
			t.Errorf("%s: %d %s, want %d with %q", tt.body, r.StatusCode, body, tt.status, tt.want)
		}
	}
	s.Letter(mara, 2)
	if n := len(s.Inbox.Letters("")); n != 2 {
		t.Errorf("%d letters for two good events", n)
	}
}
