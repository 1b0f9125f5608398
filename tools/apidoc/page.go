package main

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ubiquon/internal/server/controlapi"
	"ubiquon/internal/server/operation"
)

const pageIntroduction = `# Control endpoints

For those who automate what the console and the command line do. After reading you can call every
operation, and know what it takes and what it may answer.

This page is made from the same declarations as the service's OpenAPI 3.1 document, which it serves
at /control/v1/openapi.json: do not edit it, run go run ./tools/apidoc.

All addresses are below /control/v1. Bodies are JSON in UTF-8, and so are answers, unless said
otherwise. Who makes a request sends a key or a token (Authorization: Bearer …), or the cookie of a
signed-in account; see [access](access.md) for grants. Preview links are refused. Errors are problem
documents (RFC 9457) whose type is /problems/ and the kind. Any operation may answer with the kinds
parameter, no-key, bad-key, grant, principal, away, too-slow and internal; those that read a body also
with body and too-large; those that change something also with cross-site and idempotency.

A write may be sent again with the same Idempotency-Key, and is made once: see
[reliability](../reliability.md). One that takes longer than eight seconds, or is sent with Prefer:
respond-async, is answered with 202 and a Location that tells its outcome. With Prefer: wait=5 an edit
is answered when every node has applied it, or with 202 and the nodes that have not.

An operation that answers with NDJSON sends its progress, one JSON object a line. An error after the
first line is the last line: {"problem": …}.

Beside them the service answers GET /health/live, GET /health/ready and GET /metrics (Prometheus; for
loopback, the networks in metrics.allow, and keys that administer).
`

// schema is a JSON Schema, as far as the page shows it.
type schema struct {
	Ref         string             `json:"$ref"`
	Type        any                `json:"type"`
	Format      string             `json:"format"`
	Description string             `json:"description"`
	Enum        []any              `json:"enum"`
	Items       *schema            `json:"items"`
	Values      *schema            `json:"additionalProperties"`
	Properties  map[string]*schema `json:"properties"`
	Required    []string           `json:"required"`
	AnyOf       []*schema          `json:"anyOf"`
}

// UnmarshalJSON implements json.Unmarshaler: the schema true takes any value.
func (s *schema) UnmarshalJSON(src []byte) error {
	if string(src) == "true" {
		*s = schema{}
		return nil
	}
	type plain schema
	return json.Unmarshal(src, (*plain)(s))
}

// parsed is an OpenAPI document, as far as the page shows it.
type parsed struct {
	Paths map[string]map[string]struct {
		Parameters []struct {
			Name, In, Description string
			Schema                *schema
		}
		RequestBody *struct {
			Content map[string]struct{ Schema *schema }
		}
		Responses map[string]struct {
			Content map[string]struct{ Schema *schema }
		}
	}
	Components struct{ Schemas map[string]*schema }
}

// writePage returns the reference page.
func writePage(document []byte) ([]byte, error) {
	var doc parsed
	if err := json.Unmarshal(document, &doc); err != nil {
		return nil, err
	}
	out := &strings.Builder{}
	out.WriteString(pageIntroduction)
	area := ""
	shown := map[string]bool{}
	for _, op := range controlapi.Operations() {
		if op.Area != area {
			area = op.Area
			fmt.Fprintf(out, "\n## %s\n", area)
		}
		one := doc.Paths[op.Path][strings.ToLower(op.Method)]
		fmt.Fprintf(out, "\n### %s %s\n\n", op.Method, op.Path)
		wrap(out, "", op.Summary+". "+taken(op))
		if len(one.Parameters) > 0 {
			out.WriteString("\nParameters:\n\n")
		}
		for _, p := range one.Parameters {
			member(out, p.Name, p.Schema, p.In == "path", p.Description)
		}
		if one.RequestBody != nil {
			for _, kind := range slices.Sorted(maps.Keys(one.RequestBody.Content)) {
				s := doc.resolve(one.RequestBody.Content[kind].Schema)
				if kind != "application/json" {
					fmt.Fprintf(out, "\nBody: `%s`.\n", kind)
					continue
				}
				out.WriteString("\nBody:\n\n")
				doc.members(out, s)
			}
		}
		for _, kind := range slices.Sorted(maps.Keys(one.Responses["200"].Content)) {
			s := one.Responses["200"].Content[kind].Schema
			as := ""
			if kind != "application/json" {
				as = " (`" + kind + "`)"
			}
			wrap(out, "\n", "Answer"+as+": "+typeName(s)+".")
			doc.note(shown, s)
		}
		if len(op.Problems) > 0 {
			wrap(out, "\n", "Problems: "+strings.Join(op.Problems, ", ")+".")
		}
	}
	out.WriteString("\n## Types\n")
	for _, name := range slices.Sorted(maps.Keys(shown)) {
		s := doc.Components.Schemas[name]
		fmt.Fprintf(out, "\n### %s\n\n", name)
		if s.Description != "" {
			wrap(out, "", s.Description)
			out.WriteString("\n")
		}
		doc.members(out, s)
	}
	return []byte(out.String()), nil
}

