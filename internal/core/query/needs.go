package query

import (
	"slices"
	"strings"

	"ubiquon/internal/core/access"
)

// Needs returns the grants that the query takes, each once, as far as they can
// be told before it is run: NeedsOf tells those of entries whose type or locale
// only the result tells.
func (q *Query) Needs() []access.Need {
	var out needs
	for i := range q.Roots {
		for _, t := range q.Roots[i].Types {
			out.add(q.need(t, q.Roots[i].Locale))
		}
		if root := &q.Roots[i]; root.Type != "" {
			for _, n := range q.NeedsOfRoot(root) {
				out.add(n)
			}
			out.linked(q, &root.Selection, "", root.Locale)
		}
	}
	return out
}

// NeedsOfRoot returns the grants that it takes to find a root's entries.
func (q *Query) NeedsOfRoot(root *Root) []access.Need {
	out := needs{q.need(root.Type, root.Locale)}
	out.filtered(q, root, root.Locale)
	return out
}

// NeedsOf returns the grants that only the result tells: those of entries that
// were found by id or path, and of the links that entries of their types have.
func (q *Query) NeedsOf(r *Result) []access.Need {
	var out needs
	for i := range q.Roots {
		root := &q.Roots[i]
		if root.Type != "" {
			continue
		}
		locale := root.Locale
		if locale == "" {
			locale = r.Roots[i].Locale
		}
		if found := &r.Roots[i]; found.MovedTo != "" && len(found.Rows) == 0 && root.Refused[found.MovedType] == "" {
			out.add(q.need(found.MovedType, found.MovedLocale))
		}
		for _, row := range r.Roots[i].Rows {
			if root.Refused[row.Type] != "" {
				continue
			}
			out.add(q.need(row.Type, locale))
			out.linked(q, &root.Selection, row.Type, locale)
		}
	}
	return out
}

func (q *Query) need(typ, locale string) access.Need {
	return access.Need{Verb: access.Read, Edition: q.Edition, Type: typ, Locale: locale}
}

type needs []access.Need

func (n *needs) add(one access.Need) {
	if !slices.Contains(*n, one) {
		*n = append(*n, one)
	}
}

// linked adds the types that a selection's links enter; with a type, only the
// links that entries of it have.
func (n *needs) linked(q *Query, s *Selection, typ, locale string) {
	for i := range s.Picks {
		p := &s.Picks[i]
		if p.below() == nil || typ != "" && p.On != nil && !slices.Contains(p.On, typ) {
			continue
		}
		for _, t := range p.enters() {
			n.add(q.need(t, locale))
		}
		n.linked(q, p.below(), "", locale)
	}
}

// filtered adds the types that a list's filter looks into.
func (n *needs) filtered(q *Query, root *Root, locale string) {
	if root.Filter == nil {
		return
	}
	for _, r := range root.Filter.Reads()[1:] {
		n.add(q.need(r.Type, locale))
	}
}

// enters lists the types that the pick leads to, and those that its filter looks
// into.
func (p *SelectedField) enters() []string {
	if p.List == nil {
		return p.Types
	}
	out := []string{p.List.Type}
	if p.List.Filter != nil {
		for _, r := range p.List.Filter.Reads()[1:] {
			out = append(out, r.Type)
		}
	}
	return out
}

// Hidden is a nested selection that a reader may not enter.
type Hidden struct {
	// Path are the names that lead to it from its root, the root's own first if
	// there are several.
	Path []string
	// On are the types, of those that a root may find, that have it; nil for all.
	On   []string
	Need access.Need
}

// Without returns the query without the nested selections that the rights do not
// reach, and what they are; the query itself when there are none. With null, such
// a pick stays, and holds nothing. What a root finds is not looked at.
func (q *Query) Without(rights access.Rights, null bool) (*Query, [][]Hidden) {
	out := &Query{Edition: q.Edition, Roots: slices.Clone(q.Roots)}
	hidden := make([][]Hidden, len(q.Roots))
	any := false
	for i := range out.Roots {
		root := &out.Roots[i]
		w := without{q: q, rights: rights, locale: root.Locale, null: null}
		root.Selection = w.selection(&root.Selection, nil, nil)
		hidden[i] = w.hidden
		any = any || len(w.hidden) > 0
		if root.By == ByPaths {
			before := len(root.Types)
			root.Types = slices.DeleteFunc(
				slices.Clone(root.Types), func(t string) bool { return !rights.Allows(q.need(t, root.Locale)) },
			)
			any = any || len(root.Types) < before
		}
	}
	if !any {
		return q, hidden
	}
	return out, hidden
}

type without struct {
	q      *Query
	rights access.Rights
	locale string
	null   bool
	hidden []Hidden
}

func (w *without) selection(s *Selection, path, on []string) Selection {
	var out Selection
	for _, p := range s.Picks {
		at := append(slices.Clone(path), p.As)
		types := on
		if path == nil {
			types = p.On
		}
		below := p.below()
		if below == nil {
			out.Picks = append(out.Picks, p)
			continue
		}
		var takes needs
		for _, t := range p.enters() {
			takes.add(w.q.need(t, w.locale))
		}
		if need, missing := w.rights.Missing(takes); missing {
			w.hidden = append(w.hidden, Hidden{Path: at, On: types, Need: need})
			if w.null {
				out.Picks = append(out.Picks, SelectedField{As: p.As, Kind: PickNull, On: p.On, Denied: need.String()})
			}
			continue
		}
		inner := w.selection(below, at, types)
		if p.List != nil {
			list := *p.List
			list.Selection, p.List = inner, &list
		} else {
			p.Link = &inner
		}
		out.Picks = append(out.Picks, p)
	}
	return out
}

// Refuse has the roots that may find entries of any type refuse those of the
// types that the rights do not reach.
func (q *Query) Refuse(rights access.Rights, types []string) {
	for i := range q.Roots {
		root := &q.Roots[i]
		if root.Type != "" {
			continue
		}
		root.Refused = map[string]string{}
		for _, t := range types {
			if need, missing := rights.Missing([]access.Need{q.need(t, root.Locale)}); missing {
				root.Refused[t] = need.String()
			}
		}
	}
}

// TellHidden has about.hidden of the entries, which are of one of the types, list
// what was left out of the selection.
func (s *Selection) TellHidden(hidden []Hidden, types []string) {
	names := map[string][]string{}
	for _, t := range types {
		for _, h := range hidden {
			if h.On == nil || slices.Contains(h.On, t) {
				names[t] = append(names[t], strings.Join(h.Path, "."))
			}
		}
	}
	var out []SelectedField
	told := map[string]bool{}
	tell := func(p SelectedField, on []string) {
		for _, t := range on {
			one := p
			if len(types) > 1 {
				one.On = []string{t}
			}
			if names[t] != nil {
				told[t] = true
				one.Parts = append(slices.Clone(p.Parts), Part{As: "hidden", Name: "hidden", Texts: names[t]})
			}
			out = append(out, one)
		}
	}
	for _, p := range s.Picks {
		if p.Kind != PickAbout {
			out = append(out, p)
			continue
		}
		on := p.On
		if on == nil {
			on = types
		}
		tell(p, on)
	}
	for _, t := range types {
		if names[t] != nil && !told[t] {
			tell(SelectedField{As: "about", Kind: PickAbout}, []string{t})
		}
	}
	s.Picks = out
}
