package graphql

import (
	"fmt"
	"maps"
	"slices"

	"github.com/vektah/gqlparser/v2/ast"
	"github.com/vektah/gqlparser/v2/gqlerror"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/query"
)

// Restrict returns the operation as it is for a reader with these rights:
// fields that need more are null, and the answer has an error for each that
// names the grant.
func (o *Operation) Restrict(rights access.Rights) *Operation {
	out := &Operation{
		Query:      query.Query{Edition: o.Query.Edition},
		names:      o.names,
		Errors:     o.Errors,
		describing: o.describing,
		vars:       o.vars,
		Negotiated: o.Negotiated,
		restricted: true,
	}
	for _, f := range o.fields {
		if f.constant == "" && !f.null {
			root := o.Query.Roots[f.root]
			need, missing := rights.Missing(o.Query.NeedsOfRoot(&root))
			if missing && root.Type != "" {
				f.null = true
				out.Errors = append(out.Errors, Denied(ast.Path{ast.PathName(f.as)}, need.String()))
			} else {
				f.root = len(out.Query.Roots)
				out.Query.Roots = append(out.Query.Roots, root)
			}
		}
		out.fields = append(out.fields, f)
	}
	narrowed, _ := out.Query.Without(rights, true)
	out.Query = *narrowed
	out.Query.Refuse(rights, slices.Sorted(maps.Keys(o.names)))
	return out
}

// Denied is the error of a field that takes a grant the reader lacks.
func Denied(path ast.Path, grant string) *gqlerror.Error {
	return &gqlerror.Error{
		Message:    fmt.Sprintf("the grant %q is missing", grant),
		Path:       path,
		Extensions: map[string]any{"grant": grant, "hint": access.GrantRemedy(grant)},
	}
}

// refusals are the errors of the fields that are null in the answer because the
// reader may not enter them, each with its place.
func (o *Operation) refusals(res *query.Result) gqlerror.List {
	if !o.restricted {
		return nil
	}
	var out gqlerror.List
	for _, f := range o.fields {
		if f.null || f.constant != "" {
			continue
		}
		root, found := &o.Query.Roots[f.root], &res.Roots[f.root]
		at := ast.Path{ast.PathName(f.as)}
		if grant := refusedRoot(root, found); grant != "" && o.Query.Edition == content.Preview {
			continue // that there is such a draft, and of which type, is not told
		} else if grant != "" {
			out = append(out, Denied(at, grant))
		} else if f.kind == rootList {
			out = refusedInList(out, at, f.shape, root, found)
		} else if len(found.Rows) > 0 {
			out = refusedInEntry(out, at, root.Selection.Picks, 0, found.Rows[0])
		}
	}
	return out
}

// refusedRoot is the grant that is missing for the entry that a root found, ""
// if none is.
func refusedRoot(root *query.Root, found *query.RootResult) string {
	if root.Refused == nil || len(found.Rows) == 0 {
		return ""
	}
	return root.Refused[found.Rows[0].Type]
}

func refusedInList(
	out gqlerror.List, at ast.Path, shape []query.ListPart, root *query.Root, found *query.RootResult,
) gqlerror.List {
	picks := root.Selection.Picks
	for _, part := range shape {
		for i, row := range found.Rows {
			one := below(at, ast.PathName(part.As), ast.PathIndex(i))
			switch part.Name {
			case "nodes":
				out = refusedInEntry(out, one, picks[part.First:part.End], part.First, row)
			case "edges":
				for _, e := range part.Inner {
					if e.Name == "node" {
						out = refusedInEntry(out, below(one, ast.PathName(e.As)), picks[e.First:e.End], e.First, row)
					}
				}
			}
		}
	}
	return out
}

func refusedInEntry(out gqlerror.List, at ast.Path, picks []query.SelectedField, first int,
	row *query.Row,
) gqlerror.List {
	for i := 0; i < len(picks); i++ {
		p := &picks[i]
		within := i + 1 // of a group
		i += p.Members
		if p.On != nil && !slices.Contains(p.On, row.Type) {
			continue
		}
		here := below(at, ast.PathName(p.As))
		switch {
		case p.Kind == query.PickGroup:
			out = refusedInEntry(out, here, picks[within:i+1], first+within, row)
		case p.Denied != "":
			out = append(out, Denied(here, p.Denied))
		case p.List != nil:
			out = refusedInList(out, here, p.Shape, p.List, row.Lists[first+i])
		case p.Link != nil && row.Linked != nil:
			for j, linked := range row.Linked[first+i] {
				one := here
				if p.Several {
					one = below(here, ast.PathIndex(j))
				}
				out = refusedInEntry(out, one, p.Link.Picks, 0, linked)
			}
		}
	}
	return out
}

func below(at ast.Path, more ...ast.PathElement) ast.Path { return append(slices.Clone(at), more...) }
