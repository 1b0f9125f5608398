package store

import (
	"context"
	"slices"
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
// statements of one depth travel together. A query that is one statement anyhow
// needs no transaction around it to see one snapshot.
func (s *Store) Read(ctx context.Context, version int64, q *query.Query) (*query.Result, error) {
	res := &query.Result{Roots: make([]query.RootResult, len(q.Roots))}
	var all []statement
	deeper := false
	for i := range q.Roots {
		all = append(all, s.rootStatements(q, i, &res.Roots[i])...)
		deeper = deeper || hasLinks(&q.Roots[i].Selection)
	}
	if len(all) == 1 && !deeper {
		if found, err := s.readAtOnce(ctx, all[0], res); err != nil || found {
			turn(q, res)
			return checked(res, version, err)
		}
	}
	err := s.inBatches(ctx, func(conn *pgxpool.Conn) error {
		var b batch
		b.exec(`begin isolation level repeatable read read only`)
		b.query(func(r pgx.Rows) error { return r.Scan(&res.Sequence, &res.ModelVersion) },
			`select sequence, model_version from head where environment = $1`, s.Environment)
		for _, st := range all {
			st.queue(&b)
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
		turn(q, res)
		var next []*linkRead
		for i := range q.Roots {
			next = collectLinks(next, q.Roots[i].Locale, &q.Roots[i].Selection, res.Roots[i].Rows)
		}
		for len(next) > 0 {
			var b batch
			deeper = false
			for _, l := range next {
				s.linkStatement(q.Edition, l).queue(&b)
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
	return checked(res, version, err)
}

// turn puts the rows of lists that were read from their end into order.
func turn(q *query.Query, res *query.Result) {
	for i := range q.Roots {
		if q.Roots[i].Backwards() {
			slices.Reverse(res.Roots[i].Rows)
		}
	}
}

func checked(res *query.Result, version int64, err error) (*query.Result, error) {
	if err == nil && int64(res.ModelVersion) != version {
		err = ErrModelMoved
	}
	if err != nil {
		return nil, err
	}
	return res, nil
}

// statement is a select whose rows go to each, as they come from the wire.
type statement struct {
	columns string // between select and from
	rest    string // from and what follows
	args    []any
	each    func(raw [][]byte) error
}

func (st statement) queue(b *batch) {
	b.query(func(rows pgx.Rows) error { return st.each(rows.RawValues()) }, "select "+st.columns+st.rest, st.args...)
}

// readAtOnce runs a statement that brings the head of the log and the model's
// version along with its rows. Without rows it brings nothing: then found is
// false, and the statement is run again beside one that asks for the head.
func (s *Store) readAtOnce(ctx context.Context, st statement, res *query.Result) (found bool, err error) {
	rows, err := s.Pool.Query(ctx, "select "+st.columns+", (select stamp from head where environment = $1)"+st.rest, st.args...)
	if err != nil {
		return false, err
	}
	defer rows.Close()
	for rows.Next() {
		raw := rows.RawValues()
		n := len(raw) - 1
		if !found {
			found = true
			sequence, version, _ := strings.Cut(string(raw[n]), " ")
			if res.Sequence, err = strconv.ParseInt(sequence, 10, 64); err != nil {
				return true, err
			}
			if res.ModelVersion, err = strconv.Atoi(version); err != nil {
				return true, err
			}
		}
		if err := st.each(raw[:n]); err != nil {
			return true, err
		}
	}
	return found, rows.Err()
}

// reader turns the columns of a statement into rows of a selection. It takes the
// bytes as they come: text and jsonb come as text, and of the booleans only
// matters whether they are null.
type reader struct {
	columns []string
	typ     string // of all rows, or "" when it is the second column
	// cells says, for each pick, which columns it has.
	cells [][]int
	keys  []int // the columns of a list's sort values
	sel   *query.Selection

	kept   [][]byte // of the row at hand
	bytes  slab[byte]
	values slab[[]byte]
	lists  slab[[][]byte]
	rows   slab[query.Row]
}

// newReader returns the reader of a selection of entries of one type, or, with
// "", of any.
func newReader(sel *query.Selection, typ string) *reader {
	r := &reader{columns: []string{"entry"}, typ: typ, sel: sel, cells: make([][]int, len(sel.Picks))}
	if typ == "" {
		r.column("type")
	}
	for i := range sel.Picks {
		p := &sel.Picks[i]
		whole, members := p.Columns()
		if whole {
			r.cells[i] = []int{r.column(member("fields", p.Field, p.Text))}
			continue
		}
		from := "about"
		if p.Kind == query.PickParts {
			from = "fields -> " + quote(p.Field)
			// The first cell tells whether there is an object at all.
			r.cells[i] = append(r.cells[i], r.column("case when fields ? "+quote(p.Field)+" then true end"))
		}
		for _, m := range members {
			r.cells[i] = append(r.cells[i], r.column(member(from, m.Name, m.Text)))
		}
	}
	return r
}

// column returns the place of an expression among the columns, adding it if it
// is not there yet.
func (r *reader) column(expression string) int {
	for i, c := range r.columns {
		if c == expression {
			return i
		}
	}
	r.columns = append(r.columns, expression)
	return len(r.columns) - 1
}

func member(of, name string, bare bool) string {
	if bare {
		return of + " ->> " + quote(name)
	}
	return of + " -> " + quote(name)
}

func (r *reader) row(raw [][]byte) *query.Row {
	// What came is only good until the next row: one copy of all of it.
	size, cells := 0, len(r.keys)
	for _, v := range raw[:len(r.columns)] {
		size += len(v)
	}
	for _, c := range r.cells {
		cells += len(c)
	}
	arena := r.bytes.take(size)[:0]
	r.kept = r.kept[:0]
	for _, v := range raw[:len(r.columns)] {
		if v != nil {
			start := len(arena)
			arena = append(arena, v...)
			v = arena[start:len(arena):len(arena)]
		}
		r.kept = append(r.kept, v)
	}
	typ := r.typ
	if typ == "" {
		typ = string(r.kept[1])
	}
	out := &r.rows.take(1)[0]
	*out = query.Row{ID: string(r.kept[0]), Type: typ, Cells: r.lists.take(len(r.cells))}
	flat := r.values.take(cells)[:0]
	for _, c := range r.keys {
		flat = append(flat, r.kept[c])
	}
	out.Keys = flat[:len(r.keys):len(r.keys)]
	for i, columns := range r.cells {
		start := len(flat)
		for _, c := range columns {
			flat = append(flat, r.kept[c])
		}
		out.Cells[i] = flat[start:len(flat):len(flat)]
		if p := &r.sel.Picks[i]; p.Kind == query.PickLink {
			if out.Asked == nil {
				out.Asked, out.Linked = make([][]string, len(r.cells)), make([][]*query.Row, len(r.cells))
			}
			out.Asked[i] = ids(out.Cells[i][0])
		}
	}
	return out
}

// slab hands out pieces of larger allocations: the rows of a result live and
// die together.
type slab[T any] struct{ left []T }

func (s *slab[T]) take(n int) []T {
	if n > len(s.left) {
		s.left = make([]T, 16*max(n, 1))
	}
	out := s.left[:n:n]
	s.left = s.left[n:]
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

// sortColumn returns the SQL of a sort's value, that of the same value as text,
// and the type that the text is cast to when it is compared.
func sortColumn(s query.Sort) (expression, asText, cast string) {
	if name, ok := strings.CutPrefix(s.By, "about."); ok {
		column := map[string]string{"published": "published", "firstPublished": "first_published", "updated": "updated"}[name]
		return column, member("about", name, true), "timestamptz"
	}
	asText = member("fields", s.By, true)
	switch s.Kind {
	case model.Integer:
		return "(" + asText + ")::bigint", asText, "bigint"
	case model.Money:
		asText = member(member("fields", s.By, false), "amount", true)
		return "(" + asText + ")::bigint", asText, "bigint"
	case model.Boolean:
		return "(" + asText + ")::boolean", asText, "boolean"
	}
	// Text compares by its bytes, here and everywhere.
	return "(" + asText + `) collate "C"`, asText, "text"
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

// rootStatements returns what answers a root: one statement, and before it
// another one if the list is to be counted. The environment is the first
// argument of each.
func (s *Store) rootStatements(q *query.Query, i int, out *query.RootResult) []statement {
	root := &q.Roots[i]
	r := newReader(&root.Selection, root.Type)
	var args params
	where := " from document where environment = " + args.add(s.Environment, "") + " and edition = " + args.add(q.Edition, "") + " and locale = " + args.add(root.Locale, "")
	if root.Type != "" {
		where += " and type = " + args.add(root.Type, "")
	}
	one := func(raw [][]byte) error {
		out.Rows = append(out.Rows, r.row(raw))
		return nil
	}
	switch root.By {
	case query.BySlug:
		where += " and slug = " + args.add(root.Value, "")
	case query.ByID:
		where += " and entry = " + args.add(root.Value, "")
	case query.BySingle:
		where += " order by entry limit 1"
	case query.ByList:
		return listStatements(root, r, out, where, args)
	}
	return []statement{{strings.Join(r.columns, ", "), where, args, one}}
}

func listStatements(root *query.Root, r *reader, out *query.RootResult, where string, args params) []statement {
	var all []statement
	if root.Count {
		all = append(all, statement{"count(*)::text", where, args[:len(args):len(args)], func(raw [][]byte) (err error) {
			out.Total, err = strconv.Atoi(string(raw[0]))
			return err
		}})
	}
	var order []string
	r.keys = make([]int, len(root.Sort))
	for i, by := range root.Sort {
		expression, asText, _ := sortColumn(by)
		direction := " asc nulls last"
		switch {
		case by.Descending && root.Backwards():
			direction = " asc nulls first"
		case by.Descending:
			direction = " desc nulls last"
		case root.Backwards():
			direction = " desc nulls first"
		}
		order = append(order, expression+direction)
		r.keys[i] = r.column(asText)
	}
	id := "entry"
	if root.Backwards() {
		id = "entry desc"
	}
	if root.After != nil {
		where += " and (" + behind(&args, root) + ")"
	}
	if root.Before != nil {
		where += " and (" + ahead(&args, root) + ")"
	}
	where += " order by " + strings.Join(append(order, id), ", ") + " limit " + args.add(root.Limit+1, "bigint")
	return append(all, statement{strings.Join(r.columns, ", "), where, args, func(raw [][]byte) error {
		if len(out.Rows) == root.Limit {
			out.More = true
			return nil
		}
		out.Rows = append(out.Rows, r.row(raw))
		return nil
	}})
}

// behind is the condition that a row comes after the root's cursor, in the
// root's order.
func behind(args *params, root *query.Root) string {
	var either []string
	var equal []string
	for i, by := range root.Sort {
		expression, _, cast := sortColumn(by)
		v := root.After.Values[i]
		if v == nil {
			// Nothing comes behind the entries without a value but more of them.
			equal = append(equal, expression+" is null")
			continue
		}
		p := args.add(*v, "text") + "::" + cast
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

// ahead is the condition that a row comes before the root's cursor, in the
// root's order.
func ahead(args *params, root *query.Root) string {
	var either []string
	var equal []string
	for i, by := range root.Sort {
		expression, _, cast := sortColumn(by)
		v := root.Before.Values[i]
		if v == nil {
			// All that have a value come before those without.
			either = append(either, strings.Join(append(equal[:len(equal):len(equal)], expression+" is not null"), " and "))
			equal = append(equal, expression+" is null")
			continue
		}
		p := args.add(*v, "text") + "::" + cast
		sign := " < "
		if by.Descending {
			sign = " > "
		}
		either = append(either, strings.Join(append(equal[:len(equal):len(equal)], expression+sign+p), " and "))
		equal = append(equal, expression+" = "+p)
	}
	last := strings.Join(append(equal, "entry < "+args.add(root.Before.ID, "text")), " and ")
	return strings.Join(append(either, last), " or ")
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
			if len(row.Asked[i]) > 0 && (p.On == nil || slices.Contains(p.On, row.Type)) {
				l.parents = append(l.parents, row)
			}
		}
		if len(l.parents) > 0 {
			out = append(out, l)
		}
	}
	return out
}

func (s *Store) linkStatement(edition string, l *linkRead) statement {
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
	r := newReader(l.selection, only)
	return statement{strings.Join(r.columns, ", "), " from document where environment = $1 and edition = $2 and locale = $3 and entry = any($4) and type = any($5)",
		[]any{s.Environment, edition, l.locale, wanted, l.types}, func(raw [][]byte) error {
			row := r.row(raw)
			l.found[row.ID] = row
			return nil
		}}
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
