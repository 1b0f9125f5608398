package graphql

import (
	"maps"
	"slices"

	"github.com/vektah/gqlparser/v2/ast"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
)

// collect returns the fields that a selection asks of an object of the type,
// in order, fragments spread and conditions applied.
func (c *compiler) collect(set ast.SelectionSet, typ string) []merged {
	var out []merged
	var spread map[string]bool // fragments, each of which counts once
	var walk func(set ast.SelectionSet)
	walk = func(set ast.SelectionSet) {
		for _, sel := range set {
			if c.exhausted() {
				return
			}
			switch x := sel.(type) {
			case *ast.Field:
				if !c.included(x.Directives) {
					continue
				}
				i := slices.IndexFunc(out, func(m merged) bool { return m.Alias == x.Alias })
				if i < 0 {
					out = append(out, merged{Field: x, inner: x.SelectionSet})
				} else {
					out[i].inner = slices.Concat(out[i].inner, x.SelectionSet)
				}
			case *ast.InlineFragment:
				if c.included(x.Directives) && (x.TypeCondition == "" || c.applies(x.TypeCondition, typ)) {
					walk(x.SelectionSet)
				}
			case *ast.FragmentSpread:
				if !spread[x.Name] && c.included(x.Directives) && c.applies(x.Definition.TypeCondition, typ) {
					if spread == nil {
						spread = map[string]bool{}
					}
					spread[x.Name] = true
					walk(x.Definition.SelectionSet)
				}
			}
		}
	}
	walk(set)
	return out
}

func (c *compiler) applies(condition, typ string) bool {
	return condition == typ ||
		slices.ContainsFunc(
			c.s.parsed.PossibleTypes[condition], func(d *ast.Definition) bool { return d.Name == typ },
		)
}

func (c *compiler) included(directives ast.DirectiveList) bool {
	if d := directives.ForName("skip"); d != nil && d.ArgumentMap(c.vars)["if"] == true {
		return false
	}
	d := directives.ForName("include")
	return d == nil || d.ArgumentMap(c.vars)["if"] == true
}

// picks compiles what is asked of an entry that may be of any of the types.
func (c *compiler) picks(set ast.SelectionSet, types []*model.Type) []query.SelectedField {
	var blocks [][]query.SelectedField // a pick each, or a group with its members
	for _, t := range types {
		var on []string
		if len(types) > 1 {
			on = []string{t.Name}
		}
		for _, f := range c.collect(set, c.s.nameOf(t)) {
			block := c.group(f, t)
			if block == nil {
				block = []query.SelectedField{c.pick(f, t)}
			}
			i := slices.IndexFunc(blocks, func(o []query.SelectedField) bool { return same(o[0], block[0]) })
			if i >= 0 {
				blocks[i][0].On = append(blocks[i][0].On, on...)
				continue
			}
			for j := range block {
				block[j].On = on
			}
			blocks = append(blocks, block)
		}
	}
	for _, block := range blocks {
		if len(block[0].On) == len(types) {
			block[0].On = nil
		}
	}
	return slices.Concat(blocks...)
}

// same tells whether two picks of different types can be one.
func same(a, b query.SelectedField) bool {
	return a.Kind == b.Kind && a.As == b.As &&
		(a.Kind == query.PickID || a.Kind == query.PickType && maps.Equal(a.Names, b.Names))
}

func (c *compiler) pick(f merged, t *model.Type) query.SelectedField {
	p := query.SelectedField{As: f.Alias, Field: f.Name}
	switch f.Name {
	case "__typename":
		if name, ok := c.s.inner[t]; ok {
			return query.SelectedField{As: f.Alias, Kind: query.PickType, Names: map[string]string{t.Name: name}}
		}
		return query.SelectedField{As: f.Alias, Kind: query.PickType, Names: c.s.types}
	}
	field := t.Field(f.Name)
	switch {
	case field == nil && f.Name == "id":
		return query.SelectedField{As: f.Alias, Kind: query.PickID}
	case field == nil && f.Name == "about":
		return query.SelectedField{As: f.Alias, Kind: query.PickAbout, Parts: c.parts(f.inner, "About")}
	case field == nil:
		return c.back(f, t)
	}
	p.Several, p.Text = field.IsList(), query.IsText(field)
	switch field.Kind {
	case model.File:
		return c.file(p, f, field)
	case model.Prose, model.Money:
		p.Kind, p.Parts = query.PickParts, c.parts(f.inner, pascal(string(field.Kind)))
	case model.Location:
		p.Kind, p.Parts = query.PickParts, c.parts(f.inner, "Point")
	case model.Record, model.Blocks:
		return query.InnerPick(p, &query.Selection{Picks: c.picks(f.inner, field.Inner)})
	case model.Choice:
		p.Kind, p.Names = query.PickValue, map[string]string{}
		for _, o := range field.Options {
			p.Names[o.Value] = enumName(o.Value)
		}
	case model.Reference:
		p.Kind, p.Types = query.PickLink, field.Types
		var targets []*model.Type
		for _, n := range field.Types {
			targets = append(targets, c.s.model.Type(n))
		}
		p.Link = &query.Selection{Picks: c.picks(f.inner, targets)}
	default:
		p.Kind = query.PickValue
	}
	return p
}

// back compiles the list of those that refer to an entry of the type; a field of
// a block without fields is empty.
func (c *compiler) back(f merged, t *model.Type) query.SelectedField {
	b, ok := c.s.model.Back(t.Name, f.Name)
	if !ok {
		return query.SelectedField{As: f.Alias, Kind: query.PickValue, Field: f.Name}
	}
	p := query.SelectedField{
		As:      f.Alias,
		Kind:    query.PickBack,
		Several: true,
		Names:   c.s.types,
		List:    query.Selecting{Model: c.s.model}.Back(b),
	}
	if err := c.window(p.List, b.Type, f.ArgumentMap(c.vars)); err != nil {
		c.fail(f.Field, "%s", err)
		return p
	}
	p.Shape = c.connection(p.List, f.inner, b.Type)
	return p
}

func (c *compiler) parts(set ast.SelectionSet, typ string) []query.Part {
	var out []query.Part
	for _, f := range c.collect(set, typ) {
		part := query.PartOf(f.Alias, f.Name)
		if f.Name == "__typename" {
			part.Constant = typ
		}
		out = append(out, part)
	}
	return out
}
