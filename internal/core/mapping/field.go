// Package mapping says where the fields of a type come from in an item of another system, by JSONPath
// (RFC 9535), and brings their values over.
package mapping

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/ncruces/go-strftime"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// Field says where a field's value comes from: a path alone, or one of forms with what belongs
// to it.
type Field struct {
	Path   string // of the value; for a file, of its address
	Form   string // "", or one of forms
	Type   string // ref: the type it leads to, where the field allows several
	Origin string // ref: the origin it leads to; empty for the same
	// By is how a reference names the entry: key, which is the default, slug or path.
	By  string
	Alt string // file: path of the description
	// Constant is the same for all items.
	Constant any
	// Join are paths whose values are joined, with With between them; those that are found
	// nowhere are left out.
	Join []string
	With string
	// Layout is how a date is written, in the conversions of strptime (POSIX), as in %d.%m.%Y;
	// empty for RFC 3339, RFC 1123 and plain dates. Zone is where it is meant; empty for UTC.
	Layout, Zone string
	// Values are what values of the origin are here; one that is not among them is an error.
	Values map[string]any
	// Default is taken where nothing is found.
	Default any
	// Fields are those of a record.
	Fields map[string]Field
	// Kind finds, in each of the items at Path, of which kind of block it is; Kinds
	// says where the block's fields come from.
	// Direct leaves the address of a file as it is; else the file is mirrored.
	Direct bool
	Kind   string
	Kinds  map[string]map[string]Field
}

// forms are what a field may come from besides a path alone.
var forms = []string{"path", "value", "join", "date", "markdown", "html", "ref", "file", "record", "each"}

type fieldForm struct {
	Plain    string                      `yaml:"path"     json:"path,omitzero"`
	Value    any                         `yaml:"value"    json:"value,omitempty"`
	Join     []string                    `yaml:"join"     json:"join,omitzero"`
	With     string                      `yaml:"with"     json:"with,omitzero"`
	Date     string                      `yaml:"date"     json:"date,omitzero"`
	Layout   string                      `yaml:"layout"   json:"layout,omitzero"`
	Zone     string                      `yaml:"zone"     json:"zone,omitzero"`
	Values   map[string]any              `yaml:"values"   json:"values,omitzero"`
	Default  any                         `yaml:"default"  json:"default,omitempty"`
	Markdown string                      `yaml:"markdown" json:"markdown,omitzero"`
	HTML     string                      `yaml:"html"     json:"html,omitzero"`
	Ref      string                      `yaml:"ref"      json:"ref,omitzero"`
	By       string                      `yaml:"by"       json:"by,omitzero"`
	Type     string                      `yaml:"type"     json:"type,omitzero"`
	Origin   string                      `yaml:"origin"   json:"origin,omitzero"`
	File     string                      `yaml:"file"     json:"file,omitzero"`
	Alt      string                      `yaml:"alt"      json:"alt,omitzero"`
	Mirror   *bool                       `yaml:"mirror"   json:"mirror,omitzero"`
	Record   string                      `yaml:"record"   json:"record,omitzero"`
	Fields   map[string]Field            `yaml:"fields"   json:"fields,omitzero"`
	Each     string                      `yaml:"each"     json:"each,omitzero"`
	Kind     string                      `yaml:"kind"     json:"kind,omitzero"`
	Kinds    map[string]map[string]Field `yaml:"kinds" json:"kinds,omitzero"`
}

// path is where the form of the name has its path.
func (f *fieldForm) path(name string) *string {
	switch name {
	case "path":
		return &f.Plain
	case "date":
		return &f.Date
	case "markdown":
		return &f.Markdown
	case "html":
		return &f.HTML
	case "ref":
		return &f.Ref
	case "file":
		return &f.File
	case "record":
		return &f.Record
	case "each":
		return &f.Each
	}
	return nil
}

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (f *Field) UnmarshalYAML(node ast.Node) error {
	if text, ok := node.(*ast.StringNode); ok {
		f.Path = text.Value
		return nil
	}
	var form fieldForm
	if err := yaml.NodeToValue(node, &form, yaml.Strict()); err != nil {
		return err
	}
	f.Type, f.Origin, f.By, f.Alt, f.Kind, f.Kinds = form.Type, form.Origin, form.By, form.Alt, form.Kind, form.Kinds
	f.Constant, f.Join, f.With, f.Layout, f.Zone = form.Value, form.Join, form.With, form.Layout, form.Zone
	f.Values, f.Default, f.Fields = form.Values, form.Default, form.Fields
	f.Direct = form.Mirror != nil && !*form.Mirror
	given := 0
	for _, name := range forms {
		if path := form.path(name); path != nil && *path != "" {
			f.Form, f.Path = name, *path
			given++
		}
	}
	if f.Form == "path" {
		f.Form = ""
	}
	if form.Value != nil {
		f.Form = "value"
		given++
	}
	if len(form.Join) > 0 {
		f.Form = "join"
		given++
	}
	if given == 0 && len(form.Fields) > 0 {
		f.Form, f.Path = "record", "$"
		given++
	}
	switch {
	case given > 1:
		return fmt.Errorf("a field comes from one of %s, not from two", strings.Join(forms, ", "))
	case given == 0:
		return fmt.Errorf("a field comes from a path, or from one of %s", strings.Join(forms, ", "))
	}
	return nil
}

