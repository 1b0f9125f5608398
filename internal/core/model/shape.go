package model

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"ubiquon/internal/core/strictyaml"
)

// Shape is a form of entries that front ends ask for by name, whatever types it stands for.
type Shape struct {
	Name string `json:"name"`
	Help string `json:"help,omitempty"`
	// Of are the types that can be had in it.
	Of     []string     `json:"of"`
	Fields []ShapeField `json:"fields"`
}

// ShapeField is a member of a shape: a selection, in the syntax of the parameter fields.
type ShapeField struct {
	Name string `json:"name"`
	// Each is the selection for every type; By has those of types that differ; a type in neither has null.
	Each string            `json:"each,omitempty"`
	By   map[string]string `json:"by,omitempty"`
}

// For is the selection of the field for a type; empty for none.
func (f *ShapeField) For(typ string) string {
	if text, is := f.By[typ]; is {
		return text
	}
	return f.Each
}

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (f *ShapeField) UnmarshalYAML(node ast.Node) error {
	if text, is := node.(*ast.StringNode); is {
		f.Each = text.Value
		return nil
	}
	if err := yaml.NodeToValue(node, &f.By); err != nil || len(f.By) == 0 {
		return errors.New("a selection is needed, as in text(plain), or one by type: {dispatch: lead(plain)}")
	}
	return nil
}

type shapeForm struct {
	Help   string                         `yaml:"help"`
	Of     []string                       `yaml:"of"`
	Fields strictyaml.Ordered[ShapeField] `yaml:"fields"`
}

// Shape returns a shape by its name; nil if there is none.
func (m *Model) Shape(name string) *Shape {
	if i := slices.IndexFunc(m.Shapes, func(s Shape) bool { return s.Name == name }); i >= 0 {
		return &m.Shapes[i]
	}
	return nil
}

// WithShapes returns the model with other shapes. Its error is strictyaml.Mistakes; what they select is
// checked by who compiles them.
func (m *Model) WithShapes(shapes []Shape) (*Model, error) {
	out := *m
	out.Shapes = slices.Clone(shapes)
	r := reader{m: &out}
	if r.checkShapes(); r.found != nil {
		return nil, r.found
	}
	return &out, nil
}

// ShapeNames lists the shapes.
func (m *Model) ShapeNames() (out []string) {
	for _, s := range m.Shapes {
		out = append(out, s.Name)
	}
	return out
}

func (r *reader) shapes(file string, form strictyaml.Ordered[shapeForm]) {
	for _, item := range form {
		key := "shape " + item.Name
		if !r.once(key, file, item.Line, item.Column, key) {
			continue
		}
		s := Shape{Name: item.Name, Help: item.Value.Help, Of: item.Value.Of}
		for _, f := range item.Value.Fields {
			s.Fields = append(s.Fields, ShapeField{f.Name, f.Value.Each, f.Value.By})
		}
		r.m.Shapes = append(r.m.Shapes, s)
	}
}

// checkShapes checks what shapes say of themselves; their selections are checked by who compiles them.
func (r *reader) checkShapes() {
	slices.SortFunc(r.m.Shapes, func(a, b Shape) int { return bytes.Compare([]byte(a.Name), []byte(b.Name)) })
	for _, s := range r.m.Shapes {
		key := "shape " + s.Name
		switch {
		case !typeName.MatchString(s.Name):
			r.add(key, "%q is no name of a shape; write it as in wide-teaser", s.Name)
		case len(s.Of) == 0:
			r.add(key, "%s: of is missing; it names the types that can be had in the shape", key)
		case len(s.Fields) == 0:
			r.add(key, "%s has no fields", key)
		}
		for _, typ := range s.Of {
			if r.m.Type(typ) == nil {
				r.add(key, "%s: there is no type %q%s", key, typ, strictyaml.DidYouMean(typ, r.m.TypeNames()))
			}
		}
		for _, f := range s.Fields {
			if !fieldName.MatchString(f.Name) {
				r.add(key, "%s: %q is no name of a field; write it as in firstPublished", key, f.Name)
			}
			if slices.Contains(TakenFieldNames, f.Name) {
				r.add(key, "%s: the name %s is taken by the entry itself; choose another", key, f.Name)
			}
			for typ := range f.By {
				if !slices.Contains(s.Of, typ) {
					r.add(key, "%s.%s: the shape is not of the type %q%s", key, f.Name, typ,
						strictyaml.DidYouMean(typ, s.Of))
				}
			}
		}
	}
}

func (s *Shape) yaml(b *bytes.Buffer) {
	fmt.Fprintf(b, "  %s:\n", s.Name)
	if s.Help != "" {
		fmt.Fprintf(b, "    help: %s\n", scalar(s.Help))
	}
	fmt.Fprintf(b, "    of: [%s]\n    fields:\n", strings.Join(s.Of, ", "))
	for _, f := range s.Fields {
		if f.By == nil {
			fmt.Fprintf(b, "      %s: %s\n", f.Name, scalar(f.Each))
			continue
		}
		var in flow
		for _, typ := range slices.Sorted(maps.Keys(f.By)) {
			in.text(typ, f.By[typ])
		}
		fmt.Fprintf(b, "      %s: %s\n", f.Name, in.line())
	}
}

// shapes compares the shapes of two models.
func (c *comparison) shapes() {
	for _, old := range c.from.Shapes {
		d := Difference{Where: "shape " + old.Name, What: "changed", Severity: Safe, Text: "reads in it have another form"}
		switch now := c.to.Shape(old.Name); {
		case now == nil:
			d.What, d.Severity, d.Text = "removed", BreaksReads, "requests that name it fail"
		case reflect.DeepEqual(&old, now):
			continue
		default:
			for _, f := range old.Fields {
				if !slices.ContainsFunc(now.Fields, func(n ShapeField) bool { return n.Name == f.Name }) {
					d.Severity, d.Text = BreaksReads, "the member "+f.Name+" goes"
				}
			}
			for _, typ := range old.Of {
				if !slices.Contains(now.Of, typ) && c.conversion.Type(typ) != nil {
					d.Severity, d.Text = BreaksReads, "it is not of "+typ+" any more"
				}
			}
		}
		c.add(d)
	}
	for i := range c.to.Shapes {
		if now := &c.to.Shapes[i]; c.from.Shape(now.Name) == nil {
			text := fmt.Sprintf("a new shape with %d members", len(now.Fields))
			c.add(Difference{Where: "shape " + now.Name, What: "added", Severity: Safe, Text: text})
		}
	}
}
