package web_test

import (
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"testing"
)

// What is no call, and what is no JSON, is answered with a problem as everything else.
func TestProblemsOfNoCall(t *testing.T) {
	s := newSite(t)
	for _, tt := range []struct {
		method, path, kind string
		status             int
		want               string
	}{
		{"GET", "/v1/nothing", "", 404, "no-call"},
		{"GET", "/v1/signin", "", 405, "method"},
		{"POST", "/v1/signin", "", 415, "content-type"},
		{"POST", "/v1/signin", "text/plain", 415, "content-type"},
		{"POST", "/v1/signin", "application/json; charset=utf-8", 201, ""},
		{"POST", "/v1/signin?twice", "application/json", 400, "body"},
	} {
		one := `{"address": "mara@ternisle.example"}`
		if strings.HasSuffix(tt.path, "?twice") {
			one += one
		}
		body := strings.NewReader(one)
		req, err := http.NewRequestWithContext(t.Context(), tt.method, s.server.URL+tt.path, body)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", tt.kind)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		var out struct{ Type string }
		err = json.NewDecoder(resp.Body).Decode(&out)
		resp.Body.Close()
		if err != nil || resp.StatusCode != tt.status ||
			strings.TrimPrefix(out.Type, "urn:illumicode:problem:") != tt.want ||
			tt.status == 405 && resp.Header.Get("Allow") == "" {
			t.Errorf("%s %s with %q: %d %+v, %v; want %d %s", tt.method, tt.path, tt.kind, resp.StatusCode, out, err,
				tt.status,
				tt.want)
		}
	}
}

// A fault of the application's callback is in the log, under the id that the page shows.
func TestFaultIsLogged(t *testing.T) {
	s := newSite(t)
	b := s.browser()
	s.do(b, "POST", "/begin", nil)
	s.broken = errors.New("the application's own trouble")
	s.do(b, "GET", s.Letter(mara, 1).Link(), nil)
	r, body := s.do(b, "POST", s.here(b), nil)
	if r.StatusCode != http.StatusInternalServerError || s.fault.ID == "" || !strings.Contains(body, s.fault.ID) ||
		!errors.Is(s.fault.Err, s.broken) {
		t.Errorf("%d, %+v\n%s", r.StatusCode, s.fault, body)
	}
	if said := s.Logged(); !strings.Contains(said, "the application's own trouble") ||
		!strings.Contains(said, s.fault.ID) {
		t.Errorf("the log says %q", said)
	}
	s.broken = nil
	if r, _ := s.do(b, "POST", s.here(b), nil); r.StatusCode != http.StatusOK {
		t.Errorf("afterwards: %d", r.StatusCode)
	}
}

// Where the database is away, pages and calls say that it is for now: 503.
func TestDatabaseIsAway(t *testing.T) {
	s := newSite(t)
	b := s.browser()
	s.do(b, "POST", "/begin", nil)
	link := s.Letter(mara, 1).Link()
	if err := s.Service.Store().DB().Close(); err != nil {
		t.Fatal(err)
	}
	s.do(b, "GET", link, nil)
	if r, body := s.do(b, "GET", s.here(b), nil); r.StatusCode != http.StatusServiceUnavailable {
		t.Errorf("the page: %d\n%s", r.StatusCode, body)
	} else if s.fault.ID == "" || strings.Contains(body, s.fault.ID) {
		t.Errorf("the page shows request %q, which the log need not have:\n%s", s.fault.ID, body)
	}
	req, err := http.NewRequestWithContext(t.Context(), "POST", s.server.URL+"/v1/signin",
		strings.NewReader(`{"address": "mara@ternisle.example"}`))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if resp.StatusCode != http.StatusServiceUnavailable {
		t.Errorf("the call: %d", resp.StatusCode)
	}
}
