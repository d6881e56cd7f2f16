package events

import (
	"errors"
	"strings"
	"testing"

	"github.com/illumicode/illumicode/event"
)

func TestParse(t *testing.T) {
	const one = `{"specversion":"1.0","source":"/quay","id":"1","type":"x","time":"2031-03-04T05:06:07Z",` +
		`"comexampleextension":7,"data":{"a":{"b/c":[1,"two"]}}}`
	for _, tt := range []struct {
		kind, body string
		n          int
		want       string // of the error
	}{
		{Single + "; charset=utf-8", one, 1, ""},
		{"", " " + one, 1, ""},
		{Batch, "[" + one + "," + one + "]", 2, ""},
		{"", "[]", 0, ""},
		{"text/plain", one, 0, "content type"},
		{Single, "[" + one + "]", 0, "not a JSON object"},
		{Batch, "[" + one + `,{"specversion":"1.0"}]`, 0, `event 2 of 2: "source" is missing`},
		{Single, strings.Replace(one, `"1.0"`, `"0.3"`, 1), 0, "specversion"},
		{Single, strings.Replace(one, `"id":"1"`, `"id":1`, 1), 0, `"id" is not a string`},
		{Single, strings.Replace(one, "2031-03-04T05:06:07Z", "tomorrow", 1), 0, "RFC 3339"},
		{Single, strings.Replace(one, `"data":`, `"data_base64":"AA","data":`, 1), 0, "not JSON"},
		{Single, strings.Replace(one, `"type":"x"`, `"type":"x","datacontenttype":"text/csv"`, 1), 0, "not JSON"},
		{Single, strings.Replace(one, `"type":"x"`, `"type":"x","my_field":1`, 1), 0, "lower-case"},
		{Single, strings.Replace(one, `"two"`, `"`+strings.Repeat("x", MaxData)+`"`, 1), 0, "bytes"},
	} {
		all, err := Parse(tt.kind, []byte(tt.body))
		switch {
		case tt.want != "" && (err == nil || !errors.Is(err, event.ErrMalformed) ||
			!strings.Contains(err.Error(), tt.want)):
			t.Errorf("%s %.80s: %v, want %q", tt.kind, tt.body, err, tt.want)
		case tt.want == "" && (err != nil || len(all) != tt.n):
			t.Errorf("%s %.80s: %d events, %v", tt.kind, tt.body, len(all), err)
		}
	}
	e, err := Parse(Single, []byte(one))
	if err != nil {
		t.Fatal(err)
	}
	values, err := Values(e[0])
	if err != nil {
		t.Fatal(err)
	}
	for pointer, want := range map[string]any{"/a/b~1c/1": "two", "/a/b~1c/2": nil, "/a/x": nil, "/a/b~1c/1/z": nil,
		"/a/b~1c/-1": nil} {
		if got, found := At(values, pointer); got != want || found != (want != nil) {
			t.Errorf("%s: %v, %v; want %v", pointer, got, found, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(`{"specversion":"1.0","source":"/quay","id":"1","type":"x","data":{"a":1}}`)
	f.Add(`[{}]`)
	f.Fuzz(func(t *testing.T, body string) {
		all, err := Parse("", []byte(body))
		for _, e := range all {
			if err != nil || Check(e) != nil {
				t.Errorf("an event of %q that was not checked: %+v, %v", body, e, err)
			}
		}
	})
}
