// Package sunset tells what deprecated things a query reads.
package sunset

import (
	"slices"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
)

// Of says what deprecated things a query reads, as type or type.field, each
// once, since when the first of them is deprecated, and when the first of them
// will be gone; "" for never. Found are the types of the entries that roots without a
// type have found.
func Of(q *query.Query, m *model.Model, found ...string) (names []string, days model.Deprecation) {
	f := deprecation{m: m}
	for i := range q.Roots {
		root := &q.Roots[i]
		types := root.Types
		switch {
		case root.Type != "":
			types = []string{root.Type}
		case types == nil:
			types = found
		}
		f.types(types)
		f.list(root)
		f.selection(&root.Selection, f.of(types))
	}
	return f.names, f.days
}

type deprecation struct {
	m     *model.Model
	names []string
	days  model.Deprecation
}

func (f *deprecation) note(name, why string, days model.Deprecation) {
	if why == "" || slices.Contains(f.names, name) {
		return
	}
	f.names = append(f.names, name)
	first := func(have *string, day string) {
		if day != "" && (*have == "" || day < *have) {
			*have = day
		}
	}
	first(&f.days.DeprecatedSince, days.DeprecatedSince)
	first(&f.days.Sunset, days.Sunset)
}

func (f *deprecation) of(names []string) (out []*model.Type) {
	for _, name := range names {
		if t := f.m.Type(name); t != nil {
			out = append(out, t)
		}
	}
	return out
}

func (f *deprecation) types(names []string) {
	for _, t := range f.of(names) {
		f.note(t.Name, t.Deprecated, t.Deprecation)
	}
}

func (f *deprecation) field(t *model.Type, name string) {
	if field := t.Field(name); field != nil {
		f.note(t.Name+"."+name, field.Deprecated, field.Deprecation)
	}
}

// list notes what a list is sorted and filtered by.
func (f *deprecation) list(root *query.Root) {
	t := f.m.Type(root.Type)
	if t == nil {
		return
	}
	for _, s := range root.Sort {
		f.field(t, s.By)
	}
	if root.Filter == nil {
		return
	}
	for _, r := range root.Filter.Reads() {
		f.types([]string{r.Type})
		for _, name := range r.Fields {
			f.field(f.m.Type(r.Type), name)
		}
	}
}

// selection notes what is picked of entries, records or blocks of the types.
func (f *deprecation) selection(s *query.Selection, types []*model.Type) {
	for i := range s.Picks {
		p := &s.Picks[i]
		for _, t := range types {
			if p.On != nil && !slices.Contains(p.On, t.Name) {
				continue
			}
			f.field(t, p.Field)
			if field := t.Field(p.Field); p.Kind == query.PickInner && field != nil {
				f.selection(p.Link, field.Inner)
			}
		}
		switch {
		case p.List != nil:
			f.types([]string{p.List.Type})
			f.list(p.List)
			f.selection(&p.List.Selection, f.of([]string{p.List.Type}))
		case p.Kind == query.PickLink:
			f.types(p.Types)
			f.selection(p.Link, f.of(p.Types))
		}
	}
}
