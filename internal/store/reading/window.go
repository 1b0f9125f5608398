package reading

import (
	"slices"
	"strconv"
	"strings"

	"ubiquon/internal/core/query"
	"ubiquon/internal/store/clause"
)

func listTemplates(root *query.Root, r *reader, where string, args clause.Params) []template {
	if root.Translated {
		where += " and about -> 'locales' ? locale"
	}
	where += filtered(root, &args)
	var all []template
	if root.Count {
		all = append(all, newTemplate([]string{"count(*)::text"}, " from document"+where, slices.Clone(args),
			func(out *query.RootResult) func([][]byte) error {
				return func(raw [][]byte) (err error) {
					out.Total, err = strconv.Atoi(string(raw[0]))
					return err
				}
			}))
	}
	if root.Offset > 0 && root.Offset <= query.MaxSkippedKnown {
		some, keys := slices.Clone(args), newReader(&query.Selection{}, root.Type)
		keys.sorted(root)
		rest := " from document" + where + inOrder(root) + " limit " + some.Add(root.Offset, "bigint")
		all = append(all, newTemplate(keys.columns, rest, some, func(out *query.RootResult) func([][]byte) error {
			return func(raw [][]byte) error {
				out.Skipped = append(out.Skipped, keys.placed(raw))
				return nil
			}
		}))
	}
	from := window(root, r, where, &args)
	return append(all, newTemplate(r.columns, from, args, func(out *query.RootResult) func([][]byte) error {
		r := r.fresh()
		return func(raw [][]byte) error {
			takeRow(root, r, out, raw)
			return nil
		}
	}))
}

// takeRow adds a row to a list, or notes that there is one more.
func takeRow(root *query.Root, r *reader, out *query.RootResult, raw [][]byte) {
	if len(out.Rows) == root.Limit {
		out.More, out.Lookahead = true, append(out.Lookahead, r.placed(raw))
		return
	}
	out.Rows = append(out.Rows, r.row(raw))
}

// sorted lets the reader take the sort values, too.
func (r *reader) sorted(root *query.Root) {
	r.keys = make([]int, len(root.Sort))
	for i, by := range root.Sort {
		_, asText, _ := clause.SortColumn(by)
		r.keys[i] = r.column(asText)
	}
}

// window is the part of a list's statement, from its from on, that finds the rows
// which meet the conditions, orders them and cuts them; the sort values are added
// to the reader's columns.
//
// What lies beyond a cursor is put together from pieces of which each is one
// stretch of an index, read in order and only as far as it is needed: a page far
// down costs what the first one does.
func window(root *query.Root, r *reader, where string, args *clause.Params) string {
	order := inOrder(root)
	r.sorted(root)
	limit := args.Add(root.Limit+root.Past(), "bigint")
	var pieces []string
	switch {
	case root.After != nil:
		pieces = behind(args, root)
	case root.Before != nil:
		pieces = ahead(args, root)
	default:
		from := " from document" + where + order + " limit " + limit
		if root.Offset > 0 {
			from += " offset " + args.Add(root.Offset, "bigint")
		}
		return from
	}
	for i, p := range pieces {
		pieces[i] = "(select * from document" + where + " and " + p + order + " limit " + limit + ")"
	}
	return " from (" + strings.Join(pieces, " union all ") + ") document limit " + limit
}

// inOrder is the order of a list, as it is read.
func inOrder(root *query.Root) string {
	var order []string
	for _, by := range root.Sort {
		expression, _, _ := clause.SortColumn(by)
		order = append(order, expression+clause.Direction(by.Descending, root.Backwards()))
	}
	id := "entry"
	if root.Backwards() {
		id = "entry desc"
	}
	return " order by " + strings.Join(append(order, id), ", ")
}

// behind returns the conditions of the pieces that come after the root's cursor,
// in the root's order.
func behind(args *clause.Params, root *query.Root) []string {
	equal := upTo(args, root.Sort, root.After)
	pieces := []string{strings.Join(append(equal.all(), "entry > "+args.Add(root.After.ID, "text")), " and ")}
	for i := len(root.Sort) - 1; i >= 0; i-- {
		if root.After.Values[i] == nil {
			continue // nothing comes behind the entries without a value but more of them
		}
		sign := " > "
		if root.Sort[i].Descending {
			sign = " < "
		}
		pieces = append(
			pieces, equal.then(i, equal[i].expression+sign+equal[i].value),
			equal.then(i, equal[i].expression+" is null"),
		)
	}
	return pieces
}

// ahead returns the conditions of the pieces that come before the root's cursor,
// the nearest first.
func ahead(args *clause.Params, root *query.Root) []string {
	equal := upTo(args, root.Sort, root.Before)
	pieces := []string{strings.Join(append(equal.all(), "entry < "+args.Add(root.Before.ID, "text")), " and ")}
	for i := len(root.Sort) - 1; i >= 0; i-- {
		if root.Before.Values[i] == nil {
			// All that have a value come before those without.
			pieces = append(pieces, equal.then(i, equal[i].expression+" is not null"))
			continue
		}
		sign := " < "
		if root.Sort[i].Descending {
			sign = " > "
		}
		pieces = append(pieces, equal.then(i, equal[i].expression+sign+equal[i].value))
	}
	return pieces
}

// atCursor are the values of a cursor beside what they are compared with.
type atCursor []struct{ expression, value string }

func upTo(args *clause.Params, sort []query.Sort, at *query.Position) atCursor {
	out := make(atCursor, len(sort))
	for i, by := range sort {
		var cast string
		out[i].expression, _, cast = clause.SortColumn(by)
		if v := at.Values[i]; v != nil {
			out[i].value = args.Add(*v, "text") + "::" + cast
		}
	}
	return out
}

// all are the conditions that the values are those of the cursor.
func (c atCursor) all() []string {
	out := make([]string, len(c))
	for i, one := range c {
		out[i] = one.expression + " = " + one.value
		if one.value == "" {
			out[i] = one.expression + " is null"
		}
	}
	return out
}

// then is the condition that the first n values are those of the cursor, and
// another one.
func (c atCursor) then(n int, another string) string {
	return strings.Join(append(c[:n].all(), another), " and ")
}
