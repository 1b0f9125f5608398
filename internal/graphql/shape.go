package graphql

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/vektah/gqlparser/v2/ast"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/shape"
)

// shaped is a shape of the model in the schema.
type shaped struct {
	shape *model.Shape
	// typ is the object type of the shape, and having the interface of those that can be had in it,
	// by their field of that name.
	typ, having, field string
}

// nameShapes gives the shapes their names, which no type or field has.
func (s *Schema) nameShapes() {
	s.shapesOf = map[*model.Type][]shaped{}
	for i := range s.model.Shapes {
		one := shaped{shape: &s.model.Shapes[i]}
		one.typ = s.name(pascal(one.shape.Name), "Shape")
		one.having = s.name("Has"+one.typ, "Shape")
		one.field = "as" + one.typ
		for slices.ContainsFunc(one.shape.Of, func(of string) bool {
			t := s.model.Type(of)
			_, back := s.model.Back(of, one.field)
			return t != nil && t.Field(one.field) != nil || back
		}) {
			one.field += "Shape"
		}
		s.shapes = append(s.shapes, one)
		for _, of := range one.shape.Of {
			if t := s.model.Type(of); t != nil {
				s.shapesOf[t] = append(s.shapesOf[t], one)
			}
		}
	}
}

// writeShapes writes an object type and an interface for each shape.
func (s *Schema) writeShapes(b *strings.Builder) error {
	s.shapeNames = map[string]string{}
	for _, one := range s.shapes {
		form, err := shape.FormOf(s.model, one.shape.Name, false)
		if err != nil {
			return err
		}
		s.writeForm(b, one.typ, one.shape.Help, one.typ, form)
		fmt.Fprintf(b, "\n%s\ninterface %s {\n  id: ID!\n  %s: %s!\n}\n",
			strconv.Quote("What can be had in the shape "+one.shape.Name+"."), one.having, one.field, one.typ)
	}
	return nil
}

// writeForm writes the object type of a form. path is where the form is within its shape.
func (s *Schema) writeForm(b *strings.Builder, name, says, path string, form shape.Form) {
	var inner strings.Builder
	s.shapeNames[path] = name
	b.WriteByte('\n')
	if says != "" {
		b.WriteString(strconv.Quote(says) + "\n")
	}
	fmt.Fprintf(b, "type %s {\n", name)
	for _, m := range form.Members {
		var own string
		switch m.Form.Kind {
		case "text":
			own = "String"
		case "number":
			own = "Float"
		case "integer":
			own = "Integer"
		case "boolean":
			own = "Boolean"
		case "object":
			own = s.name(name+pascal(m.Name), "Value")
			s.writeForm(&inner, own, "", path+"."+m.Name, m.Form)
		default:
			own = "JSON"
		}
		if m.Name == "id" && path == name {
			own = "ID!"
		}
		if m.Form.List {
			own = "[" + own + "!]"
		}
		fmt.Fprintf(b, "  %s: %s\n", m.Name, own)
	}
	b.WriteString("}\n" + inner.String())
}

// group compiles what is asked of an entry in a shape: an object of the picks that follow it. It is nil
// if the field is another one.
func (c *compiler) group(f merged, t *model.Type) []query.SelectedField {
	shapes := c.s.shapesOf[t]
	i := slices.IndexFunc(shapes, func(o shaped) bool { return o.field == f.Name })
	if i < 0 {
		return nil
	}
	group := query.SelectedField{As: f.Alias, Kind: query.PickGroup}
	locale := cmp.Or(c.locale, c.s.model.Default())
	selecting := shape.Selecting(query.Selecting{Model: c.s.model, Locale: locale, Files: c.s.files})
	sel, err := selecting.Shape(shapes[i].shape.Name, []*model.Type{t})
	if err != nil {
		c.fail(f.Field, "%s", err)
	}
	members := c.members(f.inner, shapes[i].typ, sel.Picks, []string{t.Name})
	group.Members = len(members)
	return append([]query.SelectedField{group}, members...)
}

// members are what is asked of an object of a shape, of what the shape has there. What it has for some
// types only is null for the others.
func (c *compiler) members(
	set ast.SelectionSet, path string, from []query.SelectedField, types []string,
) (out []query.SelectedField) {
	for _, f := range c.collect(set, c.s.shapeNames[path]) {
		if f.Name == "__typename" {
			out = append(out, query.SelectedField{
				As: f.Alias, Kind: query.PickAbout, Flat: true, Parts: []query.Part{{Constant: c.s.shapeNames[path]}},
			})
			continue
		}
		others := slices.Clone(types)
		for _, p := range from {
			if p.As == f.Name {
				others = slices.DeleteFunc(
					others,
					func(t string) bool { return p.On == nil || slices.Contains(p.On, t) },
				)
				out = append(out, c.narrowed(p, f, path+"."+f.Name))
			}
		}
		if len(others) > 0 {
			out = append(out, query.SelectedField{As: f.Alias, Kind: query.PickNull, On: others})
		}
	}
	return out
}

// narrowed is a member of a shape as far as it is asked for.
func (c *compiler) narrowed(p query.SelectedField, f merged, path string) query.SelectedField {
	p.As = f.Alias
	typ, isObject := c.s.shapeNames[path]
	if !isObject {
		return p
	}
	switch p.Kind {
	case query.PickLink:
		p.Link = &query.Selection{Picks: c.members(f.inner, path, p.Link.Picks, p.Types)}
	case query.PickInner:
		var kinds []string // none for a record
		for _, inner := range p.Link.Picks {
			kinds = append(kinds, inner.On...)
		}
		return query.InnerPick(p, &query.Selection{Picks: c.members(f.inner, path, p.Link.Picks, kinds)})
	case query.PickBack:
		list := *p.List
		list.Selection = query.Selection{Picks: c.members(f.inner, path, list.Selection.Picks, []string{list.Type})}
		p.List = &list
	default:
		if p.Kind == query.PickValue && !p.Both {
			p.Kind = query.PickParts // money
		}
		known := p.Parts
		p.Parts = nil
		for _, one := range c.collect(f.inner, typ) {
			part := query.PartOf(one.Alias, one.Name)
			if at := slices.IndexFunc(known, func(k query.Part) bool { return k.As == one.Name }); at >= 0 {
				part = known[at]
				part.As = one.Alias
			}
			if one.Name == "__typename" {
				part.Constant = typ
			}
			p.Parts = append(p.Parts, part)
		}
	}
	return p
}
