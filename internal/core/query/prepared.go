package query

import "ubiquon/internal/core/memo"

// Prepare makes ready a query that is to be answered again and again, before anybody else knows it. It is
// not changed or copied from then on.
func (q *Query) Prepare(m memo.Memo) {
	q.Memo = m
	q.each(func(r *Root) {
		if r.Filter != nil {
			r.Filter.Prepare()
		}
		r.mark = r.listMark()
	})
}

// each calls f for every root, and for every list nested in one of which something may be shown.
func (q *Query) each(f func(*Root)) {
	for i := range q.Roots {
		f(&q.Roots[i])
		q.Roots[i].Selection.walk(func(p *SelectedField) {
			if p.List != nil && !q.Roots[i].ShowsNothing() {
				f(p.List)
			}
		})
	}
}
