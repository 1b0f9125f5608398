package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
)

// Read answers the query from one snapshot. The model is the one that the query
// was compiled with; another version in the database gives ErrModelMoved.
//
// Every selection is one statement, however many entries it is for, and all
// statements of one depth travel together.
func (s *Store) Read(ctx context.Context, version int64, q *query.Query) (*query.Result, error) {
	res := &query.Result{Roots: make([]query.RootResult, len(q.Roots))}
	err := s.inBatches(ctx, func(conn *pgxpool.Conn) error {
		var b batch
		b.exec(`begin isolation level repeatable read read only`)
		b.query(func(r pgx.Rows) error { return r.Scan(&res.Sequence, &res.ModelVersion) },
			`select h.sequence, e.model_version from head h join environment e on e.name = h.environment where h.environment = $1`, s.Environment)
		var next []*linkRead
		deeper := false
		for i := range q.Roots {
			s.queueRoot(&b, q, i, res)
			deeper = deeper || hasLinks(&q.Roots[i].Selection)
		}
		if !deeper {
			b.exec(`commit`)
		}
		if err := b.run(ctx, conn); err != nil {
			return err
		}
		if int64(res.ModelVersion) != version {
			return ErrModelMoved
		}
		for i := range q.Roots {
			next = collectLinks(next, q.Roots[i].Locale, &q.Roots[i].Selection, res.Roots[i].Rows)
		}
		for len(next) > 0 {
			var b batch
			deeper = false
			for _, l := range next {
				s.queueLink(&b, q.Edition, l)
				deeper = deeper || hasLinks(l.selection)
			}
			if !deeper {
				b.exec(`commit`)
			}
			if err := b.run(ctx, conn); err != nil {
				return err
			}
			var after []*linkRead
			for _, l := range next {
				l.attach()
				after = collectLinks(after, l.locale, l.selection, l.rows())
			}
			next = after
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return res, nil
}

// reader turns the columns of a statement into rows of a selection. It takes the
// bytes as they come: text and jsonb come as text, and of the booleans only
// matters whether they are null.
type reader struct {
	columns []string
	// cells says, for each pick, how many columns it has, the first being first.
	cells []int
	first int
	sel   *query.Selection
}

func newReader(sel *query.Selection) *reader {
	r := &reader{columns: []string{"entry", "type"}, sel: sel}
	r.first = len(r.columns)
	r.cells = make([]int, len(sel.Picks))
	for i := range sel.Picks {
		p := &sel.Picks[i]
		whole, members := p.Columns()
		from := "fields -> " + quote(p.Field)
		switch {
		case whole:
			r.columns = append(r.columns, from)
			r.cells[i] = 1
			continue
		case p.Kind == query.PickParts:
			// The first cell tells whether there is an object at all.
			r.columns = append(r.columns, "case when fields ? "+quote(p.Field)+" then true end")
			r.cells[i]++
		case p.Kind == query.PickAbout:
			from = "about"
		}
		for _, m := range members {
			r.columns = append(r.columns, from+" -> "+quote(m))
			r.cells[i]++
		}
	}
	return r
}

func (r *reader) row(rows pgx.Rows) *query.Row {
	raw := rows.RawValues()
	// One copy for the whole row: RawValues is only good until the next one.
	size := 0
	for _, v := range raw[:len(r.columns)] {
		size += len(v)
	}
	arena := make([]byte, 0, size)
	keep := func(v []byte) []byte {
		if v == nil {
			return nil
		}
		start := len(arena)
		arena = append(arena, v...)
		return arena[start:len(arena):len(arena)]
	}
	out := &query.Row{ID: string(raw[0]), Type: string(raw[1]), Cells: make([][][]byte, len(r.cells))}
	flat := make([][]byte, len(r.columns)-r.first)
	for i := range flat {
		flat[i] = keep(raw[r.first+i])
	}
	at := 0
	for i, n := range r.cells {
		out.Cells[i] = flat[at : at+n : at+n]
		at += n
		if p := &r.sel.Picks[i]; p.Kind == query.PickLink {
			if out.Asked == nil {
				out.Asked, out.Linked = make([][]string, len(r.cells)), make([][]*query.Row, len(r.cells))
			}
			out.Asked[i] = ids(out.Cells[i][0])
		}
	}
	return out
}

// ids reads a JSON string or list of strings that are entries' ids; those need
// no unescaping.
func ids(src []byte) []string {
	var out []string
	parts := strings.Split(string(src), `"`)
	for i := 1; i < len(parts); i += 2 {
		out = append(out, parts[i])
	}
	return out
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// sortColumn returns the SQL of a sort's value, and the type of a parameter
// that is compared with it.
func sortColumn(s query.Sort) (expression, json, cast string) {
	switch s.By {
	case "about.published":
		return "published", "about -> 'published'", "timestamptz"
	case "about.firstPublished":
		return "first_published", "about -> 'firstPublished'", "timestamptz"
	case "about.updated":
		return "updated", "about -> 'updated'", "timestamptz"
	}
	name := quote(s.By)
	switch s.Kind {
	case model.Integer:
		return "(fields ->> " + name + ")::bigint", "fields -> " + name, "bigint"
	case model.Money:
		return "(fields -> " + name + " ->> 'amount')::bigint", "fields -> " + name + " -> 'amount'", "bigint"
	case model.Boolean:
		return "(fields ->> " + name + ")::boolean", "fields -> " + name, "boolean"
	}
	// Text compares by its bytes, here and everywhere.
	return "(fields ->> " + name + `) collate "C"`, "fields -> " + name, "text"
}

// params collects a statement's arguments.
type params []any

func (p *params) add(v any, cast string) string {
	*p = append(*p, v)
	n := "$" + strconv.Itoa(len(*p))
	if cast != "" {
		n += "::" + cast
	}
	return n
}

func (s *Store) queueRoot(b *batch, q *query.Query, i int, res *query.Result) {
	root, out := &q.Roots[i], &res.Roots[i]
	r := newReader(&root.Selection)
	var args params
	where := "environment = " + args.add(s.Environment, "") + " and edition = " + args.add(q.Edition, "") + " and locale = " + args.add(root.Locale, "")
	if root.Type != "" {
		where += " and type = " + args.add(root.Type, "")
	}
	one := func(rows pgx.Rows) error {
		out.Rows = append(out.Rows, r.row(rows))
		return nil
	}
	from := " from document where "
	columns := strings.Join(r.columns, ", ")
	switch root.By {
	case query.BySlug:
		b.query(one, "select "+columns+from+where+" and slug = "+args.add(root.Value, ""), args...)
	case query.ByID:
		b.query(one, "select "+columns+from+where+" and entry = "+args.add(root.Value, ""), args...)
	case query.BySingle:
		b.query(one, "select "+columns+from+where+" order by entry limit 1", args...)
	case query.ByList:
		if root.Count {
			counting := args[:len(args):len(args)]
			b.query(func(rows pgx.Rows) error {
				n, err := strconv.Atoi(string(rows.RawValues()[0]))
				out.Total = n
				return err
			}, "select count(*)::text"+from+where, counting...)
		}
		var order []string
		var keys []string
		for _, by := range root.Sort {
			expression, asJSON, _ := sortColumn(by)
			direction := ""
			if by.Descending {
				direction = " desc"
			}
			order = append(order, expression+direction+" nulls last")
			keys = append(keys, asJSON)
		}
		if root.After != nil {
			where += " and (" + behind(&args, root) + ")"
		}
		text := "select " + columns
		if len(keys) > 0 {
			text += ", " + strings.Join(keys, ", ")
		}
		text += from + where + " order by " + strings.Join(append(order, "entry"), ", ") + " limit " + args.add(root.Limit+1, "bigint")
		b.query(func(rows pgx.Rows) error {
			if len(out.Rows) == root.Limit {
				out.More = true
				return nil
			}
			row := r.row(rows)
			at := query.Position{ID: row.ID, Values: make([]json.RawMessage, len(keys))}
			for k, v := range rows.RawValues()[len(r.columns):] {
				at.Values[k] = json.RawMessage("null")
				if v != nil {
					at.Values[k] = append(json.RawMessage(nil), v...)
				}
			}
			out.Rows, out.Last = append(out.Rows, row), append(out.Last, at)
			return nil
		}, text, args...)
	}
}

// behind is the condition that a row comes after the root's cursor, in the
// root's order.
func behind(args *params, root *query.Root) string {
	var either []string
	var equal []string
	for i, by := range root.Sort {
		expression, _, cast := sortColumn(by)
		var v any
		_ = json.Unmarshal(root.After.Values[i], &v) // checked when the cursor was read
		if v == nil {
			// Nothing comes behind the entries without a value but more of them.
			equal = append(equal, expression+" is null")
			continue
		}
		p := args.add(fmt.Sprint(plainNumber(v)), "text") + "::" + cast
		sign := " > "
		if by.Descending {
			sign = " < "
		}
		after := "(" + expression + sign + p + " or " + expression + " is null)"
		either = append(either, strings.Join(append(equal[:len(equal):len(equal)], after), " and "))
		equal = append(equal, expression+" = "+p)
	}
	last := strings.Join(append(equal, "entry > "+args.add(root.After.ID, "text")), " and ")
	return strings.Join(append(either, last), " or ")
}

func plainNumber(v any) any {
	if f, ok := v.(float64); ok {
		return strconv.FormatInt(int64(f), 10)
	}
	return v
}

func hasLinks(sel *query.Selection) bool {
	for i := range sel.Picks {
		if sel.Picks[i].Kind == query.PickLink {
			return true
		}
	}
	return false
}

// linkRead is the read of all entries that one reference of some rows leads to.
type linkRead struct {
	locale    string
	pick      int
	types     []string
	parents   []*query.Row
	selection *query.Selection
	found     map[string]*query.Row
}

func collectLinks(out []*linkRead, locale string, sel *query.Selection, rows []*query.Row) []*linkRead {
	for i := range sel.Picks {
		p := &sel.Picks[i]
		if p.Kind != query.PickLink {
			continue
		}
		l := &linkRead{locale: locale, pick: i, types: p.Types, selection: p.Link, found: map[string]*query.Row{}}
		for _, row := range rows {
			if len(row.Asked[i]) > 0 && (p.On == nil || contains(p.On, row.Type)) {
				l.parents = append(l.parents, row)
			}
		}
		if len(l.parents) > 0 {
			out = append(out, l)
		}
	}
	return out
}

func contains(list []string, s string) bool {
	for _, one := range list {
		if one == s {
			return true
		}
	}
	return false
}

func (s *Store) queueLink(b *batch, edition string, l *linkRead) {
	var wanted []string
	for _, p := range l.parents {
		for _, id := range p.Asked[l.pick] {
			if _, ok := l.found[id]; !ok {
				l.found[id] = nil
				wanted = append(wanted, id)
			}
		}
	}
	r := newReader(l.selection)
	b.query(func(rows pgx.Rows) error {
		row := r.row(rows)
		l.found[row.ID] = row
		return nil
	}, "select "+strings.Join(r.columns, ", ")+" from document where environment = $1 and edition = $2 and locale = $3 and entry = any($4) and type = any($5)",
		s.Environment, edition, l.locale, wanted, l.types)
}

// attach hangs the entries found below the rows that refer to them, in the
// order in which they do.
func (l *linkRead) attach() {
	for _, p := range l.parents {
		for _, id := range p.Asked[l.pick] {
			if row := l.found[id]; row != nil {
				p.Linked[l.pick] = append(p.Linked[l.pick], row)
			}
		}
	}
}

func (l *linkRead) rows() []*query.Row {
	out := make([]*query.Row, 0, len(l.found))
	for _, row := range l.found {
		if row != nil {
			out = append(out, row)
		}
	}
	return out
}
