// Package jsonpath finds values in decoded JSON by JSONPath (RFC 9535).
package jsonpath

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"github.com/speakeasy-api/jsonpath/pkg/jsonpath"
	yamlnode "gopkg.in/yaml.v3"
)

// Set are compiled expressions by their text. It is safe for concurrent use once it is made.
type Set map[string]*expression

// expression is one of them: where it only follows names, and ends in all elements of a list
// perhaps, the steps are walked without the library.
type expression struct {
	whole *jsonpath.JSONPath
	names []string
	each  bool
	plain bool
}

var plainPath = regexp.MustCompile(`^\$((?:\.[A-Za-z_][A-Za-z0-9_]*)*)(\[\*\])?$`)

// Add compiles an expression; the empty one finds nothing. Its error names what is wrong.
func (s Set) Add(text string) error {
	if text == "" || s[text] != nil {
		return nil
	}
	whole, err := jsonpath.NewPath(text)
	if err != nil {
		return fmt.Errorf("%q is no JSONPath (RFC 9535): %w", text, err)
	}
	e := &expression{whole: whole}
	if m := plainPath.FindStringSubmatch(text); m != nil {
		e.plain, e.each = true, m[2] != ""
		if m[1] != "" {
			e.names = strings.Split(m[1][1:], ".")
		}
	}
	s[text] = e
	return nil
}

// All returns what an expression of the set finds in a value, both as encoding/json decodes.
func (s Set) All(text string, in any) ([]any, error) {
	e := s[text]
	if e == nil {
		return nil, nil
	}
	if e.plain {
		return e.walk(in), nil
	}
	var node yamlnode.Node
	if err := node.Encode(in); err != nil {
		return nil, err
	}
	var out []any
	for _, n := range e.whole.Query(&node) {
		var v any
		if err := n.Decode(&v); err != nil {
			return nil, err
		}
		src, err := json.Marshal(v)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(src, &v); err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

func (e *expression) walk(in any) []any {
	for _, name := range e.names {
		object, _ := in.(map[string]any)
		inner, is := object[name]
		if !is {
			return nil
		}
		in = inner
	}
	if !e.each {
		return []any{in}
	}
	switch v := in.(type) {
	case []any:
		return append([]any(nil), v...)
	case map[string]any:
		out := make([]any, 0, len(v))
		for _, one := range v {
			out = append(out, one)
		}
		return out
	}
	return nil
}

// First returns the first value that an expression finds; nil for none.
func (s Set) First(text string, in any) (any, error) {
	found, err := s.All(text, in)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return found[0], nil
}

// Text returns the first value as a text; empty for none.
func (s Set) Text(text string, in any) (string, error) {
	v, err := s.First(text, in)
	if err != nil {
		return "", err
	}
	return Text(v), nil
}

// Text writes a value as a text: whole numbers without an exponent, null as nothing.
func Text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case float64:
		if src, err := json.Marshal(v); err == nil && v == float64(int64(v)) {
			return strings.TrimSuffix(string(src), ".0")
		}
	}
	return fmt.Sprint(v)
}
