package web_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/illumicode/illumicode/feedback"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/web"
)

// A webhook takes all of a signed body or nothing, tells what was wrong, and takes a repeat for one. While
// the database is away it says so, for the provider to come again.
func TestWebhook(t *testing.T) {
	k := illumicodetest.Idle(t)
	key := []byte("a key that both sides know")
	hook := web.Webhook{Signature: feedback.Signature{Key: key, Header: "X-Sign", Base64: true},
		Mapping: feedback.Mapping{ID: "/n", Letter: "/id", Kind: "/event",
			Kinds: map[string]string{"back": report.Bounce, "there": report.Delivered}}}
	hooks, err := web.NewWebhooks(k.Service, map[string]web.Webhook{"pier": hook})
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(hooks)
	defer server.Close()
	post := func(path, body string, signed bool) (int, string) {
		t.Helper()
		req, err := http.NewRequest("POST", server.URL+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		if signed {
			h := hmac.New(sha256.New, key)
			io.WriteString(h, body)
			req.Header.Set("X-Sign", base64.StdEncoding.EncodeToString(h.Sum(nil)))
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		answer, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, string(answer)
	}
	two := `[{"n": "2", "id": "pier-1", "event": "back"}, {"n": "1", "id": "pier-1", "event": "there"}]`
	for _, tt := range []struct {
		name, path, body string
		signed           bool
		status           int
		says             string
	}{
		{"unsigned", "/feedback/pier", two, false, 401, "urn:illumicode:problem:signature"},
		{"of nobody", "/feedback/harbour", two, true, 404, ""},
		{"half of it cannot be read", "/feedback/pier",
			`[{"n": "1", "id": "pier-1", "event": "back"}, {"event": "back"}]`, true, 422, "event 2 of 2 has no id"},
		{"no JSON", "/feedback/pier", `back`, true, 422, "no JSON"},
		{"too long", "/feedback/pier", strings.Repeat(" ", 5<<20), true, 413, "4 MiB"},
		{"two", "/feedback/pier", two, true, 202, `"new":2`},
		{"the same again", "/feedback/pier", two, true, 202, `"new":0`},
	} {
		if status, answer := post(tt.path, tt.body, tt.signed); status != tt.status ||
			!strings.Contains(answer, tt.says) {
			t.Errorf("%s: %d %s; want %d, %q", tt.name, status, answer, tt.status, tt.says)
		}
	}
	waiting, err := flow.Of(k.Service).Store.FeedbackIn(t.Context(), "waiting", 10)
	if err != nil || len(waiting) != 2 {
		t.Errorf("%d are on record, %v; want the two", len(waiting), err)
	}
	if err := k.Service.Store().DB().Close(); err != nil {
		t.Fatal(err)
	}
	if status, _ := post("/feedback/pier", two, true); status != http.StatusServiceUnavailable {
		t.Errorf("with the database away: %d", status)
	}
	hook.Signature.Key = nil
	if _, err := web.NewWebhooks(k.Service, map[string]web.Webhook{"pier": hook}); err == nil ||
		!strings.Contains(err.Error(), "pier") {
		t.Errorf("without a key: %v", err)
	}
}
