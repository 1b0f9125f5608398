package query

// EffortFigures are the effort of a query and its bound.
type EffortFigures struct {
	Asked int `json:"asked"`
	Limit int `json:"limit"`
}

// MaxEffort bounds the effort of a query.
const MaxEffort = 200_000

// What a reference to several entries, and a list of blocks, are taken to hold.
const (
	usualLinks  = 10
	usualBlocks = 5
)

// Effort says, before the query is run, how much it asks for at most: values, as
// far as windows and what is usual tell.
func (q *Query) Effort() int {
	sum := 0
	for i := range q.Roots {
		sum += q.Roots[i].effort()
	}
	return min(sum, 1<<31)
}

func (r *Root) effort() int {
	each := r.Selection.effort()
	if r.Count {
		each++
	}
	switch r.By {
	case ByList, ByBack:
		return 1 + min(r.Limit*each, 1<<31) + r.Filter.Effort()
	case ByPaths:
		return 1
	}
	return 1 + each
}

func (s *Selection) effort() int {
	sum := 1
	for i := range s.Picks {
		p := &s.Picks[i]
		sum++
		times := 1
		switch {
		case p.List != nil:
			sum += p.List.effort()
			continue
		case p.Link == nil:
			continue
		case p.Several && p.Kind == PickInner:
			times = usualBlocks
		case p.Several:
			times = usualLinks
		}
		sum = min(sum+times*p.Link.effort(), 1<<31)
	}
	return sum
}
