package main

import (
	"encoding/json"
	"image/png"
	"os"
	"strings"
	"testing"
	"time"
)

const (
	storm = "../../demo/storm.toml"
	day   = "../../demo/day.toml"
)

// A scenario comes to a table and pictures; of what cannot be played the error says what, where, and
// what to write instead.
func TestRehearse(t *testing.T) {
	p := newPlace(t)
	picture, drawing := p.file("day.png"), p.file("day.svg")
	out := p.must("rehearse", storm, "--plot", picture, "--plot", drawing)
	for _, piece := range []string{"Storm Ysolt: 45s from 2026-11-23 06:00", "ashore", "LEFT OF ITS QUOTAS",
		"The last notice was sent"} {
		if !strings.Contains(out, piece) {
			t.Errorf("it does not say %q:\n%s", piece, out)
		}
	}
	in, err := os.Open(picture)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	if img, err := png.Decode(in); err != nil || img.Bounds().Dx() != 1280 || img.Bounds().Dy() != 800 {
		t.Errorf("the picture: %v", err)
	}
	if svg, err := os.ReadFile(drawing); err != nil || !strings.Contains(string(svg), "Left of the quotas") {
		t.Errorf("the drawing: %v", err)
	}
	var r struct {
		Deliveries int
		People     []struct{ Asked, Got, GaveUp int }
		Samples    []struct{ Left []int }
	}
	if err := json.Unmarshal([]byte(p.must("rehearse", storm, "--json")), &r); err != nil || r.Deliveries < 40_500 ||
		len(r.People) != 1 || len(r.Samples) != 240 || r.People[0].Got == 0 {
		t.Errorf("for programs: %v, %d deliveries, %d samples", err, r.Deliveries, len(r.Samples))
	}

	raw, err := os.ReadFile(day)
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct{ old, new, says string }{
		{`for = "24h"`, `for = "a day"`, `"a day" is no duration`},
		{`for = "24h"`, `fro = "24h"`, `unknown key "fro"`},
		{`for = "24h"`, ``, "start and for are required"},
		{`lane = "bulk"`, `lane = "slow"`, `notice[1].lane is "slow"; say urgent, normal or bulk`},
		{`how = "down"`, `how = "dead"`, `provider "harbour": an outage in which it is "dead"`},
		{`carries = ["challenges"]`, `carries = ["codes"]`, `carries "codes"; say challenges or notices`},
		{`per_day = 5000`, "per_day = 5000\nper_month = 3", "the cap by day (5000) is above the one by month (3)"},
		{`purpose = "signup"`, `purpose = ""`, "purpose is required"},
		{`machine = 950.0`, "configuration = \"elsewhere.toml\"\nmachine = 950.0",
			"elsewhere.toml: there is no such file"},
		{`seed = 11`, `seed = "x`, "line "},
	} {
		p.write("wrong.toml", strings.Replace(string(raw), tt.old, tt.new, 1))
		if _, errOut, code := p.do("rehearse", p.file("wrong.toml")); code != exitFailed ||
			!strings.Contains(errOut, tt.says) {
			t.Errorf("%s: exit %d, %s; want %q", tt.new, code, errOut, tt.says)
		}
	}
	if _, errOut, code := p.do("rehearse", p.file("none.toml")); code != exitFailed ||
		!strings.Contains(errOut, "there is no such file") {
		t.Errorf("exit %d: %s", code, errOut)
	}
	if _, errOut, code := p.do("rehearse", storm, "--plot", p.file("day.gif")); code != exitFailed ||
		!strings.Contains(errOut, "a plot is a .png or an .svg") {
		t.Errorf("exit %d: %s", code, errOut)
	}

	// With a configuration its providers, limits and lives are played; the scenario says how they behave.
	p.add("[[limit]]\nname = \"new-addresses-day\"\nby = \"all\"\nnew = true\nquota = \"5 per day\"\n")
	p.write("own.toml", `
configuration = "illumicode.toml"
start = 2026-11-23T06:00:00Z
for = "2h"
[[provider]]
name = "harbour"
latency = "30ms"
[[people]]
name = "registering"
purpose = "signup"
per_minute = 1.0
domain = "ternisle.example"
`)
	if out := p.must("rehearse", p.file("own.toml")); !strings.Contains(out, "new-addresses-day") ||
		!strings.Contains(out, "harbour") {
		t.Errorf("with a configuration:\n%s", out)
	}
}

func TestBrief(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "-", 3580 * time.Microsecond: "3.58 ms",
		21400 * time.Millisecond: "21.4 s",
		18 * time.Minute:         "18m", 18*time.Minute + 10*time.Second: "18m10s",
		time.Hour + 20*time.Second: "1h0m20s"} {
		if got := brief(d); got != want {
			t.Errorf("brief(%v) = %s, want %s", d, got, want)
		}
	}
}
