package reading

import (
	"slices"
	"strings"

	"ubiquon/internal/core/memo"
	"ubiquon/internal/core/query"
)

func hasLinks(sel *query.Selection) bool {
	for i := range sel.Picks {
		switch p := &sel.Picks[i]; p.Kind {
		case query.PickLink, query.PickBack:
			return true
		case query.PickInner:
			if hasLinks(p.Link) {
				return true
			}
		}
	}
	return false
}

// linkRead is the read of all entries that one reference of some rows leads to,
// or of all that refer to those rows.
type linkRead struct {
	locale    string
	pick      int
	types     []string
	list      *query.Root // of those that refer
	parents   []*query.Row
	selection *query.Selection
	found     map[string]*query.Row
}

func collectLinks(out []*linkRead, locale string, sel *query.Selection, rows []*query.Row) []*linkRead {
	for i := range sel.Picks {
		p := &sel.Picks[i]
		l := &linkRead{
			locale:    locale,
			pick:      i,
			types:     p.Types,
			list:      p.List,
			selection: p.Link,
			found:     map[string]*query.Row{},
		}
		switch p.Kind {
		case query.PickBack:
			l.selection = &p.List.Selection
		case query.PickInner:
			if hasLinks(p.Link) {
				var inner []*query.Row
				for _, row := range rows {
					inner = append(inner, row.Linked[i]...)
				}
				out = collectLinks(out, locale, p.Link, inner)
			}
			continue
		case query.PickLink:
		default:
			continue
		}
		for _, row := range rows {
			if (l.list != nil || len(row.Asked[i]) > 0) && (p.On == nil || slices.Contains(p.On, row.Type)) {
				l.parents = append(l.parents, row)
			}
		}
		if len(l.parents) > 0 {
			out = append(out, l)
		}
	}
	return out
}

// statements are what reads the entries: one statement, and one more when those
// that refer are to be counted.
func (l *linkRead) statements(s *Reader, q *query.Query) []statement {
	if l.list != nil {
		return l.backStatements(s, q.Edition)
	}
	var wanted []string
	for _, p := range l.parents {
		for _, id := range p.Asked[l.pick] {
			if _, ok := l.found[id]; !ok {
				l.found[id] = nil
				wanted = append(wanted, id)
			}
		}
	}
	only := ""
	if len(l.types) == 1 {
		only = l.types[0]
	}
	known := memo.Of(q.Memo, linkKey{l.selection, only}, func() linkTemplate {
		r := newReader(l.selection, only)
		return linkTemplate{r, "select " + strings.Join(r.columns, ", ") + " from document where environment = $1 and " +
			"edition = $2 and locale = $3 and entry = any($4) and type = any($5)"}
	})
	r := known.reader.fresh()
	return []statement{{
		text: known.text, args: []any{s.environment, q.Edition, l.locale, wanted, l.types},
		each: func(raw [][]byte) error {
			row := r.row(raw)
			l.found[row.ID] = row
			return nil
		},
	}}
}

// linkTemplate is what reads the entries that are linked, and linkKey under what it is kept.
type linkTemplate struct {
	reader *reader
	text   string
}

type linkKey struct {
	selection *query.Selection
	only      string
}

// attach hangs the entries found below the rows that refer to them, in the
// order in which they do.
func (l *linkRead) attach() {
	for _, p := range l.parents {
		if l.list != nil {
			if l.list.Backwards() {
				slices.Reverse(p.Lists[l.pick].Rows)
			}
			continue
		}
		if p.Linked[l.pick] == nil && len(p.Asked[l.pick]) > 0 {
			p.Linked[l.pick] = make([]*query.Row, 0, len(p.Asked[l.pick]))
		}
		for _, id := range p.Asked[l.pick] {
			if row := l.found[id]; row != nil {
				p.Linked[l.pick] = append(p.Linked[l.pick], row)
			}
		}
	}
}

func (l *linkRead) rows() []*query.Row {
	var out []*query.Row
	if l.list != nil {
		for _, p := range l.parents {
			out = append(out, p.Lists[l.pick].Rows...)
		}
		return out
	}
	for _, row := range l.found {
		if row != nil {
			out = append(out, row)
		}
	}
	return out
}
