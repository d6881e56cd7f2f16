package report

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/core/events"
)

// Bounce is a kind for [Mapping.Kinds] alone: hard or soft, as [Severity] has it from the status.
const Bounce Kind = "bounce"

// A Mapping says where in a provider's JSON what stands. All but Each are pointers (RFC 6901) into one
// event; Kind and one of Letter and Delivery are required.
type Mapping struct {
	Each     string          // to the list of events in the body; empty means that the body is one, or a list
	ID       string          // of the event, by which a repeat is told; empty means from what it says
	Letter   string          // the provider's own id of the letter, as it answered it
	Delivery string          // our id of it, where the provider hands on what it was given
	Kind     string          // what has happened, in the provider's words
	Kinds    map[string]Kind // what these words mean; others mean nothing
	Status   string          // enhanced status code, or a text that holds one
	Code     string          // SMTP reply code
	Text     string
	At       string // RFC 3339, or Unix time in seconds or milliseconds
}

// Check says what is wrong with a mapping, if anything is.
func (m Mapping) Check() error {
	for name, pointer := range map[string]string{"each": m.Each, "id": m.ID, "letter": m.Letter, "delivery": m.Delivery,
		"kind":   m.Kind,
		"status": m.Status, "code": m.Code, "text": m.Text, "at": m.At} {
		if pointer != "" && pointer[0] != '/' {
			return fmt.Errorf("%s is %q; a pointer begins with a slash (RFC 6901)", name, pointer)
		}
	}
	switch {
	case m.Kind == "" || len(m.Kinds) == 0:
		return errors.New("kind and kinds are required: where the event's kind stands, and what its values mean")
	case m.Letter == "" && m.Delivery == "":
		return errors.New("letter or delivery is required: where the letter's id stands, the provider's own or ours")
	}
	for word, k := range m.Kinds {
		if !Known(k) && k != Bounce {
			return fmt.Errorf(
				"kinds: %q is %q; say delivered, delayed, bounce, hard bounce, soft bounce, complaint or other", word,
				k)
		}
	}
	return nil
}

// An Event is what a provider tells of one letter.
type Event struct {
	Report
	Letter   string
	Delivery string
}

// Read reads a body. Either all its events can be read, or the error says which cannot and why.
func (m Mapping) Read(body []byte) ([]Event, error) {
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.UseNumber() // ids of 19 digits keep theirs
	var doc any
	if err := dec.Decode(&doc); err != nil {
		return nil, fmt.Errorf("report: the body is no JSON: %w", err)
	}
	doc, ok := events.At(doc, m.Each)
	if !ok {
		return nil, fmt.Errorf("report: the body has nothing at %s", m.Each)
	}
	list, ok := doc.([]any)
	if !ok {
		list = []any{doc}
	}
	all := make([]Event, len(list))
	for i, one := range list {
		at := func(pointer string) string {
			if pointer == "" {
				return ""
			}
			switch v, _ := events.At(one, pointer); v := v.(type) {
			case string:
				return v
			case json.Number:
				return v.String()
			}
			return ""
		}
		e := &all[i]
		e.Letter, e.Delivery = at(m.Letter), at(m.Delivery)
		if e.Letter == "" && e.Delivery == "" {
			return nil, fmt.Errorf("report: event %d of %d has no id of a letter at %s", i+1, len(list),
				m.Letter+m.Delivery)
		}
		e.ID, e.Text = at(m.ID), oneLine(at(m.Text))
		e.Status = statusIn(at(m.Status))
		if e.Status == "" {
			e.Status = statusIn(e.Text)
		}
		var err error
		if e.At, err = moment(at(m.At)); err != nil {
			return nil, fmt.Errorf("report: event %d of %d: %w", i+1, len(list), err)
		}
		e.Kind = m.Kinds[at(m.Kind)]
		switch e.Kind {
		case "":
			e.Kind = Other
		case Bounce:
			code := codeIn(at(m.Code))
			if code == 0 {
				code = codeIn(e.Text)
			}
			if e.Kind = Severity(e.Status, code); e.Kind == Delivered {
				e.Kind = SoftBounce // it came back, whatever its status
			}
		}
	}
	return all, nil
}

// moment reads an instant as providers write it.
func moment(s string) (time.Time, error) {
	if s == "" {
		return time.Time{}, nil
	}
	if t, err := time.Parse(time.RFC3339, strings.Replace(s, " ", "T", 1)); err == nil {
		return t.UTC(), nil
	}
	n, err := json.Number(s).Float64()
	if err != nil || n < 0 || n > 1e14 {
		return time.Time{}, fmt.Errorf("its time %q is neither RFC 3339 nor Unix time", s)
	}
	if n > 1e11 { // seconds would be the year 5138
		n /= 1000
	}
	return time.UnixMicro(int64(math.Round(n * 1e6))).UTC(), nil
}
