package event

import (
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"ubiquon/internal/core/jsonpath"
	"ubiquon/internal/core/strictyaml"
)

// The forms that announcements may have.
const (
	CloudEvents = "cloudevents" // CloudEvents 1.0, structured, binary or batched; the default
	JSON        = "json"        // any JSON, read by a mapping
	Form        = "form"        // application/x-www-form-urlencoded, read by the same mapping
	XMLRPC      = "xmlrpc"      // weblogUpdates.ping and extendedPing
	Push        = "push"        // what hosts of repositories send when something is pushed
	Bare        = "bare"        // anything at all: something has changed
)

// Forms lists them.
var Forms = []string{CloudEvents, JSON, Form, XMLRPC, Push, Bare}

// MaxAtOnce bounds the announcements of one call.
const MaxAtOnce = 500

// Format says how announcements are read.
type Format struct {
	Name string
	// Mapping is for json and form.
	Mapping Mapping
	// Branch is for push: pushes to other branches are not acted on. Empty for all.
	Branch string
	paths  jsonpath.Set
}

// Mapping finds in a JSON value, by JSONPath (RFC 9535), what it announces. A form is read as an
// object of its values; those that are JSON are read as that.
type Mapping struct {
	// Event finds what happened, and Values says which of its values means what; one that is
	// not among them is not understood. Without Event everything means published.
	Event  string            `yaml:"event"  json:"event,omitzero"`
	Values map[string]string `yaml:"values" json:"values,omitzero"`
	// ID finds what the sender calls the announcement.
	ID string `yaml:"id" json:"id,omitzero"`
	// Kind finds of which kind the entry is, or says it: a text that does not begin with $.
	Kind string `yaml:"kind" json:"kind,omitzero"`
	// Key finds what the origin calls the entry; where it finds several, each is announced.
	// Without it everything is a ping.
	Key string `yaml:"key" json:"key,omitzero"`
	// At finds when it happened (RFC 3339).
	At string `yaml:"at" json:"at,omitzero"`
}

type formatForm struct {
	JSON *Mapping `yaml:"json" json:"json,omitzero"`
	Form *Mapping `yaml:"form" json:"form,omitzero"`
	Push *struct {
		Branch string `yaml:"branch" json:"branch,omitzero"`
	} `yaml:"push" json:"push,omitzero"`
}

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (f *Format) UnmarshalYAML(node ast.Node) error {
	if text, ok := node.(*ast.StringNode); ok {
		if !slices.Contains(Forms, text.Value) {
			return fmt.Errorf("decode: there is no form %q%s", text.Value, strictyaml.DidYouMean(text.Value, Forms))
		}
		f.Name = text.Value
		return f.compile()
	}
	var form formatForm
	if err := yaml.NodeToValue(node, &form, yaml.Strict()); err != nil {
		return err
	}
	given := 0
	if form.JSON != nil {
		f.Name, f.Mapping = JSON, *form.JSON
		given++
	}
	if form.Form != nil {
		f.Name, f.Mapping = Form, *form.Form
		given++
	}
	if form.Push != nil {
		f.Name, f.Branch = Push, form.Push.Branch
		given++
	}
	if given != 1 {
		return errors.New("decode is a word, as in bare, or one of json, form and push with what belongs to it")
	}
	return f.compile()
}

// MarshalJSON implements json.Marshaler.
func (f Format) MarshalJSON() ([]byte, error) {
	switch f.Name {
	case JSON, Form:
		return json.Marshal(map[string]Mapping{f.Name: f.Mapping})
	case Push:
		if f.Branch != "" {
			return json.Marshal(map[string]map[string]string{Push: {"branch": f.Branch}})
		}
	}
	return json.Marshal(f.Name)
}

// IsZero tells that nothing is said, which means CloudEvents.
func (f Format) IsZero() bool { return f.Name == "" }

func (f *Format) compile() error {
	f.paths = jsonpath.Set{}
	m := f.Mapping
	for _, text := range []string{m.Event, m.ID, m.Kind, m.Key, m.At} {
		if !strings.HasPrefix(text, "$") {
			continue
		}
		if err := f.paths.Add(text); err != nil {
			return fmt.Errorf("decode: %w", err)
		}
	}
	return nil
}

// Check returns what is wrong with the format, a line each. kinds are those of the origin.
func (f *Format) Check(kinds []string) (wrong []string) {
	add := func(format string, args ...any) { wrong = append(wrong, "decode: "+fmt.Sprintf(format, args...)) }
	m := f.Mapping
	for name, text := range map[string]string{"event": m.Event, "id": m.ID, "key": m.Key, "at": m.At} {
		if text != "" && !strings.HasPrefix(text, "$") {
			add("%s: %q is no JSONPath; it begins with $", name, text)
		}
	}
	for value, means := range m.Values {
		if !slices.Contains(Kinds, means) {
			add("values: %q means %q; it may be %s", value, means, strings.Join(Kinds, ", "))
		}
	}
	switch {
	case f.Name != JSON && f.Name != Form || m.Key == "":
	case m.Kind == "" && len(kinds) > 1:
		add("kind is missing: the origin has %s", strings.Join(kinds, ", "))
	case m.Kind != "" && !strings.HasPrefix(m.Kind, "$") && !slices.Contains(kinds, m.Kind):
		add("kind: the origin has no kind %q%s", m.Kind, strictyaml.DidYouMean(m.Kind, kinds))
	}
	slices.Sort(wrong)
	return wrong
}

// ContentTypeError is the error of a body in a format that is not read; its text says what is.
type ContentTypeError struct{ text string }

