package query

import (
	"maps"
	"slices"
	"strings"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// In returns the selection as it is in a locale that the result has told.
func (s Selection) In(locale string) Selection {
	out := Selection{Picks: slices.Clone(s.Picks)}
	for i := range out.Picks {
		p := &out.Picks[i]
		if own := p.Labels[locale]; own != nil {
			p.Label = own
		}
		if p.Link != nil {
			link := p.Link.In(locale)
			p.Link = &link
		}
		if p.List != nil {
			list := *p.List
			list.Selection = list.Selection.In(locale)
			p.List = &list
		}
	}
	return out
}

// innerFields adds the named fields of a record or block.
func (s Selecting) innerFields(sel *Selection, t *model.Type, nodes []node, where string) error {
	wanted := map[string]node{}
	for _, n := range nodes {
		f := t.Field(n.name)
		if n.args != nil && f != nil && f.Kind != model.File {
			return failAt(n.at, "take the square brackets out", "%s.%s takes no arguments", where, n.name)
		}
		if f == nil {
			return failAt(
				n.at, strings.TrimPrefix(strictyaml.DidYouMean(n.name, t.FieldNames()), "; "),
				"there is no field %q in %s", n.name, where,
			)
		}
		wanted[n.name] = n
	}
	return s.fields(sel, []*model.Type{t}, wanted, where+".")
}

// Back returns the list of the entries that refer to the one at hand, without a
// selection: newest first, the default number at most.
func (s Selecting) Back(b model.Back) *Root {
	list := &Root{By: ByBack, Type: b.Type.Name, Field: b.Field.Name, Limit: DefaultLimit}
	_ = list.SortBy(b.Type, nil) // cannot fail
	return list
}

func (s Selecting) back(b model.Back, n node, where string) (SelectedField, error) {
	p := SelectedField{As: b.Name, Kind: PickBack, Several: true, List: s.Back(b)}
	for _, name := range slices.Sorted(maps.Keys(n.args)) {
		value := n.args[name]
		var err error
		switch name {
		case "limit":
			p.List.Limit, err = ParseLimit("fields", value)
		case "sort":
			err = p.List.SortBy(b.Type, strings.Split(value, ","))
		case "filter":
			p.List.Filter, err = ParseFilter("fields", value, s.Model, b.Type)
		default:
			err = failAt(
				n.at, strings.TrimPrefix(strictyaml.DidYouMean(name, []string{"limit", "sort", "filter"}), "; "),
				"%s takes no argument %q", where, name,
			)
		}
		if err != nil {
			return p, err
		}
	}
	if !n.given {
		n.nested = []node{{name: "about", given: true, nested: []node{{name: "type"}}}}
		if f := b.Type.SlugField(); f != nil {
			n.nested = append(n.nested, node{name: f.Name})
		}
	}
	var err error
	if n.shape != "" {
		p.List.Selection, err = s.shaped(n, []*model.Type{b.Type}, where)
		return p, err
	}
	p.List.Selection, err = s.bind([]*model.Type{b.Type}, n.nested, where+".")
	return p, err
}
