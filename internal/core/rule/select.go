package rule

import (
	"errors"
	"strings"

	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/model"
)

// entryOf names the type that has the properties of a type's entries, and type.
func entryOf(typ string) string { return "an entry of " + typ }

// entryType describes the entries of a type with their type as a property.
func entryType(t *model.Type, types []string) *model.Type {
	f := &model.Field{Name: "type", Kind: model.Choice}
	for _, name := range types {
		f.Options = append(f.Options, model.Option{Value: name, Label: name})
	}
	out := &model.Type{Name: entryOf(t.Name), Plural: entryOf(t.Name), Fields: []*model.Field{f}}
	for _, field := range t.Fields {
		if field.Name != "type" && field.Inverse == "" {
			out.Fields = append(out.Fields, field)
		} else if field.Name != "type" {
			forward := *field
			forward.Inverse = "" // the way back leads to the type itself
			out.Fields = append(out.Fields, &forward)
		}
	}
	return out
}

// Selected is what a filter of a step means: entries of one type; all of them if Filter is nil.
type Selected struct {
	Type   string
	Filter *filter.Filter
}

var errNoType = errors.New("say of which type the entries are, as in type = 'NAME' AND …")

// Select reads the filter of a step, in which type = 'NAME' must be joined with AND.
func (v *Vocabulary) Select(text string) (Selected, error) {
	if !strings.Contains(text, "type") {
		return Selected{}, errNoType
	}
	var first error
	for _, name := range v.typesOf(&Rule{}) {
		f, err := filter.Parse(text, v.m, v.m.Type(entryOf(name)))
		if err != nil {
			if first == nil || strings.Contains(text, "'"+name+"'") {
				first = err // of the type that it speaks of
			}
			continue
		}
		parts := []filter.Expr{f.Expr}
		if and, ok := f.Expr.(filter.And); ok {
			parts = and.Parts
		}
		named := false
		var rest []filter.Expr
		for _, p := range parts {
			if c, ok := p.(filter.Compare); ok && c.Op == "=" && c.Left.Name != nil &&
				isProperty("type")(c.Left.Name) &&
				c.Right.Value != nil {
				named = c.Right.Value.Text == name
				continue
			}
			rest = append(rest, p)
		}
		switch {
		case !named:
			continue
		case len(rest) == 0:
			return Selected{Type: name}, nil
		case len(rest) == 1:
			return Selected{Type: name, Filter: &filter.Filter{Expr: rest[0], Type: name}}, nil
		}
		return Selected{Type: name, Filter: &filter.Filter{Expr: filter.And{Parts: rest}, Type: name}}, nil
	}
	if first != nil {
		return Selected{}, first
	}
	return Selected{}, errNoType
}
