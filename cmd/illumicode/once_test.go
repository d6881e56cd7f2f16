package main

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
)

// Of many who come with the same code at once, to three processes on one database, one wins: whatever the flow.
func TestOneWinsAcrossProcesses(t *testing.T) { onBoth(t, oneWinsAcrossProcesses) }

func oneWinsAcrossProcesses(t *testing.T, p *place) {
	// a try for each who comes
	p.add("[signup]\ntries = 20\n[signin]\ntries = 20\n[stepup]\ntries = 20\n[reverify]\ntries = 20\n")
	p.with(func(svc *illumicode.Service) {
		for subject, address := range map[string]string{"7": "mara@ternisle.example", "8": "oda@ternisle.example",
			"9": "liv@ternisle.example"} {
			if err := desk.New(svc).Confirm(t.Context(), illumicode.Holding{Subject: subject, Address: address},
				"made for this test"); err != nil {
				t.Fatal(err)
			}
		}
	})
	var bases []string
	for range 3 {
		_, rest, _ := strings.Cut(start(t, "msg=serving", "--config", p.config, "serve"), "address=")
		bases = append(bases, "http://"+strings.Fields(rest)[0])
	}
	post := func(base, path string, body map[string]string) (int, map[string]any) {
		raw, err := json.Marshal(body)
		if err != nil {
			t.Error(err)
		}
		req, err := http.NewRequestWithContext(t.Context(), "POST", base+path, strings.NewReader(string(raw)))
		if err != nil {
			t.Error(err)
			return 0, nil
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Bearer a key of the application's own")
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Error(err)
			return 0, nil
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Error(err)
		}
		var out map[string]any
		if err := json.Unmarshal(text, &out); err != nil {
			t.Error(err)
		}
		return resp.StatusCode, out
	}
	for _, flow := range []struct {
		begin, accept string
		body          map[string]string
		to            string
	}{
		{"/v1/signup", "/v1/proof/code", map[string]string{"subject": "1", "address": "new@ternisle.example"},
			"new@ternisle.example"},
		{"/v1/signin", "/v1/signin/code", map[string]string{"address": "mara@ternisle.example"},
			"mara@ternisle.example"},
		{"/v1/stepup", "/v1/stepup/code", map[string]string{"subject": "8", "address": "oda@ternisle.example",
			"action": "pay", "words": "pay 5.00"}, "oda@ternisle.example"},
		{"/v1/reverify", "/v1/proof/code", map[string]string{"subject": "9", "old": "liv@ternisle.example",
			"address": "liv.moved@ternisle.example"}, "liv.moved@ternisle.example"},
	} {
		status, begun := post(bases[0], flow.begin, flow.body)
		if status != http.StatusCreated {
			t.Fatalf("%s: %d %v", flow.begin, status, begun)
		}
		got, err := p.inbox.Wait(t.Context(), flow.to, 1)
		if err != nil {
			t.Fatal(err)
		}
		body := map[string]string{"ticket": begun["ticket"].(string), "code": got[0].Code()}
		if action := flow.body["action"]; action != "" {
			body["action"] = action
		}
		var won, lost atomic.Int64
		var all sync.WaitGroup
		for i := range 15 {
			all.Go(func() {
				switch status, out := post(bases[i%3], flow.accept, body); status {
				case http.StatusOK:
					won.Add(1)
				case http.StatusConflict:
					lost.Add(1)
				default:
					t.Errorf("%s: %d %v", flow.accept, status, out)
				}
			})
		}
		all.Wait()
		if won.Load() != 1 || lost.Load() != 14 {
			t.Errorf("%s: %d won and %d lost, want 1 and 14", flow.begin, won.Load(), lost.Load())
		}
	}
}
