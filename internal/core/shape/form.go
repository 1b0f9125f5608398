package shape

import (
	"slices"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
)

// Form is what a value in an answer looks like.
type Form struct {
	// Kind is text, number, integer, boolean, any or object. Of an object, Members are what it has.
	Kind    string
	Members []Member
	// List says that there are several, and Nullable that there may be none.
	List, Nullable bool
	// Options are what a text may be, where that is known.
	Options []string
}

// Member is a named part of an object.
type Member struct {
	Name string
	Form Form
}

// FormOf is the form of entries in a shape. Of what is published, fields that are required have a value;
// drafts may lack it.
func FormOf(m *model.Model, name string, published bool) (Form, error) {
	types, err := Types(m, name)
	if err != nil {
		return Form{}, err
	}
	sel, err := Selecting(query.Selecting{Model: m, Locale: m.Default()}).Shape(name, types)
	if err != nil {
		return Form{}, err
	}
	return forming{m, published}.object(&sel, types), nil
}

// forming says what answers look like, in an edition.
type forming struct {
	m         *model.Model
	published bool
}

// object is the form of entries, records or blocks of some types. What differs from type to type may be
// anything.
func (w forming) object(sel *query.Selection, types []*model.Type) Form {
	out := Form{Kind: "object"}
	for i := range sel.Picks {
		p := &sel.Picks[i]
		one := w.form(p, types)
		at := slices.IndexFunc(out.Members, func(o Member) bool { return o.Name == p.As })
		if at < 0 {
			out.Members = append(out.Members, Member{p.As, one})
			continue
		}
		out.Members[at].Form = either(out.Members[at].Form, one)
	}
	return out
}

// either is the form of what has one of two forms.
func either(a, b Form) Form {
	switch {
	case a.Kind == "null":
		b.Nullable = true
		return b
	case b.Kind == "null":
		a.Nullable = true
		return a
	case a.Kind == "integer" && b.Kind == "number", a.Kind == "number" && b.Kind == "integer":
		a.Kind, b.Kind = "number", "number"
		return either(a, b)
	case a.Kind != b.Kind || a.List != b.List:
		return Form{Kind: "any", Nullable: true}
	}
	a.Nullable = a.Nullable || b.Nullable
	a.Options = nil
	for _, theirs := range b.Members {
		at := slices.IndexFunc(a.Members, func(o Member) bool { return o.Name == theirs.Name })
		if at < 0 {
			theirs.Form.Nullable = true
			a.Members = append(a.Members, theirs)
			continue
		}
		a.Members[at].Form = either(a.Members[at].Form, theirs.Form)
	}
	return a
}

// form is that of a pick of entries of the types.
func (w forming) form(p *query.SelectedField, types []*model.Type) (out Form) {
	first := true
	for _, t := range types {
		if p.On != nil && !slices.Contains(p.On, t.Name) {
			continue
		}
		if one := w.of(p, t.Field(p.Field)); first {
			out, first = one, false
		} else {
			out = either(out, one)
		}
	}
	return out
}

// of is the form of a pick that may be of a field.
func (w forming) of(p *query.SelectedField, f *model.Field) Form {
	out := Form{Kind: "any", Nullable: true, List: p.Several}
	switch p.Kind {
	case query.PickNull:
		return Form{Kind: "null", Nullable: true}
	case query.PickID, query.PickType:
		return Form{Kind: "text"}
	case query.PickAbout, query.PickParts, query.PickFile:
		members := parts(p)
		if p.Flat {
			out.Kind, out.Options = members[0].Form.Kind, nil
			if members[0].Form.List {
				out.Kind = "any"
			}
		} else {
			out.Kind, out.Members, out.Nullable = "object", members, p.Kind != query.PickAbout
		}
	case query.PickLink:
		inner := w.object(p.Link, named(w.m, p.Types))
		out.Kind, out.Members = inner.Kind, inner.Members
	case query.PickInner:
		if f != nil {
			inner := w.object(p.Link, f.Inner)
			out.Kind, out.Members = inner.Kind, inner.Members
		}
	case query.PickBack:
		inner := w.object(&p.List.Selection, named(w.m, []string{p.List.Type}))
		out.Kind, out.Members, out.List = inner.Kind, inner.Members, true
	case query.PickValue:
		if f == nil {
			break
		}
		out.Nullable = !f.NeverNull() && !(w.published && f.Required && !f.Translated)
		switch f.Kind {
		case model.Integer:
			out.Kind = "integer"
		case model.Decimal:
			out.Kind = "number"
		case model.Boolean:
			out.Kind = "boolean"
		case model.Choice:
			if out.Kind = "text"; p.Both {
				out.Kind = "object"
				out.Members = []Member{{"value", Form{Kind: "text"}}, {"label", Form{Kind: "text"}}}
			} else if p.Label == nil {
				for _, o := range f.Options {
					out.Options = append(out.Options, o.Value)
				}
			}
		case model.Money:
			out.Kind = "object"
			out.Members = []Member{{"amount", Form{Kind: "integer"}}, {"currency", Form{Kind: "text"}}}
		case model.Text, model.Slug, model.Date, model.DateTime:
			out.Kind = "text"
		}
	}
	if out.List {
		out.Nullable = false
	}
	return out
}

// integers are the parts, of whatever object, that are whole numbers, and lists those that are lists.
var (
	integers = []string{"width", "height", "bytes", "frames", "amount", "revision"}
	lists    = []string{"locales", "srcset", "coordinates", "ast", "headings"}
)

func parts(p *query.SelectedField) (out []Member) {
	for _, part := range p.Parts {
		one := Form{Kind: "text", Nullable: true}
		switch {
		case slices.Contains(integers, part.Name):
			one.Kind = "integer"
		case slices.Contains(lists, part.Name), part.Rendition != nil, part.Inner != nil:
			one.Kind = "any"
		case !part.Text && part.Constant == "":
			one.Kind = "any"
		}
		out = append(out, Member{part.As, one})
	}
	return out
}

func named(m *model.Model, names []string) (out []*model.Type) {
	for _, name := range names {
		if t := m.Type(name); t != nil {
			out = append(out, t)
		}
	}
	return out
}

// JSONSchema is the form as JSON Schema 2020-12.
func (f Form) JSONSchema() map[string]any {
	one := map[string]any{}
	switch f.Kind {
	case "text":
		one["type"] = "string"
		if f.Options != nil {
			one["enum"] = f.Options
		}
	case "number", "integer", "boolean", "null":
		one["type"] = f.Kind
	case "object":
		properties, required := map[string]any{}, []string{}
		for _, m := range f.Members {
			properties[m.Name] = m.Form.JSONSchema()
			required = append(required, m.Name)
		}
		one["type"], one["properties"], one["required"] = "object", properties, required
	}
	if f.List {
		return map[string]any{"type": "array", "items": one}
	}
	if f.Nullable && f.Kind != "any" && f.Kind != "null" {
		return map[string]any{"anyOf": []any{one, map[string]any{"type": "null"}}}
	}
	return one
}
