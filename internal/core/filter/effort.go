package filter

import "strings"

// The effort of a condition, in values that PostgreSQL may have to look at. What an index
// finds is little; the rest is held against every entry of the type, of which there may be
// very many.
const (
	effortFound   = 10    // an index finds what it is true of
	effortTried   = 500   // tried on every entry
	effortPattern = 5_000 // a pattern that may stand anywhere in a text
	effortStep    = 4     // times as much for each reference that is entered
)

// Effort says how much the filter asks for, before it is run.
func (f *Filter) Effort() int {
	if f == nil || f.Expr == nil {
		return 0
	}
	found := supported(f.Expr)
	sum := 0
	walk(f.Expr, func(e Expr) {
		if found {
			sum += effortFound
		} else {
			sum += effortOf(e)
		}
	})
	return sum
}

// effortOf is the effort of a predicate that is tried on every entry.
func effortOf(e Expr) int {
	effort := effortTried
	if like, is := e.(Like); is && wild(like.Pattern) {
		effort = effortPattern
	}
	steps := 0
	for _, n := range names(e) {
		steps = max(steps, len(n.Steps))
	}
	for range steps {
		effort *= effortStep
	}
	return effort
}

// wild tells whether a pattern says nothing of how a text begins.
func wild(pattern string) bool {
	return strings.HasPrefix(pattern, "%") || strings.HasPrefix(pattern, "_")
}

// supported tells whether an index finds the entries for which the condition can be
// true.
func supported(e Expr) bool {
	plain := func(o Operand) bool { return o.Name != nil && !o.CaseI && !o.AccentI && o.Name.found() }
	switch e := e.(type) {
	case Truth:
		return true
	case And:
		for _, p := range e.Parts {
			if _, trivial := p.(Truth); !trivial && supported(p) {
				return true
			}
		}
		return false
	case Or:
		for _, p := range e.Parts {
			if !supported(p) {
				return false
			}
		}
		return true
	case Compare:
		return e.Op == "=" && plain(e.Left) && e.Right.Name == nil ||
			e.Op != "<>" && plain(e.Left) && e.Right.Name == nil && len(e.Left.Name.Steps) == 0
	case Between:
		return plain(e.Of) && len(e.Of.Name.Steps) == 0
	case In:
		return !e.Outside && plain(e.Of)
	case Like:
		return plain(e.Of) && len(e.Of.Name.Steps) == 0 && !wild(e.Pattern)
	}
	return false
}

// found tells whether entries are found by the property's value: it is an indexed field
// of their own, or the id of an entry that they refer to.
func (n *Name) found() bool { return n.indexed && len(n.Steps) == 0 || n.isEntered() }
