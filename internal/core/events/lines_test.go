package events

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/illumicode/illumicode/event"
)

const head = `{"specversion":"1.0","source":"/quay","id":"1","type":"x","data":{"pier":"9"}}` + "\n"

func read(r io.Reader) (all []Recipient, digest string, err error) {
	l, err := ReadLines(r)
	if err != nil {
		return nil, "", err
	}
	for r, err := range l.Recipients() {
		if err != nil {
			return all, "", err
		}
		all = append(all, r)
	}
	return all, l.Digest(), nil
}

func TestLines(t *testing.T) {
	good := head + "\"mara@ternisle.example\"\n\n" +
		`{"address":"jens@ternisle.example","name":"Jens","locale":"de","seat":"4A"}` + "\r\n" + `{"end": 2}`
	whole, digest, err := read(strings.NewReader(good))
	if err != nil || len(whole) != 2 || whole[1].Locale != "de" ||
		!maps.Equal(whole[1].Own, map[string]any{"seat": "4A", "name": "Jens"}) {
		t.Fatalf("%+v, %v", whole, err)
	}
	for name, r := range map[string]io.Reader{"byte by byte": iotest.OneByteReader(strings.NewReader(good)),
		"by halves": iotest.HalfReader(strings.NewReader(good)), "the end with its data": iotest.DataErrReader(
			strings.NewReader(good + "\n"))} {
		if all, same, err := read(r); err != nil || len(all) != 2 || same != digest {
			t.Errorf("%s: %+v, %v, digest %s instead of %s", name, all, err, same, digest)
		}
	}
	many := head + strings.Repeat("\"mara@ternisle.example\"\n", 89_998)
	for name, tt := range map[string]struct{ body, want string }{
		"cut off":       {many, `it ends after line 89999, without its last line {"end": 89998}`},
		"cut in a line": {head + `"mara@ternis`, "line 2: is not one JSON value"},
		"another number": {head + "\"mara@ternisle.example\"\n{\"end\": 2}",
			"line 3: the end says 2 recipients, and 1 came"},
		"goes on":        {head + "{\"end\": 0}\n\"mara@ternisle.example\"", "something comes after the end"},
		"a line of 2 MB": {head + `"` + strings.Repeat("x", 2<<20) + `"`, "line 2 has more than 65536 bytes"},
		"no address": {many + `{"name":"Jens"}` + "\n{\"end\": 89999}",
			"line 90000: the recipient has no address"},
		"two in a line": {head + `"a@b.example" "c@d.example"`, "line 2: is not one JSON value"},
		"a number":      {head + "7\n{\"end\": 1}", "line 2: the recipient is neither an address"},
		"no event":      {"\"mara@ternisle.example\"\n{\"end\": 1}", "line 1: it is not a JSON object"},
		"nothing":       {"", "nothing came"},
		"a large event": {strings.Replace(head, `"9"`, `"`+strings.Repeat("x", MaxData)+`"`, 1), "more than"},
		"a name, no string": {head + `{"address":"a@b.example","name":7}` + "\n{\"end\": 1}",
			"has a name that is no text"},
	} {
		if _, _, err := read(strings.NewReader(tt.body)); !errors.Is(err, event.ErrMalformed) ||
			!strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", name, err, tt.want)
		}
	}
	broken := errors.New("the cable was cut")
	if _, _, err := read(io.MultiReader(strings.NewReader(head), iotest.ErrReader(broken))); !errors.Is(err, broken) {
		t.Errorf("a reader that fails: %v", err)
	}
}

func TestCut(t *testing.T) {
	e := event.Event{Data: []byte(`{"a":{"list":["x"],"b":1},"c":[{"list":["y"]}],"one":{"address":"z"}}`)}
	values, err := Values(e)
	if err != nil {
		t.Fatal(err)
	}
	before := fmt.Sprint(values)
	for pointer, want := range map[string]string{
		"/a/list":   "map[a:map[b:1] c:[map[list:[y]]] one:map[address:z]]",
		"/c/0/list": "map[a:map[b:1 list:[x]] c:[map[]] one:map[address:z]]",
		"/one":      before, // no list, and so a value of the letter
		"/none":     before,
	} {
		at, rest, found := Cut(values, pointer)
		if fmt.Sprint(rest) != want || found != (pointer != "/none") || found && at == nil {
			t.Errorf("%s: %v at %v, %v; want %s", pointer, rest, at, found, want)
		}
	}
	if fmt.Sprint(values) != before {
		t.Errorf("the values became %v", values)
	}
}
