package main

import (
	"fmt"
	"time"

	"github.com/illumicode/illumicode/internal/proxy"
	"github.com/illumicode/illumicode/provider/smtp"
)

// distanceFigures measures letters over eight connections to a relay that is far away, behind a proxy that only delays,
// against a bare loop of four round trips a letter.
func distanceFigures(scale int) ([]figure, error) {
	const connections = 8
	s, err := newSink()
	if err != nil {
		return nil, err
	}
	letter := letterSized()
	var out []figure
	for _, trip := range []time.Duration{20 * time.Millisecond, 80 * time.Millisecond} {
		p, err := proxy.New("tcp", s.listen.Addr().String(), trip/2)
		if err != nil {
			return nil, err
		}
		way, err := smtp.New("far", smtp.Config{Host: "127.0.0.1", Port: p.Addr().Port, TLS: smtp.NoTLS,
			Most: connections, Letters: 1 << 30})
		if err != nil {
			return nil, err
		}
		n := 64 * scale
		by := func(once bool) func() error {
			return func() error {
				return many(connections, n, func(i int) error { return sendBy(way, letter, i, once) })
			}
		}
		bare := func() error {
			_, err := bareLoop(p.Addr().String(), func() error { return nil }, letter, connections, n)
			return err
		}
		times, err := inTurns(3, by(false), by(true), bare)
		way.Close()
		p.Close()
		if err != nil {
			return nil, err
		}
		rate := func(i int) float64 { return float64(n) / median(times[i]).Seconds() }
		goal := map[time.Duration]float64{20 * time.Millisecond: 3.2, 80 * time.Millisecond: 3.4}[trip]
		for i, row := range []struct {
			how  string
			goal float64
		}{{"CHUNKING", goal}, {"PIPELINING alone", 1.9}} {
			out = append(out, figure{fmt.Sprintf("letters a second over %v, %s", trip, row.how),
				"bare, four round trips", medianRatio(times[2], times[i]), -row.goal,
				fmt.Sprintf("%.0f/s against %.0f/s", rate(i), rate(2))})
		}
	}
	return out, nil
}
