package query

import (
	"slices"
	"sort"

	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/memo"
	"ubiquon/internal/core/model"
)

// Dependencies says what the result of the query was made of.
func Dependencies(q *Query, r *Result) *invalidation.Set {
	d := dependencies{
		q:        q,
		set:      &invalidation.Set{Edition: q.Edition, Deadline: r.Deadline},
		vain:     map[string]bool{},
		sequence: r.Sequence,
		triggers: r.TimeTriggers,
	}
	for i := range q.Roots {
		root, res := &q.Roots[i], &r.Roots[i]
		locale := root.Locale
		if locale == "" {
			locale = res.Locale
		}
		read := d.reads(&root.Selection, "")
		d.rows(locale, &root.Selection, res.Rows)
		d.used(root, locale, read, res)
		switch root.By {
		case ByList, BySingle:
			d.list(root, root.Locale, "", res)
		case ByPaths:
			d.paths(root, res)
		case BySlug:
			d.set.Lookups = append(
				d.set.Lookups, invalidation.Lookup{Type: root.Type, Locale: root.Locale, Slug: root.Value},
			)
		case ByID:
			if len(res.Rows) == 0 {
				d.set.Entries = append(d.set.Entries, invalidation.Entry{ID: root.Value, Locale: root.Locale})
			}
		case ByPath:
			d.path(root, res)
		}
	}
	if d.linked || len(q.Roots) > 1 {
		d.set.Entries = mergeEntries(d.set.Entries)
	}
	return d.set
}

// path adds what a search for an entry by its path went by. Once one is found, nobody
// asks for who lives there in the locales that come after, or lived there before.
func (d *dependencies) path(root *Root, res *RootResult) {
	found := len(res.Rows) > 0
	for _, tag := range res.LookedIn(root) {
		d.set.Lookups = append(d.set.Lookups, invalidation.Lookup{Locale: tag, Path: root.Value, Found: found})
		if found && tag == res.Locale {
			return
		}
	}
	if found {
		return
	}
	for _, f := range res.Formerly {
		d.set.Entries = append(
			d.set.Entries, invalidation.Entry{ID: f.Entry, Locale: f.Locale, Fields: []string{invalidation.PathExists}},
		)
	}
}

type dependencies struct {
	q        *Query
	set      *invalidation.Set
	linked   bool // only then can the same document have been read twice
	vain     map[string]bool
	sequence int64
	triggers map[*Root]invalidation.TimeTriggers
	// last is what reads was asked for last, and lastReads what it said.
	last      readsKey
	lastReads []string
}

// reads are those of a selection, for entries of a type.
func (d *dependencies) reads(s *Selection, typ string) []string {
	if key := (readsKey{s, typ}); d.last != key { // rows of one kind come together
		d.last, d.lastReads = key, memo.Of(d.q.Memo, key, func() []string { return slices.Clip(s.reads(typ)) })
	}
	return d.lastReads
}

// readsKey is under what the fields are kept that a selection reads.
type readsKey struct {
	selection *Selection
	typ       string
}

// list adds what a result shows of a list; target is the entry that is referred to,
// for a back-reference.
func (d *dependencies) list(root *Root, locale, target string, res *RootResult) {
	l := invalidation.List{
		Type:         root.Type,
		Locale:       locale,
		Field:        root.Field,
		Target:       target,
		Filter:       root.Filter,
		Translated:   root.Translated,
		Sort:         root.Sort,
		Count:        root.Count,
		TimeTriggers: d.triggers[root],
		Window: invalidation.Window{
			Limit:      root.Limit,
			FromEnd:    root.Backwards(),
			Skipped:    root.Offset > MaxSkippedKnown,
			Ends:       len(res.Lookahead) < root.Past(),
			AsOf:       d.sequence,
			Beyond:     root.Past(),
			StatesSize: root.Shows.More || root.Shows.Around,
			Cursors:    root.Shows.Cursors,
		},
	}
	w := &l.Window
	if root.By == BySingle {
		w.Limit = 1
	}
	if root.After != nil {
		w.After = invalidation.NewSortKey(root.Sort, root.After.Values, root.After.ID)
	}
	if root.Before != nil {
		w.Before = invalidation.NewSortKey(root.Sort, root.Before.Values, root.Before.ID)
	}
	if root.Offset > 0 && !w.Skipped {
		w.Offset = root.Offset
	}
	if n := len(res.Skipped) + len(res.Rows) + len(res.Lookahead); n > 0 {
		w.Rows = make([]invalidation.SortKey, 0, n)
		add := func(rows []*Row) {
			for _, row := range rows {
				w.Rows = append(w.Rows, row.place(root.Sort))
			}
		}
		add(res.Skipped)
		if w.FromEnd {
			add(res.Lookahead)
			slices.Reverse(w.Rows)
			add(res.Rows)
		} else {
			add(res.Rows)
			add(res.Lookahead)
		}
	}
	if root.Shows.Around {
		prev, next := root.PageCursors(res)
		if prev != "" {
			w.Cursors |= invalidation.CursorFirst
		}
		if next != "" {
			w.Cursors |= invalidation.CursorLast
		}
	}
	if w.Limit == 0 {
		w.StatesSize = false // around nothing there is nothing
	}
	if !root.ShowsNothing() {
		d.set.Lists = append(d.set.Lists, l)
	}
}

