package web

import (
	"encoding/json"
	"maps"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/core/events"
)

// describe returns the OpenAPI 3.1 description of calls. It is made of what serves them, so that it
// cannot say anything else. They are below base.
func describe(calls []call, base string) []byte {
	paths := make(map[string]map[string]any)
	for _, c := range calls {
		if paths[c.path] == nil {
			paths[c.path] = make(map[string]any)
		}
		paths[c.path][strings.ToLower(c.method)] = operation(c)
	}
	types := make([]string, len(kinds))
	for i, kind := range kinds {
		types[i] = problemType + kind
	}
	text := map[string]any{"type": "string"}
	all := map[string]any{
		"openapi": "3.1.0",
		"info": map[string]any{"title": "Illumicode", "version": "1",
			"description": "Signup confirmation, re-verification and sign-in by code."},
		"paths": paths,
		"components": map[string]any{
			"securitySchemes": map[string]any{
				"key": map[string]any{"type": "http", "scheme": "bearer", "description": "the application's key"}},
			"schemas": map[string]any{"Problem": map[string]any{
				"type": "object", "required": []string{"type", "title", "status", "detail"},
				"properties": map[string]any{
					"type": map[string]any{"type": "string", "enum": types}, "title": text,
					"status": map[string]any{"type": "integer"}, "detail": text,
					"at": map[string]any{"type": "string", "format": "date-time",
						"description": "too-soon: when the same call will do"},
					"rule": map[string]any{
						"type":        "string",
						"description": "too-soon: the limit that refused; missing where it is the letter's own wait"},
					"limit": map[string]any{"type": "string", "description": "too-soon: what that limit allows"},
					"vouch": map[string]any{"type": "boolean",
						"description": "too-soon: the same call passes at once with vouched"},
					"member": map[string]any{
						"type": "string", "description": "missing: the member of the body that is missing or empty"},
					"request": map[string]any{
						"type": "string", "description": "internal: what names the request in the log"},
					"tries_left": map[string]any{
						"type": "integer", "description": "wrong-code: how many tries are left"},
				},
			}},
		},
	}
	if base != "" {
		all["servers"] = []any{map[string]any{"url": base}}
	}
	out, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		panic(err) // maps, strings and numbers always marshal
	}
	return append(out, '\n')
}

// inLines describes an event whose recipients follow it.
const inLines = "an event, then a recipient a line: an address, or an object with address, name, locale, zone and " +
	`values of its own; at last {"end": N} with their number. Without that line nothing is taken`

// operation describes one call.
func operation(c call) map[string]any {
	op := map[string]any{
		"summary": c.summary, "operationId": operationID(c),
		"responses": map[string]any{
			strconv.Itoa(c.status): map[string]any{
				"description": "done", "content": jsonOf("application/json", schemaOf(reflect.TypeOf(c.out)))},
			"default": map[string]any{"description": "a problem (RFC 9457)",
				"content": jsonOf("application/problem+json", ref("Problem"))},
		},
	}
	if c.in != nil {
		content := jsonOf("application/json", schemaOf(reflect.TypeOf(c.in)))
		if _, yes := c.in.(cloudEvent); yes {
			one := schemaOf(reflect.TypeOf(c.in))
			content = jsonOf(events.Single, one)
			maps.Copy(content, jsonOf(events.Batch, map[string]any{"type": "array", "items": one}))
			maps.Copy(content, jsonOf(events.JSONLines, map[string]any{"type": "string", "description": inLines}))
		}
		op["requestBody"] = map[string]any{"required": true, "content": content}
	}
	if c.keyed {
		op["security"] = []any{map[string]any{"key": []string{}}}
	}
	var parameters []any
	for _, part := range strings.Split(c.path, "/") {
		if name, ok := strings.CutPrefix(part, "{"); ok {
			parameters = append(parameters, map[string]any{"name": strings.TrimSuffix(name, "}"), "in": "path",
				"required": true, "schema": map[string]any{"type": "string"}})
		}
	}
	if parameters != nil {
		op["parameters"] = parameters
	}
	return op
}

// operationID names a call by its path: "proof.code". What is not posted has the method at its end.
func operationID(c call) string {
	id := strings.NewReplacer("/v1/", "", "/{subject}", "", "s/{id}", "", "/", ".").Replace(c.path)
	if c.method == "POST" {
		return id
	}
	return id + "." + strings.ToLower(c.method)
}

func jsonOf(kind string, schema any) map[string]any {
	return map[string]any{kind: map[string]any{"schema": schema}}
}

func ref(name string) map[string]any {
	return map[string]any{"$ref": "#/components/schemas/" + name}
}

// schemaOf returns the JSON Schema of a type that calls take or answer.
func schemaOf(t reflect.Type) map[string]any {
	switch {
	case t == reflect.TypeFor[time.Time]():
		return map[string]any{"type": "string", "format": "date-time"}
	case t.Kind() == reflect.Bool:
		return map[string]any{"type": "boolean"}
	case t.Kind() == reflect.Int:
		return map[string]any{"type": "integer"}
	case t.Kind() == reflect.String:
		return map[string]any{"type": "string"}
	case t.Kind() == reflect.Interface:
		return map[string]any{}
	case t.Kind() == reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem())}
	}
	properties, required := make(map[string]any), []string{}
	for _, f := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous || name == "" {
			continue
		}
		p := schemaOf(f.Type)
		if about := f.Tag.Get("about"); about != "" {
			p["description"] = about
		}
		properties[name] = p
		if f.Tag.Get("is") == "required" {
			required = append(required, name)
			if f.Type.Kind() == reflect.String {
				p["minLength"] = 1
			}
		}
	}
	schema := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		schema["required"] = required
	}
	return schema
}
