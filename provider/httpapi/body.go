package httpapi

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"text/template"
)

// A body makes the bodies of requests: one JSON text, or the fields of a form.
type body struct {
	json   *template.Template // nil for a form
	fields []field
}

// A field is one of a form's. Each has a template of its own, so that a value may have line ends.
type field struct {
	name  string
	value *template.Template
}

// awkward are values that a template has to be good for.
var awkward = Fields{ID: "1", From: "a@ternisle.example", FromName: "\"A\"", To: "b@ternisle.example",
	Subject: "\"quoted\" \\ \n", Text: "two\nlines", SMS: "two\nlines"}

// readBody reads the template of a configuration, and tries it.
func readBody(text string, form bool) (b body, err error) {
	if !form {
		b.json, err = parse(text, template.FuncMap{"json": toJSON, "base64": toBase64})
	} else {
		for line := range strings.Lines(text) {
			line = strings.TrimRight(line, "\r\n")
			if strings.TrimSpace(line) == "" {
				continue
			}
			name, value, found := strings.Cut(line, "=")
			if !found {
				return b, fmt.Errorf("the line %q has no =; write one name=value a line", line)
			}
			one := field{name: strings.TrimSpace(name)}
			if one.value, err = parse(value, template.FuncMap{"json": noJSON, "base64": toBase64}); err != nil {
				return b, err
			}
			b.fields = append(b.fields, one)
		}
	}
	if err == nil {
		_, _, err = b.make(awkward)
	}
	return b, err
}

func parse(text string, funcs template.FuncMap) (*template.Template, error) {
	return template.New("body").Option("missingkey=error").Funcs(funcs).Parse(text)
}

// make returns the body of a request and its media type.
func (b body) make(f Fields) ([]byte, string, error) {
	var out bytes.Buffer
	if b.json != nil {
		if err := b.json.Execute(&out, f); err != nil {
			return nil, "", err
		}
		if !json.Valid(out.Bytes()) {
			return nil, "",
				errors.New("the template does not make JSON; write values as {{json .Subject}}, without quotes " +
					"around them")
		}
		return out.Bytes(), "application/json", nil
	}
	form := make(url.Values)
	for _, one := range b.fields {
		out.Reset()
		if err := one.value.Execute(&out, f); err != nil {
			return nil, "", err
		}
		form.Add(one.name, out.String())
	}
	return []byte(form.Encode()), "application/x-www-form-urlencoded", nil
}

func toJSON(s string) (string, error) {
	b, err := json.Marshal(s)
	return string(b), err
}

func noJSON(string) (string, error) {
	return "", errors.New("a form has no JSON in it; write values as {{.SMS}}, whatever they hold")
}

func toBase64(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) }