// taken says who may use an operation.
func taken(op *operation.Operation) string {
	var who []string
	for _, kind := range op.Permit.Kinds {
		who = append(who, string(kind))
	}
	out := "For: " + strings.Join(who, ", ") + "."
	if op.Permit.Grant != "" {
		out += " Takes " + op.Permit.Grant + "."
	}
	if op.Permit.Proved {
		out += " An account must have given its password within ten minutes."
	}
	return out
}

// resolve follows a reference.
func (d *parsed) resolve(s *schema) *schema {
	if s != nil && s.Ref != "" {
		return d.Components.Schemas[refName(s)]
	}
	return s
}

func refName(s *schema) string { return s.Ref[strings.LastIndex(s.Ref, "/")+1:] }

// note has the types shown that a schema refers to, and those that these refer to.
func (d *parsed) note(shown map[string]bool, s *schema) {
	if s == nil {
		return
	}
	if s.Ref != "" {
		if name := refName(s); !shown[name] {
			shown[name] = true
			d.note(shown, d.Components.Schemas[name])
		}
		return
	}
	d.note(shown, s.Items)
	d.note(shown, s.Values)
	for _, one := range s.AnyOf {
		d.note(shown, one)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
		d.note(shown, s.Properties[name])
	}
}

// members lists the members of an object, or says what else a type is.
func (d *parsed) members(out *strings.Builder, s *schema) {
	if len(s.Properties) == 0 {
		wrap(out, "", cmp.Or(typeName(s), "any value")+".")
		return
	}
	for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
		p := s.Properties[name]
		member(out, name, p, slices.Contains(s.Required, name), p.Description)
	}
}

func member(out *strings.Builder, name string, s *schema, required bool, about string) {
	text := "- `" + name + "` " + typeName(s)
	if !required {
		text += ", optional"
	}
	if len(s.Enum) > 0 {
		var values []string
		for _, v := range s.Enum {
			values = append(values, fmt.Sprint(v))
		}
		text += ", one of " + strings.Join(values, ", ")
	}
	if about != "" {
		text += ": " + about
	}
	wrap(out, "", text)
}

// typeName says of what type a value is.
func typeName(s *schema) string {
	switch {
	case s == nil:
		return "any value"
	case s.Ref != "":
		return "[" + refName(s) + "](#" + strings.ToLower(refName(s)) + ")"
	case len(s.AnyOf) > 0:
		var all []string
		for _, one := range s.AnyOf {
			all = append(all, typeName(one))
		}
		return strings.Join(all, " or ")
	case s.Items != nil:
		return "list of " + typeName(s.Items)
	case s.Values != nil:
		return "object of " + typeName(s.Values)
	}
	var all []string
	switch t := s.Type.(type) {
	case string:
		all = append(all, t)
	case []any:
		for _, one := range t {
			if one != "null" {
				all = append(all, one.(string))
			}
		}
		if slices.Contains(t, any("null")) {
			all = append(all, "null")
		}
	default:
		return "any value"
	}
	if s.Format == "date-time" {
		all[0] = "time"
	}
	return strings.Join(all, " or ")
}

// wrap writes a paragraph in lines of at most 100 columns; those of an item of a list are
// indented.
func wrap(out *strings.Builder, before, text string) {
	out.WriteString(before)
	indent := ""
	if strings.HasPrefix(text, "- ") {
		indent = "  "
	}
	width := 0
	for _, word := range strings.Fields(text) {
		switch {
		case width == 0:
		case width+1+len([]rune(word)) > 100:
			out.WriteString("\n" + indent)
			width = len(indent)
		default:
			out.WriteString(" ")
			width++
		}
		out.WriteString(word)
		width += len([]rune(word))
	}
	out.WriteString("\n")
}
