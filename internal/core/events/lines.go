package events

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"iter"

	"github.com/illumicode/illumicode/event"
)

// JSONLines is the media type of an event whose recipients follow it, a line each.
const JSONLines = "application/jsonl"

// MaxLine bounds the line of a recipient, in bytes; that of the event has its data besides.
const MaxLine = 64 << 10

// A Recipient is who gets a letter, and what is the recipient's own in it.
type Recipient struct {
	Address, Name, Locale, Zone string
	Own                         map[string]any // its other members: values of its letter; nil for none
}

// RecipientOf reads an address, or an object with address, name, locale, zone and values of its own.
func RecipientOf(v any) (r Recipient, err error) {
	if text, ok := v.(string); ok {
		return Recipient{Address: text}, nil
	}
	object, ok := v.(map[string]any)
	if !ok {
		return r, errors.New("is neither an address nor an object with one")
	}
	fields := map[string]*string{"address": &r.Address, "name": &r.Name, "locale": &r.Locale, "zone": &r.Zone}
	for name, value := range object {
		to, known := fields[name]
		if known {
			if *to, ok = value.(string); !ok {
				return r, fmt.Errorf("has a %s that is no text", name)
			}
		}
		if !known || name == "name" {
			if r.Own == nil {
				r.Own = make(map[string]any)
			}
			r.Own[name] = value
		}
	}
	if r.Address == "" {
		return r, errors.New("has no address")
	}
	return r, nil
}

// Cut returns what stands at an RFC 6901 pointer in an event's values and, if that is a list, the values without it.
// The values are not changed.
func Cut(values map[string]any, pointer string) (at any, rest map[string]any, found bool) {
	at, found = At(values, pointer)
	if _, list := at.([]any); !list {
		return at, values, found
	}
	rest, _ = without(values, tokens(pointer)).(map[string]any)
	return at, rest, true
}

// without copies what leads to a member, and leaves that out. In a list its place stays.
func without(doc any, path []string) any {
	switch v := doc.(type) {
	case map[string]any:
		rest := make(map[string]any, len(v))
		for name, value := range v {
			if name != path[0] {
				rest[name] = value
			} else if len(path) > 1 {
				rest[name] = without(value, path[1:])
			}
		}
		return rest
	case []any:
		rest := make([]any, len(v))
		for i, value := range v {
			if fmt.Sprint(i) != path[0] {
				rest[i] = value
			} else if len(path) > 1 {
				rest[i] = without(value, path[1:])
			}
		}
		return rest
	}
	return doc
}

// Lines reads an event whose recipients follow it: JSON, a line each, and at the end {"end": N} with their number. It
// is for one goroutine. Use [ReadLines].
type Lines struct {
	Event event.Event

	in   *bufio.Reader
	sum  hash.Hash
	line int // that was read last, from 1
}

// ReadLines reads the event in the first line of r.
func ReadLines(r io.Reader) (*Lines, error) {
	l := &Lines{in: bufio.NewReaderSize(r, MaxLine), sum: sha256.New()}
	raw, err := l.next(MaxData + MaxLine)
	if errors.Is(err, io.EOF) {
		err = errors.New("there is no event, as nothing came")
	}
	if err != nil {
		return nil, malformed(err)
	}
	if l.Event, err = parse(raw); err != nil {
		return nil, malformed(fmt.Errorf("line 1: %w", err))
	}
	return l, nil
}

func malformed(err error) error { return fmt.Errorf("%w: %w", event.ErrMalformed, err) }

// Digest returns a digest of what was read. After [Lines.Recipients] has ended it is that of the whole.
func (l *Lines) Digest() string { return hex.EncodeToString(l.sum.Sum(nil)) }

// Line returns the number of the line that was read last, from 1.
func (l *Lines) Line() int { return l.line }

// Recipients yields the recipients, and after them the error, if any, with its line: also where the end is missing, or
// says another number than came. What comes after an error, or once the caller has stopped, is not read.
func (l *Lines) Recipients() iter.Seq2[Recipient, error] {
	return func(yield func(Recipient, error) bool) {
		for n := 0; ; n++ {
			r, ended, err := l.recipient(n)
			switch {
			case err != nil:
				yield(r, malformed(err))
				return
			case ended || !yield(r, nil):
				return
			}
		}
	}
}

// recipient reads the next one, or the end after n of them.
func (l *Lines) recipient(n int) (r Recipient, ended bool, err error) {
	raw, err := l.next(MaxLine)
	switch {
	case errors.Is(err, io.EOF):
		return r, false, fmt.Errorf("it ends after line %d, without its last line {\"end\": %d}: something was cut off",
			l.line, n)
	case err != nil:
		return r, false, err
	}
	at := func(err error) error { return fmt.Errorf("line %d: %w", l.line, err) }
	var v any
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	if err := dec.Decode(&v); err != nil || dec.More() {
		return r, false, at(errors.New("is not one JSON value: an address, an object with one, or the end"))
	}
	if object, ok := v.(map[string]any); ok && len(object) == 1 && object["end"] != nil {
		if said := fmt.Sprint(object["end"]); said != fmt.Sprint(n) {
			return r, false, at(fmt.Errorf("the end says %s recipients, and %d came", said, n))
		}
		if _, err := l.next(MaxLine); !errors.Is(err, io.EOF) {
			return r, false, at(errors.New("something comes after the end"))
		}
		return r, true, nil
	}
	if r, err = RecipientOf(v); err != nil {
		return r, false, at(fmt.Errorf("the recipient %w", err))
	}
	return r, false, nil
}

// next returns the next line that is not empty, of at most some bytes, or [io.EOF].
func (l *Lines) next(most int) (line []byte, err error) {
	for {
		l.line++
		var whole []byte
		for more := true; more; {
			part, err := l.in.ReadSlice('\n')
			more = errors.Is(err, bufio.ErrBufferFull)
			whole = append(whole, part...)
			switch {
			case len(whole) > most:
				return nil, fmt.Errorf("line %d has more than %d bytes", l.line, most)
			case err != nil && !more && !errors.Is(err, io.EOF):
				return nil, fmt.Errorf("line %d cannot be read: %w", l.line, err)
			case errors.Is(err, io.EOF) && len(bytes.TrimSpace(whole)) == 0:
				l.line--
				return nil, io.EOF
			}
		}
		if whole = bytes.TrimSpace(whole); len(whole) > 0 {
			l.sum.Write(append(whole, '\n'))
			return whole, nil
		}
	}
}
