package reading

import (
	"slices"
	"strconv"
	"strings"

	"ubiquon/internal/core/memo"
	"ubiquon/internal/core/query"
	"ubiquon/internal/store/clause"
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

func (l *linkRead) backStatements(s *Reader, edition string) []statement {
	var ids []string
	lists := map[string][]*query.RootResult{}
	for _, p := range l.parents {
		if lists[p.ID] == nil {
			ids = append(ids, p.ID)
		}
		lists[p.ID] = append(lists[p.ID], p.Lists[l.pick])
	}
	args := clause.Params{s.environment, edition, l.locale, ids, l.list.Field + "/"}
	where := clause.WhereType(s.environment, l.list.Type) + " and edition = $2 and locale = $3" +
		" and links <> '{}' and links @> array[$5 || p.id]" + filtered(l.list, &args)
	var all []statement
	if l.list.Count {
		all = append(
			all,
			statement{
				columns: "p.id, (select count(*)::text from document" + where + ")",
				rest:    " from unnest($4::text[]) as p (id)",
				args:    slices.Clone(args),
				each: func(raw [][]byte) error {
					n, err := strconv.Atoi(string(raw[1]))
					for _, list := range lists[string(raw[0])] {
						list.Total = n
					}
					return err
				},
			},
		)
	}
	r := newReader(l.selection, l.list.Type)
	from := window(l.list, r, where, &args)
	columns := make([]string, len(r.columns))
	for i, c := range r.columns {
		columns[i] = c + " as c" + strconv.Itoa(i)
	}
	return append(
		all,
		statement{
			columns: "p.id, d.*",
			rest: " from unnest($4::text[]) as p (id) cross join lateral (select " + strings.Join(
				columns, ", ",
			) + from + ") d",
			args: args,
			each: func(raw [][]byte) error {
				for _, list := range lists[string(raw[0])] {
					takeRow(l.list, r, list, raw[1:])
				}
				return nil
			},
		},
	)
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
