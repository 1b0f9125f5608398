package query

import "ubiquon/internal/core/memo"

// Prepare makes ready a query that is to be answered again and again, before anybody else knows it. It is
// not changed or copied from then on.
func (q *Query) Prepare(m memo.Memo) {
	q.Memo = m
	prepare := func(r *Root) {
		if r.Filter != nil {
			r.Filter.Prepare()
		}
		r.mark = r.listMark()
	}
	for i := range q.Roots {
		prepare(&q.Roots[i])
		q.Roots[i].Selection.walk(func(p *SelectedField) {
			if p.List != nil {
				prepare(p.List)
			}
		})
	}
}
