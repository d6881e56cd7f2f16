package web_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/web"
)

// A description is the OpenAPI document of a running server.
type description struct {
	Paths map[string]map[string]struct {
		Security    []any
		RequestBody struct {
			Content map[string]struct{ Schema schema }
		}
		Responses map[string]struct {
			Content map[string]struct{ Schema schema }
		}
	}
	Components struct{ Schemas map[string]schema }
}

type schema struct {
	Ref        string `json:"$ref"`
	Type       string
	Enum       []string
	Required   []string
	Properties map[string]schema
}

func schemas(t *testing.T, server string) description {
	t.Helper()
	resp, err := http.Get(server + "/v1/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var d description
	if err := json.NewDecoder(resp.Body).Decode(&d); err != nil {
		t.Fatal(err)
	}
	return d
}

// fits checks an answer against what the description says of it.
func (d description) fits(t *testing.T, method, path string, resp *http.Response, out map[string]any) {
	t.Helper()
	path = regexp.MustCompile(`/subjects/[^/]+`).ReplaceAllString(path, "/subjects/{subject}")
	path = regexp.MustCompile(`/browsers/[^/]+`).ReplaceAllString(path, "/browsers/{id}")
	op, ok := d.Paths[path][strings.ToLower(method)]
	if !ok {
		t.Errorf("%s %s is not described", method, path)
		return
	}
	want, ok := op.Responses[fmt.Sprint(resp.StatusCode)]
	if !ok {
		want = op.Responses["default"]
	}
	content, ok := want.Content[resp.Header.Get("Content-Type")]
	if !ok {
		t.Errorf("%s %s: %d with %s is not described", method, path, resp.StatusCode, resp.Header.Get("Content-Type"))
		return
	}
	s := content.Schema
	if s.Ref != "" {
		s = d.Components.Schemas[strings.TrimPrefix(s.Ref, "#/components/schemas/")]
	}
	for name, value := range out {
		p, ok := s.Properties[name]
		if !ok {
			t.Errorf("%s %s: the answer has %q, which is not described", method, path, name)
			continue
		}
		kind := map[string]string{"string": "string", "bool": "boolean", "float64": "integer",
			"[]interface {}": "array"}[fmt.Sprintf("%T", value)]
		if kind != p.Type || p.Enum != nil && !slices.Contains(p.Enum, fmt.Sprint(value)) {
			t.Errorf("%s %s: %s is %v, described as %s %q", method, path, name, value, p.Type, p.Enum)
		}
	}
	for _, name := range s.Required {
		if _, ok := out[name]; !ok {
			t.Errorf("%s %s: the answer lacks %q", method, path, name)
		}
	}
}

// Every call of the flows through JSON, each answer as it is described; the committed description is
// the served one.
func TestFlowsOverJSON(t *testing.T) {
	s := newSite(t)
	d := schemas(t, s.server.URL)
	call := func(status int, path string, in any) map[string]any {
		t.Helper()
		method, path, other := strings.Cut(path, " ")
		if !other {
			method, path = "POST", method
		}
		body, err := json.Marshal(in)
		if err != nil {
			t.Fatal(err)
		}
		req, err := http.NewRequestWithContext(t.Context(), method, s.server.URL+path, strings.NewReader(string(body)))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Bearer "+apiKey)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var out map[string]any
		if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
			t.Fatal(err)
		}
		d.fits(t, method, path, resp, out)
		if resp.StatusCode != status {
			t.Errorf("%s: %d %v, want %d", path, resp.StatusCode, out, status)
		}
		return out
	}
	text := func(out map[string]any, key string) string { v, _ := out[key].(string); return v }
	typo := call(400, "/v1/signup", map[string]string{"subject": "a", "adress": mara})
	if want := `no member is named "adress"; there are "address"`; !strings.Contains(text(typo, "detail"), want) {
		t.Errorf("a mistyped member: %v, want %q", typo, want)
	}
	if got := call(422, "/v1/signup", map[string]string{"subject": "z", "address": mara, "zone": "Sea/Deep"}); text(got,
		"type") != "urn:illumicode:problem:zone" {
		t.Errorf("a zone that is none: %v", got)
	}
	call(400, "/v1/signup", map[string]string{"subject": "z\x00", "address": mara})
	begun := call(201, "/v1/signup", map[string]string{"subject": "a", "address": "nara@ternisle.example"})
	begun = call(202, "/v1/proof/correct", map[string]string{"ticket": text(begun, "ticket"), "address": mara})
	call(200, "/v1/proof", map[string]string{"ticket": text(begun, "ticket")})
	call(200, "/v1/proof/code", map[string]string{"ticket": text(begun, "ticket"), "code": s.Letter(mara, 1).Code()})

	begun = call(201, "/v1/signin", map[string]string{"address": mara})
	who := call(200, "/v1/signin/code",
		map[string]string{"ticket": text(begun, "ticket"), "code": s.Letter(mara, 2).Code()})
	if who["subject"] != "a" || text(who, "browser") == "" {
		t.Errorf("signed in: %v", who)
	}
	begun = call(201, "/v1/signin", map[string]string{"address": mara, "browser": text(who, "browser"),
		"device": "the ferry's own"})
	link := string(s.Link(s.Letter(mara, 3)))
	call(409, "/v1/signin/link", map[string]string{"link": link})
	call(404, "/v1/signin/elsewhere", map[string]string{"link": link + "x"})
	call(409, "/v1/proof/link", map[string]string{"link": link})
	call(200, "/v1/signin/link", map[string]string{"link": link, "ticket": text(begun, "ticket")})
	known, _ := call(200, "GET /v1/subjects/a/browsers", nil)["browsers"].([]any)
	if len(known) != 1 || known[0].(map[string]any)["name"] != "the ferry's own" {
		t.Fatalf("known are %v", known)
	}
	one := "DELETE /v1/subjects/a/browsers/" + text(known[0].(map[string]any), "id")
	for _, want := range []float64{1, 0} {
		if got := call(200, one, nil)["revoked"]; got != want {
			t.Errorf("%v were revoked, want %v", got, want)
		}
	}
	if got := call(200, "DELETE /v1/subjects/a/browsers", nil)["revoked"]; got != float64(0) {
		t.Errorf("%v were revoked where none is known", got)
	}

	begun = call(201, "/v1/stepup", map[string]string{"subject": "a", "address": mara, "action": "refund 12",
		"words": "refund 12"})
	code := s.Letter(mara, 4).Code()
	call(409, "/v1/stepup/code", map[string]string{"ticket": text(begun, "ticket"), "code": code,
		"action": "refund 120"})
	call(200, "/v1/stepup/code", map[string]string{"ticket": text(begun, "ticket"), "code": code,
		"action": "refund 12"})
	call(409, "/v1/stepup", map[string]string{"subject": "a", "address": "other@ternisle.example", "action": "x",
		"words": "x"})

	begun = call(201, "/v1/reverify", map[string]string{"subject": "a", "old": mara, "address": "new@skerry.example"})
	call(200, "/v1/proof/code",
		map[string]string{"ticket": text(begun, "ticket"), "code": s.Letter("new@skerry.example", 1).Code()})
	undo := regexp.MustCompile(`/not-me\?t=(\S+)`).FindStringSubmatch(s.Letter(mara, 5).Text)[1]
	s.Letter(mara, 6) // that the change was made: one that waits would be dropped when it is undone
	call(404, "/v1/not-me", map[string]string{"link": undo})
	undone := call(200, "/v1/undo", map[string]string{"link": undo})
	if undone["frozen"] != true || undone["subject"] != "a" {
		t.Errorf("undone: %v", undone)
	}
	call(409, "/v1/undo", map[string]string{"link": undo})
	settle := map[string]string{"change": text(undone, "change"), "keep": mara}
	call(409, "/v1/settle", settle)
	if got := call(200, "/v1/proof/link",
		map[string]string{"link": string(s.Link(s.Letter(mara, 7)))}); got["confirmed"] != false {
		t.Errorf("a proof of a frozen account: %v", got)
	}
	b := s.browser()
	s.do(b, "GET", s.Letter("new@skerry.example", 2).Link(), nil)
	if _, body := s.do(b, "POST", s.here(b), nil); !strings.Contains(body, "stays locked until") || s.confirmed() {
		t.Errorf("the page for a proof of a frozen account:\n%s", body)
	}
	if _, body := s.do(b, "GET", s.Letter("new@skerry.example", 2).Link(), nil); !strings.Contains(body,
		"stays locked until") {
		t.Errorf("its link once more:\n%s", body)
	}
	call(409, "/v1/proof/link", map[string]string{"link": string(s.Link(s.Letter(mara, 7)))})
	call(200, "/v1/settle", settle)
	call(404, "/v1/settle", settle)
	call(410, "/v1/undo", map[string]string{"link": undo})
	call(200, "/v1/subjects/a/close", map[string]bool{"undoable": true})
	if got := call(200, "GET /v1/subjects/a", nil); got["confirmed"] != false {
		t.Errorf("a closed account: %v", got)
	}

	resp, err := http.Get(s.server.URL + "/v1/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	served, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile("../docs/openapi.json", served, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if kept, err := os.ReadFile("../docs/openapi.json"); err != nil || string(kept) != string(served) {
		t.Errorf("docs/openapi.json is not what is served (%v); write it with UPDATE=1 go test ./web", err)
	}
}

