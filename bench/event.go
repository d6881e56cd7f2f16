package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing/fstest"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/event"
	"github.com/illumicode/illumicode/letter"
	"github.com/illumicode/illumicode/letters"
)

// listed is how the recipients of an event come.
type listed string

const (
	notified listed = "NotifyAll"
	inEvent  listed = "in the event"
	inLines  listed = "in lines"
)

// eventFigures measures one event to many, each with values of their own, from its arrival to the last letter over
// SMTP, against a notice whose letter has the same words and one value for all.
func eventFigures(scale int) ([]figure, error) {
	s, err := newSink()
	if err != nil {
		return nil, err
	}
	set, err := letters.Load(fstest.MapFS{"en.toml": {Data: []byte(`
[letter.boarding]
subject = "Boarding at {{.pier}}"
opening = "Hello,"
main = "your seat is {{.seat}}."
closing = "Best wishes from {{.site}}"
`)}}, "en")
	if err != nil {
		return nil, err
	}
	n := 500 * scale
	var out []figure
	for _, database := range databases() {
		took := make(map[listed][]time.Duration)
		for range 5 {
			for _, how := range []listed{notified, inEvent, inLines} {
				one, err := toMany(database, s, set, how, n)
				if err != nil {
					return nil, err
				}
				took[how] = append(took[how], one)
			}
		}
		slices.Sort(took[notified])
		floor := took[notified][len(took[notified])/2]
		for _, how := range []listed{inEvent, inLines} {
			out = append(out, figure{fmt.Sprintf("event to %d, recipients %s, %s", n, how, database), string(notified),
				medianRatio(took[notified], took[how]), -0.9, fmt.Sprintf("%.0f letters a second by %s", rate(n, floor),
					notified)})
		}
	}
	return out, nil
}

// toMany sends a letter to n people and returns how long that took.
func toMany(database string, s *sink, set *letter.Set, how listed, n int) (time.Duration, error) {
	way, err := s.way(16)
	if err != nil {
		return 0, err
	}
	b, err := newBedOn(database, way, func(c *illumicode.Config) {
		c.Letters = set
		c.Events = []illumicode.EventRule{{Type: "sailing.boarding", Letter: "boarding", To: "/passengers"}}
	})
	if err != nil {
		return 0, err
	}
	defer b.close()
	people := make([]map[string]string, n)
	for i := range people {
		people[i] = map[string]string{"address": fmt.Sprintf("p%d@quay.example", i), "seat": fmt.Sprint(i)}
	}
	data := map[string]any{"pier": "Gull Quay"}
	ctx := context.Background()
	var take func() error
	switch how {
	case notified:
		data["seat"] = "free"
		notice := illumicode.Notice{Letter: "boarding", Data: data}
		take = func() error { _, err := b.svc.NotifyAll(ctx, notice, passengers(n)); return err }
	case inEvent:
		data["passengers"] = people
		e, err := boarding(data)
		if err != nil {
			return 0, err
		}
		take = func() error { return b.svc.Receive(ctx, e) }
	case inLines:
		text, err := inLinesOf(data, people)
		if err != nil {
			return 0, err
		}
		take = func() error { _, err := b.svc.ReceiveList(ctx, strings.NewReader(text)); return err }
	}
	began := time.Now()
	if err := take(); err != nil {
		return 0, err
	}
	_, err = b.drain(ctx)
	took := time.Since(began)
	sent := 0
	if err == nil {
		err = b.store.DB().QueryRow("SELECT COUNT(*) FROM illumicode_ended WHERE state = 'sent'").Scan(&sent)
	}
	if err == nil && sent != n {
		err = fmt.Errorf("%d of %d letters were sent", sent, n)
	}
	return took, err
}

func boarding(data map[string]any) (event.Event, error) {
	raw, err := json.Marshal(data)
	return event.Event{Source: "/quay", ID: "1", Type: "sailing.boarding", Data: raw}, err
}

func inLinesOf(data map[string]any, people []map[string]string) (string, error) {
	var text strings.Builder
	lines := json.NewEncoder(&text)
	err := lines.Encode(map[string]any{"specversion": "1.0", "source": "/quay", "id": "1", "type": "sailing.boarding",
		"data": data})
	for _, one := range people {
		err = errors.Join(err, lines.Encode(one))
	}
	err = errors.Join(err, lines.Encode(map[string]int{"end": len(people)}))
	return text.String(), err
}