// MarshalJSON implements json.Marshaler.
func (f Field) MarshalJSON() ([]byte, error) {
	form := fieldForm{
		Type: f.Type, Origin: f.Origin, By: f.By, Alt: f.Alt, Kind: f.Kind, Kinds: f.Kinds, Value: f.Constant,
		Join: f.Join, With: f.With, Layout: f.Layout, Zone: f.Zone, Values: f.Values, Default: f.Default,
		Fields: f.Fields,
	}
	if f.Direct {
		form.Mirror = new(false)
	}
	if f.Form == "" && f.Values == nil && f.Default == nil {
		return json.Marshal(f.Path)
	}
	name := f.Form
	if name == "" {
		name = "path"
	}
	if path := form.path(name); path != nil {
		*path = f.Path
	}
	return json.Marshal(form)
}

var refBy = []string{"key", "slug", "path"}

func (f Field) layout() error {
	_, err := strftime.Layout(f.Layout)
	return err
}

func (f Field) zone() error {
	_, err := time.LoadLocation(f.Zone)
	if f.Zone == "Local" {
		err = errors.New("it is the machine's")
	}
	return err
}

// Check holds what is said of a field against the field of the type or block.
func (f Field) Check(t *model.Type, name, where string, add func(format string, args ...any)) {
	field := t.Field(name)
	switch {
	case field == nil:
		add("type %s has no field %q%s", where, name, strictyaml.DidYouMean(name, t.FieldNames()))
	case (field.Kind == model.Reference) != (f.Form == "ref"):
		add("field %s.%s: a reference, and nothing else, comes from {ref: path}", where, name)
	case f.By != "" && !slices.Contains(refBy, f.By):
		add("field %s.%s: a reference is by key, slug or path, not by %q", where, name, f.By)
	case f.Form == "date" && !slices.Contains([]model.Kind{model.Date, model.DateTime, model.Text}, field.Kind):
		add("field %s.%s: only dates, moments and text come from {date: path}", where, name)
	case f.layout() != nil:
		add("field %s.%s: layout: %q is not read; write it as in %%d.%%m.%%Y (strptime)", where, name, f.Layout)
	case f.zone() != nil:
		add("field %s.%s: zone: %q is no time zone; name one as in Europe/Oslo", where, name, f.Zone)
	case f.Form == "record" && field.Kind != model.Record:
		add("field %s.%s: records, and nothing else, come from {record: path, fields: {…}}", where, name)
	case f.Form == "record":
		inner := field.InnerType("")
		for one, from := range f.Fields {
			from.Check(inner, one, where+"."+name, add)
		}
	case field.Kind == model.Reference && len(field.Types) > 1 && !slices.Contains(field.Types, f.Type):
		add("field %s.%s may lead to several types; say which with {ref: path, type: name}", where, name)
	case f.Form == "html" && field.Kind != model.Prose && field.Kind != model.Text:
		add("field %s.%s: only prose and text come from {html: path}", where, name)
	case (field.Kind == model.Blocks) != (f.Form == "each"):
		add("field %s.%s: blocks, and nothing else, come from {each: path, kind: path, kinds: {…}}", where, name)
	case field.Kind == model.Blocks:
		for kind, fields := range f.Kinds {
			inner := field.InnerType(kind)
			if inner == nil {
				add("field %s.%s has no kind of block %q", where, name, kind)
				continue
			}
			for one, from := range fields {
				from.Check(inner, one, where+"."+name+"."+kind, add)
			}
		}
	}
}