// Pages of a trusted origin may make the calls that need no key, and no others may.
func TestOrigins(t *testing.T) {
	s := newSite(t)
	api, err := web.NewAPI(s.Service, apiKey, web.APIOptions{Origins: []string{"https://app.ferry.example"},
		Client: func(*http.Request) netip.Addr { return netip.MustParseAddr("192.0.2.9") }})
	if err != nil {
		t.Fatal(err)
	}
	s.server.Config.Handler = api
	for origin, want := range map[string]int{"https://app.ferry.example": 201, "": 201, s.server.URL: 201,
		"https://evil.example": 403, "null": 403} {
		address := fmt.Sprintf("p%d@ternisle.example", len(origin))
		req, err := http.NewRequestWithContext(t.Context(), "POST", s.server.URL+"/v1/signin",
			strings.NewReader(`{"address":"`+address+`"}`))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		if origin != "" {
			req.Header.Set("Origin", origin)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		allowed := resp.Header.Get("Access-Control-Allow-Origin")
		if resp.StatusCode != want || (allowed == origin) != (origin == "https://app.ferry.example" || origin == "") {
			t.Errorf("origin %q: %d, allowed %q", origin, resp.StatusCode, allowed)
		}
	}
	steps, err := flow.Of(s.Service).Store.Trail(t.Context(), "p0@ternisle.example", 1)
	if err != nil || len(steps) != 1 || steps[0].Network != "192.0.2.9" {
		t.Errorf("the trail: %+v, %v", steps, err)
	}
}
