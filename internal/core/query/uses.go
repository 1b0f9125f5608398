package query

import (
	"slices"
	"sort"
	"strings"

	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/model"
)

// use adds what was read by of a type of the model.
func (d *dependencies) use(typ, locale string, names []string) {
	var fields []string
	for _, name := range names {
		if !strings.HasPrefix(name, "about.") && !model.IsLabel(name) {
			name, _, _ = strings.Cut(name, ".") // the model knows no parts
		}
		fields = append(fields, name)
	}
	for i := range d.set.Uses {
		if u := &d.set.Uses[i]; u.Type == typ && u.Locale == locale {
			if len(fields) > 0 {
				all := slices.Concat(u.Fields, fields)
				sort.Strings(all)
				u.Fields = slices.Compact(all)
			}
			return
		}
	}
	sort.Strings(fields)
	d.set.Uses = append(d.set.Uses, invalidation.Use{Type: typ, Locale: locale, Fields: slices.Compact(fields)})
}

// used adds the types and fields that a root was read by.
func (d *dependencies) used(root *Root, locale string, read []string, res *RootResult) {
	switch {
	case root.Type != "":
		d.use(root.Type, locale, root.reads())
		d.filtered(root, locale)
		if len(res.Rows) > 0 {
			d.use(root.Type, locale, read)
			if root.Selection.All {
				d.use(root.Type, locale, []string{model.AllFields})
			}
		}
	case len(res.Rows) > 0:
		for _, row := range res.Rows {
			d.use(row.Type, locale, append([]string{"about.path"}, read...))
		}
	case root.By != ByPaths:
		// What comes to be there is of whatever type.
		for _, tag := range append(res.LookedIn(root), root.Locale) {
			d.use("", tag, nil)
		}
	}
	if len(res.Rows) > 0 { // else nothing of it shows
		d.usedBelow(&root.Selection, locale, root.Selection.All)
	}
}

// usedBelow adds those that what hangs below was read by; all says that nobody named
// what that is.
func (d *dependencies) usedBelow(s *Selection, locale string, all bool) {
	for i := range s.Picks {
		p := &s.Picks[i]
		switch {
		case p.List != nil:
			d.use(p.List.Type, locale, append(p.List.reads(), d.reads(&p.List.Selection, "")...))
			d.filtered(p.List, locale)
		case p.Link != nil && p.Kind != PickInner:
			for _, t := range p.Types {
				read := d.reads(p.Link, t)
				if all {
					read = append(read, model.AllFields) // it shows the slug of those that have one
				}
				d.use(t, locale, read)
			}
		}
		if below := p.below(); below != nil {
			d.usedBelow(below, locale, all || below.All)
		}
	}
}

// reads are the fields by which a root finds and orders entries.
func (r *Root) reads() []string {
	var out []string
	for _, s := range r.Sort {
		out = append(out, s.By)
	}
	if r.By == BySlug {
		out = append(out, "slug")
	}
	if r.Field != "" {
		out = append(out, r.Field)
	}
	if r.Translated {
		out = append(out, "about.locales")
	}
	return out
}

// filtered adds what a list's filter is read by.
func (d *dependencies) filtered(root *Root, locale string) {
	if root.Filter == nil {
		return
	}
	for _, r := range root.Filter.Reads() {
		d.use(r.Type, locale, r.Fields)
	}
}

// rows adds what was read of entries, and all that hangs below them.
func (d *dependencies) rows(locale string, s *Selection, rows []*Row) {
	if len(rows) == 0 {
		return
	}
	d.set.Entries = slices.Grow(d.set.Entries, len(rows))
	linked := false
	for i := range s.Picks {
		linked = linked || s.Picks[i].below() != nil
	}
	d.linked = d.linked || linked
	var read []string
	for i, row := range rows {
		if row.ID != "" { // a record or block is part of its entry
			if i == 0 || row.Type != rows[i-1].Type {
				read = d.reads(s, row.Type)
			}
			d.set.Entries = append(d.set.Entries, invalidation.Entry{ID: row.ID, Locale: locale, Fields: read})
			d.labels(locale, s, row)
		}
		if !linked {
			continue
		}
		for i := range s.Picks {
			switch p := &s.Picks[i]; {
			case p.List != nil && row.Lists != nil && row.Lists[i] != nil:
				d.list(p.List, locale, row.ID, row.Lists[i])
				d.rows(locale, &p.List.Selection, row.Lists[i].Rows)
			case p.Link == nil || row.Linked == nil:
			case p.Kind == PickInner:
				d.rows(locale, p.Link, row.Linked[i])
			case row.Asked[i] != nil:
				d.rows(locale, p.Link, row.Linked[i])
				d.missed(locale, row.Asked[i], row.Linked[i])
			}
		}
	}
}

// labels adds the labels that are shown of an entry: of choices within a record or
// blocks all that there are.
func (d *dependencies) labels(locale string, s *Selection, row *Row) {
	for i := range s.Picks {
		p := &s.Picks[i]
		switch {
		case p.Kind == PickInner && p.Link != nil && p.Link.labels():
			d.use(row.Type, locale, []string{model.LabelOf(p.Field, model.AnyLabel)})
		case p.Label != nil && row.Cells != nil && p.isOn(row.Type):
			for _, v := range p.options(row.Cells[i][0]) {
				d.use(row.Type, locale, []string{model.LabelOf(p.Field, v)})
			}
		}
	}
}
