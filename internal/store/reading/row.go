package reading

import (
	"bytes"

	"ubiquon/internal/core/query"
	"ubiquon/internal/store/clause"
)

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
			r.cells[i] = []int{r.column(clause.Member("fields", p.Field, p.Text))}
			continue
		}
		from := "about"
		if p.Kind == query.PickParts {
			from = "fields -> " + clause.Quote(p.Field)
			// The first cell tells whether there is an object at all.
			r.cells[i] = append(r.cells[i], r.column("case when fields ? "+clause.Quote(p.Field)+" then true end"))
		}
		for _, m := range members {
			r.cells[i] = append(r.cells[i], r.column(clause.Member(from, m.Name, m.Text)))
		}
	}
	return r
}

// fresh is a reader of the same columns that holds nothing yet.
func (r *reader) fresh() *reader {
	return &reader{columns: r.columns, typ: r.typ, cells: r.cells, keys: r.keys, sel: r.sel}
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
		switch p := &r.sel.Picks[i]; p.Kind {
		case query.PickLink, query.PickInner:
			if out.Asked == nil {
				out.Asked, out.Linked = make([][]string, len(r.cells)), make([][]*query.Row, len(r.cells))
			}
			if p.Kind == query.PickLink {
				out.Asked[i] = query.IDs(out.Cells[i][0])
			} else {
				out.Linked[i] = p.Inner(out.Cells[i][0])
			}
		case query.PickBack:
			if out.Lists == nil {
				out.Lists = make([]*query.RootResult, len(r.cells))
			}
			out.Lists[i] = &query.RootResult{}
		}
	}
	return out
}

// placed is only where an entry stands in its list.
func (r *reader) placed(raw [][]byte) *query.Row {
	out := &query.Row{ID: string(raw[0]), Keys: make([][]byte, len(r.keys))}
	for i, c := range r.keys {
		out.Keys[i] = bytes.Clone(raw[c])
	}
	return out
}

// slab hands out pieces of larger allocations, of up to sixteen pieces each: the
// rows of a result live and die together.
type slab[T any] struct {
	left []T
	made int
}

func (s *slab[T]) take(n int) []T {
	if n > len(s.left) {
		s.made = min(max(2*s.made, 1), 16)
		s.left = make([]T, s.made*n)
	}
	out := s.left[:n:n]
	s.left = s.left[n:]
	return out
}