// place is where the row stands in the order that it was read in.
func (r *Row) place(order []Sort) invalidation.SortKey {
	return invalidation.SortKeyOf(order, r.Keys, r.ID)
}

// pathSort is the order of the paths of one locale.
var pathSort = []Sort{{By: "about.path", Kind: model.Text}}

// paths adds a list for each locale and type of a list of paths. A place after all
// that have a path ends what is shown of the last locale.
func (d *dependencies) paths(root *Root, res *RootResult) {
	behind := func(path string) invalidation.SortKey {
		return invalidation.NewSortKey(pathSort, []*string{&path}, "") + "\xff"
	}
	from, to := "", ""
	var last PathRow
	if root.After != nil {
		from = *root.After.Values[0]
	}
	if n := len(res.Paths); res.More && n > 0 {
		last = res.Paths[n-1]
		to = last.Locale
		// That there is more is so as long as one of these is behind.
		past := res.PastPaths[0]
		l := invalidation.List{
			Type:   past.Type,
			Locale: past.Locale,
			Paths:  true,
			Sort:   pathSort,
			Window: invalidation.Window{Beyond: pastWindow, StatesSize: true},
		}
		if past.Locale == to {
			l.Window.After = behind(last.Path)
		}
		for _, p := range res.PastPaths {
			if p.Type == past.Type && p.Locale == past.Locale {
				l.Window.Rows = append(l.Window.Rows, invalidation.NewSortKey(pathSort, []*string{&p.Path}, p.Entry))
			}
		}
		d.set.Lists = append(d.set.Lists, l)
	}
	for _, tag := range root.Locales {
		if tag < from || to != "" && tag > to {
			continue
		}
		for _, t := range root.Types {
			l := invalidation.List{
				Type:   t,
				Locale: tag,
				Paths:  true,
				Sort:   pathSort,
				Window: invalidation.Window{Limit: MaxPaths + 1, Beyond: pastWindow, Ends: true},
			}
			if tag == from {
				l.Window.After = behind(*root.After.Values[1])
			}
			if tag == to {
				l.Window.Before = behind(last.Path)
			}
			l.Updated = len(root.PathFields) == 0 || slices.Contains(root.PathFields, "updated")
			for _, p := range res.Paths {
				if p.Locale == tag && p.Type == t {
					l.Window.Rows = append(l.Window.Rows, invalidation.NewSortKey(pathSort, []*string{&p.Path}, p.Entry))
				}
			}
			d.set.Lists = append(d.set.Lists, l)
			d.use(t, tag, []string{"about.locales", "about.path"})
		}
	}
}

// labels tells whether the selection asks for a label, at whatever depth.
func (s *Selection) labels() (found bool) {
	s.walk(func(p *SelectedField) { found = found || p.Label != nil })
	return found
}

// missed adds the references that led to nothing.
func (d *dependencies) missed(locale string, asked []string, found []*Row) {
	n := 0
	for _, id := range asked {
		if n < len(found) && found[n].ID == id {
			n++
		} else if key := locale + id; !d.vain[key] {
			d.vain[key] = true
			d.set.Entries = append(d.set.Entries, invalidation.Entry{ID: id, Locale: locale})
		}
	}
}

// mergeEntries unites what was read of the same document in several places.
func mergeEntries(in []invalidation.Entry) []invalidation.Entry {
	at := map[[2]string]int{}
	out := in[:0:0]
	for _, e := range in {
		key := [2]string{e.ID, e.Locale}
		i, ok := at[key]
		if !ok {
			at[key] = len(out)
			out = append(out, e)
			continue
		}
		if !slices.Equal(out[i].Fields, e.Fields) {
			both := slices.Concat(out[i].Fields, e.Fields)
			sort.Strings(both)
			out[i].Fields = slices.Compact(both)
		}
	}
	return out
}
