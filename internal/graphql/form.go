package graphql

import (
	"slices"

	"github.com/vektah/gqlparser/v2/ast"
	"github.com/vektah/gqlparser/v2/gqlerror"
)

const (
	// maxAlike bounds how often one name of the answer is asked for in one selection:
	// validation holds each against each.
	maxAlike = 50
	// maxFragments bounds the fragments of a document, for the same reason.
	maxFragments = 200
)

// checkForm refuses documents that would be dear to validate, and drops fields that
// stand in one selection more than once, to the letter.
func (s *Schema) checkForm(doc *ast.QueryDocument) *gqlerror.Error {
	if n := len(doc.Fragments); n > maxFragments {
		return gqlerror.Errorf("the document has %d fragments, at most %d are allowed", n, maxFragments)
	}
	f := formCheck{nesting: s.limits.GraphQLNesting}
	for _, op := range doc.Operations {
		op.SelectionSet = f.set(op.SelectionSet, 1)
	}
	for _, fragment := range doc.Fragments {
		fragment.SelectionSet = f.set(fragment.SelectionSet, 1)
	}
	return f.err
}

type formCheck struct {
	nesting int
	err     *gqlerror.Error
}

func (f *formCheck) set(set ast.SelectionSet, depth int) ast.SelectionSet {
	if depth > f.nesting && len(set) > 0 {
		f.err = gqlerror.ErrorPosf(
			set[0].GetPosition(),
			"selections are nested more than %d deep; ask for the inner ones in a request of their own", f.nesting,
		)
		return set
	}
	alike, plain := map[string]int{}, map[[2]string]bool{}
	return slices.DeleteFunc(set, func(sel ast.Selection) bool {
		switch x := sel.(type) {
		case *ast.Field:
			if len(x.SelectionSet) == 0 && len(x.Arguments) == 0 && len(x.Directives) == 0 {
				same := [2]string{x.Alias, x.Name}
				if plain[same] {
					return true
				}
				plain[same] = true
			}
			if alike[x.Alias]++; alike[x.Alias] > maxAlike {
				f.err = gqlerror.ErrorPosf(x.Position, "%s is asked for more than %d times in one place; ask for "+
					"it once", x.Alias, maxAlike)
			}
			x.SelectionSet = f.set(x.SelectionSet, depth+1)
		case *ast.InlineFragment:
			if alike["... on "+x.TypeCondition]++; alike["... on "+x.TypeCondition] > maxAlike {
				f.err = gqlerror.ErrorPosf(x.Position, "there are more than %d fragments on %s in one place; make "+
					"them one", maxAlike, x.TypeCondition)
			}
			x.SelectionSet = f.set(x.SelectionSet, depth+1)
		}
		return false
	})
}