// Error implements error.
func (e *ContentTypeError) Error() string { return e.text }

// Decode reads what a call announces. kinds are those of the origin; where there is one, a mapping
// need not name it. Its error is a *ContentTypeError, or says why the body cannot be read.
func (f *Format) Decode(header http.Header, body []byte, kinds []string) ([]Announcement, error) {
	switch f.Name {
	case JSON:
		v, err := parse(body)
		if err != nil {
			return nil, err
		}
		return f.mapped(v, body, kinds)
	case Form:
		v, err := formValues(header, body)
		if err != nil {
			return nil, err
		}
		return f.mapped(v, body, kinds)
	case XMLRPC:
		return decodePing(body)
	case Push:
		return f.pushed(header, body)
	case Bare:
		return []Announcement{{Decoded: Decoded{Kind: Ping}, Body: body}}, nil
	}
	return decodeCloudEvents(header, body)
}

func parse(body []byte) (v any, err error) {
	if depth := nesting(body); depth > strictyaml.MaxNesting {
		return nil, fmt.Errorf("the body is nested more than %d deep", strictyaml.MaxNesting)
	}
	if err := json.Unmarshal(body, &v); err != nil {
		return nil, fmt.Errorf("the body is no JSON: %w", err)
	}
	return v, nil
}

// nesting is how deep JSON is nested, at most.
func nesting(src []byte) (most int) {
	depth, inText := 0, false
	for i := 0; i < len(src); i++ {
		switch c := src[i]; {
		case inText && c == '\\':
			i++
		case c == '"':
			inText = !inText
		case inText:
		case c == '{' || c == '[':
			depth++
			most = max(most, depth)
		case c == '}' || c == ']':
			depth--
		}
	}
	return most
}

// formValues reads a form as an object.
func formValues(header http.Header, body []byte) (any, error) {
	if media, _, _ := mime.ParseMediaType(header.Get("Content-Type")); media != "application/x-www-form-urlencoded" {
		return nil, &ContentTypeError{"send a form, with the content type application/x-www-form-urlencoded"}
	}
	values, err := url.ParseQuery(string(body))
	if err != nil {
		return nil, fmt.Errorf("the body is no form: %w", err)
	}
	out := map[string]any{}
	for name, given := range values {
		out[name] = given[0]
		if inner, err := parse([]byte(given[0])); err == nil {
			out[name] = inner
		}
	}
	return out, nil
}

// mapped reads a JSON value by the mapping.
func (f *Format) mapped(v any, body []byte, kinds []string) ([]Announcement, error) {
	m := f.Mapping
	one := Announcement{Decoded: Decoded{Kind: Published}, Body: body}
	var err error
	if one.ID, err = f.paths.Text(m.ID, v); err != nil {
		return nil, err
	}
	at, err := f.paths.Text(m.At, v)
	if err != nil {
		return nil, err
	}
	if parsed, err := time.Parse(time.RFC3339, at); err == nil {
		parsed = parsed.UTC()
		one.At = &parsed
	}
	if m.Event != "" {
		said, err := f.paths.Text(m.Event, v)
		if err != nil {
			return nil, err
		}
		means, known := m.Values[said]
		if !known {
			one.Unknown = fmt.Sprintf("%s is %q, of which the mapping does not say what it means", m.Event, said)
			return []Announcement{one}, nil
		}
		one.Kind = means
	}
	if m.Key == "" || one.Kind == Ping {
		one.Kind = Ping
		return []Announcement{one}, nil
	}
	if one.OriginKind = m.Kind; strings.HasPrefix(m.Kind, "$") {
		if one.OriginKind, err = f.paths.Text(m.Kind, v); err != nil {
			return nil, err
		}
	} else if m.Kind == "" && len(kinds) == 1 {
		one.OriginKind = kinds[0]
	}
	found, err := f.paths.All(m.Key, v)
	if err != nil {
		return nil, err
	}
	if len(found) > MaxAtOnce {
		return nil, fmt.Errorf("%s finds %d keys, at most %d are read", m.Key, len(found), MaxAtOnce)
	}
	var out []Announcement
	for i, key := range found {
		each := one
		if each.Key = jsonpath.Text(key); each.Key == "" || strings.ContainsFunc(each.Key, unicode.IsControl) {
			continue
		}
		if each.ID != "" && i > 0 {
			each.ID = fmt.Sprintf("%s/%d", one.ID, i)
		}
		out = append(out, each)
	}
	if len(out) == 0 {
		one.Unknown = "nothing is found at " + m.Key
		out = append(out, one)
	}
	return out, nil
}

// pushed reads what a host of repositories sends: JSON, or a form whose payload is JSON, with the
// branch as ref.
func (f *Format) pushed(header http.Header, body []byte) ([]Announcement, error) {
	src := body
	if media, _, _ := mime.ParseMediaType(header.Get("Content-Type")); media == "application/x-www-form-urlencoded" {
		values, err := url.ParseQuery(string(body))
		if err != nil {
			return nil, fmt.Errorf("the body is no form: %w", err)
		}
		src = []byte(values.Get("payload"))
	}
	one := Announcement{Decoded: Decoded{Kind: Ping}, Body: body}
	v, err := parse(src)
	if err != nil {
		return nil, err
	}
	object, _ := v.(map[string]any)
	ref, _ := object["ref"].(string)
	if branch := strings.TrimPrefix(ref, "refs/heads/"); f.Branch != "" && ref != "" && branch != f.Branch {
		one.Unknown = fmt.Sprintf("the push is to %s; the branch %s is read", ref, f.Branch)
	}
	return []Announcement{one}, nil
}
