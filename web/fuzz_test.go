package web_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/web"
)

// Whatever body comes to whatever call: the answer is JSON, a problem or what was asked for, never a
// fault of ours, and a problem never repeats a secret of the body.
func FuzzAPI(f *testing.F) {
	k := illumicodetest.Idle(f)
	api, err := web.NewAPI(k.Service, apiKey, web.APIOptions{})
	if err != nil {
		f.Fatal(err)
	}
	paths := []string{"/v1/signup", "/v1/signin", "/v1/signin/code", "/v1/signin/link", "/v1/reverify", "/v1/stepup",
		"/v1/stepup/code", "/v1/proof",
		"/v1/proof/resend", "/v1/proof/correct", "/v1/proof/code", "/v1/proof/link", "/v1/not-me", "/v1/undo",
		"/v1/subjects/7/resend", "/v1/events"}
	for i := range paths {
		f.Add(i, "application/json",
			`{"subject":"7","address":"mara@ternisle.example","ticket":"t","code":"482 913","link":"a.b.c",`+
				`"locale":"de","zone":"Europe/Oslo"}`)
		f.Add(i, "application/cloudevents+json", `{"specversion":"1.0","id":"1","source":"/q","type":"t"}`)
		f.Add(i, "application/json", `{}`)
	}
	f.Add(0, "", "\x00")
	f.Add(1, "application/json", `{"address":"`+strings.Repeat("a", 300)+`@b.example"}`)
	f.Add(2, "application/json", `{"ticket":null,"code":1e999}`)
	f.Fuzz(func(t *testing.T, path int, kind, body string) {
		r := httptest.NewRequest(http.MethodPost, paths[(path%len(paths)+len(paths))%len(paths)],
			strings.NewReader(body))
		r.Header.Set("Authorization", "Bearer "+apiKey)
		r.Header.Set("Content-Type", kind)
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		var out map[string]any
		if err := json.Unmarshal(w.Body.Bytes(), &out); err != nil || w.Code >= 500 {
			t.Fatalf("%s %q: %d %s", r.URL.Path, body, w.Code, w.Body)
		}
		if w.Code >= 400 && (w.Header().Get("Content-Type") != "application/problem+json" || out["type"] == "" ||
			out["status"] != float64(w.Code)) {
			t.Errorf("%s %q: %d %s", r.URL.Path, body, w.Code, w.Body)
		}
		var in struct{ Ticket, Code, Link string }
		if json.Unmarshal([]byte(body), &in) == nil {
			for _, secret := range []string{in.Ticket, in.Code, in.Link} {
				if len(secret) > 20 && strings.Contains(w.Body.String(), secret) {
					t.Errorf("%s answers with a secret of its body: %s", r.URL.Path, w.Body)
				}
			}
		}
	})
}
