package filter

import (
	"fmt"
	"slices"
	"strings"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// abouts are the properties that every entry has, with their kinds.
var abouts = map[string]Kind{"id": Text, "published": Timestamp, "firstPublished": Timestamp, "updated": Timestamp}

var aboutNames = []string{"id", "published", "firstPublished", "updated"}

// kinds says how the values of a kind of field are compared.
var kinds = map[model.Kind]Kind{
	model.Text: Text, model.Slug: Text, model.Choice: Text, model.Reference: Text, model.Integer: Number,
	model.Decimal: Number,
	model.Boolean: Boolean, model.Date: Date, model.DateTime: Timestamp,
}

// find finds the property that a dotted name leads to, from the entries of a
// type. The error speaks of the part of the name that is wrong; then the name is what
// was found before.
func find(m *model.Model, t *model.Type, dotted string) (*Name, error) {
	n := &Name{}
	parts := strings.Split(dotted, ".")
	types := []*model.Type{t}
	for i := 0; ; i++ {
		if i == len(parts) {
			return n, fmt.Errorf(
				"%s leads to entries; name one of their properties, as in %s.%s", dotted, dotted, suggestion(types),
			)
		}
		part := parts[i]
		last := i == len(parts)-1
		if kind, is := abouts[part]; is && last {
			if n.Field, n.Kind = part, kind; part != "id" {
				n.Field = "about." + part
			}
			n.indexed = part != "updated"
			return n, nil
		}
		field, back := property(m, types, part)
		switch {
		case field == nil && back == nil:
			return n, unknown(m, types, part)
		case back != nil:
			n.Steps = append(
				n.Steps,
				Step{Name: part, Field: back.Field.Name, Types: []string{back.Type.Name}, Several: true, Back: true},
			)
			types = []*model.Type{back.Type}
		case field.Kind == model.Reference && !last:
			s := Step{Name: part, Field: field.Name, Several: field.Several}
			for _, from := range types {
				f := from.Field(part)
				if f == nil {
					continue
				}
				if f.Kind != model.Reference || f.Several != s.Several {
					return n, notTheSame(part, parts[:i])
				}
				s.Types = append(s.Types, f.Types...)
			}
			slices.Sort(s.Types)
			s.Types = slices.Compact(s.Types)
			n.Steps = append(n.Steps, s)
			types = nil
			for _, name := range s.Types {
				types = append(types, m.Type(name))
			}
		default:
			var leads []string
			for _, other := range types {
				if f := other.Field(part); f != nil && f.Kind == model.Reference {
					leads = append(leads, f.Types...)
				}
				if f := other.Field(part); f != nil && (f.Kind != field.Kind || f.IsList() != field.IsList()) {
					return n, notTheSame(part, parts[:i])
				}
			}
			n.Field = part
			err := n.value(field, parts[i+1:])
			if n.leads != nil {
				slices.Sort(leads)
				n.leads = slices.Compact(leads)
			}
			return n, err
		}
		if len(n.Steps) > MaxSteps {
			return n, fmt.Errorf("%s enters %d references; at most %d", dotted, len(n.Steps), MaxSteps)
		}
	}
}

func notTheSame(part string, way []string) error {
	return fmt.Errorf("%s is not the same in every type that %s may lead to", part, strings.Join(way, "."))
}

// property returns the field of that name that one of the types has, or the way
// back.
func property(m *model.Model, types []*model.Type, name string) (*model.Field, *model.Back) {
	for _, t := range types {
		if f := t.Field(name); f != nil {
			return f, nil
		}
	}
	for _, t := range types {
		if b, ok := m.Back(t.Name, name); ok {
			return nil, &b
		}
	}
	return nil, nil
}

// value sets what the name's field holds; inner are the members that are named of
// it.
func (n *Name) value(f *model.Field, inner []string) error {
	switch {
	case f.Kind == model.Money && len(inner) == 0:
		n.Inner, n.Kind = []string{"amount"}, Number
	case f.Kind == model.Money && len(inner) == 1 && (inner[0] == "amount" || inner[0] == "currency"):
		n.Inner, n.Kind = inner, map[string]Kind{"amount": Number, "currency": Text}[inner[0]]
	case f.Kind == model.Record && len(inner) > 0 && !f.Several:
		member := f.Inner[0].Field(inner[0])
		if member == nil {
			return fmt.Errorf(
				"%s has nothing named %q%s", f.Name, inner[0],
				strictyaml.DidYouMean(inner[0], f.Inner[0].FieldNames()),
			)
		}
		n.Inner = append(n.Inner, inner[0])
		return n.value(member, inner[1:])
	case len(inner) > 0:
		return fmt.Errorf("%s has no parts that a filter could name", f.Name)
	default:
		for _, o := range f.Options {
			n.options = append(n.options, o.Value)
		}
		n.Slug = f.Kind == model.Slug
		n.indexed = f.Indexed || f.Unique || n.Slug
		if f.Kind == model.Reference {
			n.leads = slices.Sorted(slices.Values(f.Types))
		}
		n.Kind = kinds[f.Kind]
		if n.Kind == "" {
			n.Kind = Other
		}
	}
	if n.Several = f.IsList(); n.Several && n.Kind != Text && n.Kind != Number && n.Kind != Boolean {
		n.Kind = Other
	}
	return nil
}

func suggestion(types []*model.Type) string {
	if f := types[0].SlugField(); f != nil {
		return f.Name
	}
	return "id"
}

func unknown(m *model.Model, types []*model.Type, part string) error {
	var known, names []string
	for _, t := range types {
		names = append(names, t.Name)
		known = append(known, t.FieldNames()...)
		for _, b := range m.Backs(t.Name) {
			known = append(known, b.Name)
		}
	}
	known = append(known, aboutNames...)
	slices.Sort(known)
	return fmt.Errorf(
		"%s has no property %q%s", strings.Join(names, " or "), part,
		strictyaml.DidYouMean(part, slices.Compact(known)),
	)
}
