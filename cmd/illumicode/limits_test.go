package main

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
)

// add writes more into the place's configuration.
func (p *place) add(text string) {
	p.t.Helper()
	raw, err := os.ReadFile(p.config)
	if err != nil {
		p.t.Fatal(err)
	}
	p.write("illumicode.toml", string(raw)+text)
}

// The operator's verbs on limits: what holds and from where, what would be said, what is the worst.
func TestLimitsVerbs(t *testing.T) {
	p := newPlace(t)
	p.add(`
[[limit]]
name = "address-hour"
by = "address"
rate = "2 per hour"
burst = 2
[[limit]]
name = "office"
by = "network"
quota = "9 per day"
zone = "Europe/Oslo"
observe = true
[[limit]]
name = "told-by-text"
off = true
`)
	list := p.must("limits", "list")
	for _, want := range []string{"2 an hour, 2 at once for one address", "observe; " + p.config, "enforce; default",
		"9 a calendar day in Europe/Oslo"} {
		if !strings.Contains(list, want) {
			t.Errorf("list lacks %q:\n%s", want, list)
		}
	}
	if strings.Contains(list, "told-by-text") {
		t.Errorf("a rule that is off is listed:\n%s", list)
	}
	for range 2 { // nothing is spent
		out := p.must("limits", "try", "--address", "mara@ternisle.example", "--network", "203.0.113.7")
		if !strings.Contains(out, "Now: 2 pass. Within the hour: 3 in all") ||
			!strings.Contains(out, "until then address-hour refuses it") ||
			!strings.Contains(out, "9 more (observes only)") {
			t.Errorf("try:\n%s", out)
		}
	}
	report := p.must("limits", "report")
	for _, want := range []string{"address-hour (2 an hour, 2 at once for one address) lets 4 through",
		"mail to addresses that nobody has confirmed", "RFC 4226", "claim no conformance"} {
		if !strings.Contains(strings.Join(strings.Fields(report), " "), want) {
			t.Errorf("report lacks %q:\n%s", want, report)
		}
	}
	if _, errOut, code := p.do("limits", "try"); code != exitMisused || !strings.Contains(errOut, "--address") {
		t.Errorf("try without an address: exit %d\n%s", code, errOut)
	}
	for text, want := range map[string]string{
		"name = \"x\"\nby = \"all\"\nrate = \"0 per hour\"":                       "a count of 1 or more",
		"name = \"x\"\nby = \"all\"\nrate = \"3 per hour\"\nburst = 0":            "a burst of 0",
		"name = \"x\"\nby = \"person\"\nrate = \"3 per hour\"":                    "say address, subject",
		"name = \"x\"\nby = \"all\"\nrate = \"3 per fortnight\"":                  "unknown unit",
		"name = \"x\"\nby = \"address\"\nrate = \"3 per day\"\nreserved = 0.5":    "are for everybody",
		"name = \"x\"\nby = \"all\"\nrate = \"3 per day\"\nreserved = 1":          "from 0 to below 1",
		"name = \"x\"\nby = \"address\"\nrate = \"3 per day\"\nstage = \"wrong\"": "counted by network",
		"name = \"x\"\nby = \"all\"\nquota = \"3 per day\"\nzone = \"Mars/Base\"": "no time zone",
		"name = \"office\"\nby = \"all\"\nquota = \"3 per day\"":                  "names must differ",
		"name = \"y\"\noff = true":                                                "is none",
	} {
		p := newPlace(t)
		p.add("[[limit]]\nname = \"office\"\nby = \"all\"\nquota = \"1 per day\"\n[[limit]]\n" + text + "\n")
		if _, errOut, code := p.do("limits", "list"); code != exitFailed || !strings.Contains(errOut, "limit[1]") ||
			!strings.Contains(errOut, want) {
			t.Errorf("%q: exit %d\n%s, want %q", text, code, errOut, want)
		}
	}
}

// Several processes on one database let through together what a rule says, and not one more; who is refused
// is told by which rule, and for how long.
func TestLimitsAcrossProcesses(t *testing.T) { onBoth(t, limitsAcrossProcesses) }

func limitsAcrossProcesses(t *testing.T, p *place) {
	p.add("[[limit]]\nname = \"harbour-wall\"\nby = \"all\"\nquota = \"40 per month\"\n[[limit]]\nname = " +
		"\"network-hour\"\noff = true\n")
	var bases []string
	for range 3 {
		_, rest, _ := strings.Cut(start(t, "msg=serving", "--config", p.config, "serve"), "address=")
		bases = append(bases, "http://"+strings.Fields(rest)[0])
	}
	var begun, refused atomic.Int64
	var all sync.WaitGroup
	turns := make(chan struct{}, 9) // a slow machine is to answer each in time
	for i := range 120 {
		turns <- struct{}{}
		all.Go(func() {
			defer func() { <-turns }()
			resp, err := http.Post(bases[i%3]+"/v1/signin", "application/json",
				strings.NewReader(fmt.Sprintf(`{"address": "p%d@ternisle.example"}`, i)))
			if err != nil {
				t.Error(err)
				return
			}
			defer resp.Body.Close()
			switch h := resp.Header; {
			case resp.StatusCode == http.StatusCreated:
				begun.Add(1)
			case resp.StatusCode == http.StatusTooManyRequests && h.Get("Retry-After") != "" &&
				strings.HasPrefix(h.Get("RateLimit"), `"harbour-wall";r=0;t=`) &&
				h.Get("RateLimit-Policy") == `"harbour-wall";q=40;w=2592000`:
				refused.Add(1)
			default:
				t.Errorf("%d %v", resp.StatusCode, h)
			}
		})
	}
	all.Wait()
	if begun.Load() != 40 || refused.Load() != 80 {
		t.Errorf("%d begun and %d refused, want 40 and 80", begun.Load(), refused.Load())
	}
}
