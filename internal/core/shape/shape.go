// Package shape compiles the shapes of a model: forms of entries under names of a front end's choice.
package shape

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
)

// maxShapes bounds how often shapes are compiled for one of them: each member may lead to another.
const maxShapes = 200

// Selecting returns s with the shapes of its model.
func Selecting(s query.Selecting) query.Selecting {
	s.Shape = func(name string, types []*model.Type) (query.Selection, error) {
		compiled := 0
		return nested(s, 0, &compiled).Shape(name, types)
	}
	return s
}

func nested(s query.Selecting, depth int, compiled *int) query.Selecting {
	s.Shape = func(name string, types []*model.Type) (query.Selection, error) {
		if *compiled++; *compiled > maxShapes {
			return query.Selection{}, fmt.Errorf("the shape %s is one of too many within one another", name)
		}
		if depth > query.MaxDepth {
			return query.Selection{}, fmt.Errorf("the shape %s leads to itself again and again", name)
		}
		return compile(nested(s, depth+1, compiled), name, types)
	}
	return s
}

// Types are those that can be had in a shape; an error where there is none of the name.
func Types(m *model.Model, name string) ([]*model.Type, error) {
	shape := m.Shape(name)
	if shape == nil {
		return nil, fmt.Errorf("there is no shape %q%s", name, strictyaml.DidYouMean(name, m.ShapeNames()))
	}
	var out []*model.Type
	for _, typ := range shape.Of {
		if t := m.Type(typ); t != nil {
			out = append(out, t)
		}
	}
	return out, nil
}

// compile compiles a shape for entries that may be of any of the types, as far as it is of them. A
// member whose selection takes a single part of something is that part itself.
func compile(s query.Selecting, name string, types []*model.Type) (query.Selection, error) {
	of, err := Types(s.Model, name)
	if err != nil {
		return query.Selection{}, err
	}
	some := slices.DeleteFunc(slices.Clone(types), func(t *model.Type) bool { return !slices.Contains(of, t) })
	if len(some) == 0 {
		var names []string
		for _, t := range types {
			names = append(names, t.Name)
		}
		return query.Selection{}, fmt.Errorf("the shape %s is not of %s; it is of %s", name, strings.Join(names, ", "),
			strings.Join(s.Model.Shape(name).Of, ", "))
	}
	sel := query.Selection{Picks: []query.SelectedField{{As: "id", Kind: query.PickID}}}
	for _, f := range s.Model.Shape(name).Fields {
		picks, err := member(s, f, some)
		if err != nil {
			return sel, fmt.Errorf("shape %s, %s: %w", name, f.Name, err)
		}
		sel.Picks = append(sel.Picks, picks...)
	}
	return sel, nil
}

// member compiles one member for each of the types; those that ask for the same are one pick.
func member(s query.Selecting, f model.ShapeField, types []*model.Type) (out []query.SelectedField, err error) {
	same := map[string]int{}
	for _, t := range types {
		pick := query.SelectedField{As: f.Name, Kind: query.PickNull}
		if text := f.For(t.Name); text != "" {
			if pick, err = selected(s, text, t); err != nil {
				return nil, fmt.Errorf("of %s: %w", t.Name, err)
			}
			pick.As = f.Name
		}
		pick.On = nil
		src, err := json.Marshal(pick)
		if err != nil {
			return nil, err
		}
		at, is := same[string(src)]
		if !is {
			at = len(out)
			same[string(src)] = at
			out = append(out, pick)
		}
		out[at].On = append(out[at].On, t.Name)
	}
	return out, nil
}

// selected compiles the selection of a member for a type: one thing that is asked of the entry.
func selected(s query.Selecting, text string, t *model.Type) (pick query.SelectedField, err error) {
	sel, err := s.Fields([]*model.Type{t}, text)
	if err != nil {
		return pick, err
	}
	picks := slices.DeleteFunc(sel.Picks, func(p query.SelectedField) bool { return p.Kind == query.PickID })
	switch {
	case len(picks) == 0 && text == "id":
		return query.SelectedField{Kind: query.PickID}, nil
	case len(picks) != 1:
		return pick, fmt.Errorf("%q asks for %d things; a member is one", text, len(picks))
	}
	pick = picks[0]
	switch pick.Kind {
	case query.PickAbout, query.PickParts, query.PickFile:
		pick.Flat = len(pick.Parts) == 1 && strings.Contains(text, "(")
	}
	return pick, nil
}

// Check returns what is wrong with the shapes of a model, a line each.
func Check(m *model.Model) (wrong []string) {
	s := Selecting(query.Selecting{Model: m, Locale: m.Default()})
	for _, name := range m.ShapeNames() {
		types, err := Types(m, name)
		if err == nil {
			_, err = s.Shape(name, types)
		}
		if err != nil {
			wrong = append(wrong, err.Error())
		}
	}
	return wrong
}

// Readable returns the shapes of a model from which types were taken: without those, and without what leads
// to them.
func Readable(m *model.Model) (out []model.Shape) {
	s := Selecting(query.Selecting{Model: m, Locale: m.Default()})
	for _, one := range m.Shapes {
		types, _ := Types(m, one.Name) // it is there
		left := model.Shape{Name: one.Name, Help: one.Help}
		for _, t := range types {
			left.Of = append(left.Of, t.Name)
		}
		if len(types) == 0 {
			continue
		}
		for _, f := range one.Fields {
			member := model.ShapeField{Name: f.Name, By: map[string]string{}}
			for _, t := range types {
				if text := f.For(t.Name); text != "" {
					if _, err := selected(s, text, t); err == nil {
						member.By[t.Name] = text
					}
				}
			}
			if f.By == nil && len(member.By) == len(types) {
				member.Each, member.By = f.Each, nil
			}
			left.Fields = append(left.Fields, member)
		}
		out = append(out, left)
	}
	return out
}
