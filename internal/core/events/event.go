// Package events reads events in the JSON form of CloudEvents 1.0, single and batched, and what
// stands in their data. [Parse] is the function to read first.
package events

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/illumicode/illumicode/event"
)

// Media types of the JSON form (CloudEvents JSON Event Format 1.0 §3, §4).
const (
	Single = "application/cloudevents+json"
	Batch  = "application/cloudevents-batch+json"
)

// MaxData bounds an event's data, in bytes.
const MaxData = 256 << 10

// Parse reads the body of a request or a file with the media type contentType: one event, or a
// batch. With an empty type the body's first character decides. All events are good, or none is
// returned; the error says which is not and why.
func Parse(contentType string, body []byte) ([]event.Event, error) {
	kind, _, err := mime.ParseMediaType(contentType)
	switch {
	case contentType == "":
		kind = Single
		if trimmed := bytes.TrimSpace(body); len(trimmed) > 0 && trimmed[0] == '[' {
			kind = Batch
		}
	case err != nil:
		return nil, fmt.Errorf("%w: the content type %q cannot be read", event.ErrMalformed, contentType)
	}
	switch kind {
	case Single:
		e, err := parse(body)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", event.ErrMalformed, err)
		}
		return []event.Event{e}, nil
	case Batch:
		var all []json.RawMessage
		if err := json.Unmarshal(body, &all); err != nil {
			return nil, fmt.Errorf("%w: a batch is a JSON array of events", event.ErrMalformed)
		}
		events := make([]event.Event, 0, len(all))
		for i, raw := range all {
			e, err := parse(raw)
			if err != nil {
				return nil, fmt.Errorf("%w: event %d of %d: %w", event.ErrMalformed, i+1, len(all), err)
			}
			events = append(events, e)
		}
		return events, nil
	}
	return nil, fmt.Errorf("%w: the content type is %q; send %s or %s", event.ErrMalformed, kind, Single, Batch)
}

func parse(raw []byte) (event.Event, error) {
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(raw, &fields); err != nil {
		return event.Event{}, errors.New("it is not a JSON object")
	}
	var e event.Event
	var version, when, dataType string
	for _, f := range []struct {
		name string
		to   *string
	}{{"specversion", &version}, {"source", &e.Source}, {"id", &e.ID}, {"type", &e.Type}, {"subject", &e.Subject},
		{"time", &when}, {"datacontenttype", &dataType}} {
		if v, ok := fields[f.name]; ok && json.Unmarshal(v, f.to) != nil {
			return event.Event{}, fmt.Errorf("%q is not a string", f.name)
		}
	}
	for name := range fields {
		// Attributes of extensions are welcome; a name that no attribute can have is a mistake.
		if name != "data_base64" && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789") != "" {
			return event.Event{},
				fmt.Errorf("%q can be no attribute: names have lower-case letters and digits only; an event's own "+
					"values belong into data", name)
		}
	}
	if version != "1.0" {
		return event.Event{}, fmt.Errorf("specversion is %q; this reads 1.0", version)
	}
	if fields["data_base64"] != nil || dataType != "" && !isJSON(dataType) {
		return event.Event{}, errors.New("its data are not JSON; a letter's values are a JSON object")
	}
	e.Data = fields["data"]
	if when != "" {
		t, err := time.Parse(time.RFC3339Nano, when)
		if err != nil {
			return event.Event{}, fmt.Errorf("time is %q; write it as RFC 3339", when)
		}
		e.Time = t
	}
	return e, Check(e)
}

func isJSON(contentType string) bool {
	kind, _, err := mime.ParseMediaType(contentType)
	return err == nil && (kind == "application/json" || strings.HasSuffix(kind, "+json"))
}

// Check says what is wrong with an event that did not come as JSON.
func Check(e event.Event) error {
	for _, f := range []struct{ name, value string }{{"source", e.Source}, {"id", e.ID}, {"type", e.Type}} {
		if f.value == "" {
			return fmt.Errorf("%q is missing or empty", f.name)
		}
		if len(f.value) > 1024 {
			return fmt.Errorf("%q has more than 1024 bytes", f.name)
		}
	}
	if _, err := url.Parse(e.Source); err != nil {
		return errors.New("source is no URI reference")
	}
	if len(e.Data) > MaxData {
		return fmt.Errorf("its data have %d bytes, more than %d; a long list of recipients follows its event in lines",
			len(e.Data), MaxData)
	}
	return nil
}

// Values returns the event's data, which are a JSON object or missing.
func Values(e event.Event) (map[string]any, error) {
	values := make(map[string]any)
	if len(e.Data) == 0 || string(e.Data) == "null" {
		return values, nil
	}
	dec := json.NewDecoder(bytes.NewReader(e.Data))
	dec.UseNumber()
	if err := dec.Decode(&values); err != nil {
		return nil, errors.New("its data are no JSON object, as a letter's values must be")
	}
	return values, nil
}

// At returns what stands at an RFC 6901 pointer in a decoded JSON document.
func At(doc any, pointer string) (any, bool) {
	if pointer == "" {
		return doc, true
	}
	for _, token := range tokens(pointer) {
		switch v := doc.(type) {
		case map[string]any:
			inner, ok := v[token]
			if !ok {
				return nil, false
			}
			doc = inner
		case []any:
			i, err := strconv.Atoi(token)
			if err != nil || i < 0 || i >= len(v) {
				return nil, false
			}
			doc = v[i]
		default:
			return nil, false
		}
	}
	return doc, true
}

// tokens returns the reference tokens of a pointer (RFC 6901 §3).
func tokens(pointer string) []string {
	all := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for i, token := range all {
		all[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(token)
	}
	return all
}
