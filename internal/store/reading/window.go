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
	l := list{root: root, ofType: where, fits: filtered(root, &args), led: leading(root, &args)}
	where += l.fits
	var all []template
	if root.Count {
		all = append(all, newTemplate([]string{l.count()}, "", slices.Clone(args),
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
	r.sorted(root)
	return append(all, newTemplate(r.columns, l.window(&args), args, func(out *query.RootResult) func([][]byte) error {
		r := r.fresh()
		return func(raw [][]byte) error {
			takeRow(root, r, out, raw)
			return nil
		}
	}))
}

// list are the parts of a statement that reads a list. $1 to $3 are environment, edition and locale.
type list struct {
	root         *query.Root
	ofType, fits string // conditions: from where on, and of the filter
	// led selects links of which whatever meets the filter has one; "" for none.
	led string
}

// leading is the led of a list.
func leading(root *query.Root, args *clause.Params) string {
	if root.Filter == nil || root.Offset > 0 {
		return ""
	}
	step, of, found := root.Filter.Led()
	if !found {
		return ""
	}
	c := clause.Condition{Args: args}
	return c.Leading(step, of)
}

const (
	// ledMost is up to how many entries that a reference may lead to those that refer to them are looked up.
	ledMost = 100
	// nearTimes is how many times as many entries as are wanted are looked through in the order of a list, before
	// what may be meant is looked up and sorted.
	nearTimes = 20
)

// stretch is how many entries are looked through, at most 1000, for about n. It is one of few, so that statements
// are the same.
func stretch(n int) string {
	for _, enough := range []int{200, 500} {
		if n <= enough {
			return strconv.Itoa(enough)
		}
	}
	return "1000"
}

// some is what selects the links: one more than are looked up, if there are more.
func (l *list) some() string {
	return "with led as materialized (" + l.led + " limit " + strconv.Itoa(ledMost+1) + ")"
}

const (
	// refer is the condition that a document has one of the links.
	refer = " and links <> '{}' and links && array(select link from led)"
	// links is how many there are.
	links = "(select count(*) from led)"
)

// count is how many entries the list has, as text.
func (l *list) count() string {
	all := "(select count(*) from document" + l.ofType + l.fits + ")"
	if l.led != "" {
		all = "(" + l.some() + " select case when " + links + " <= " + strconv.Itoa(ledMost) +
			" then (select count(*) from document" + l.ofType + refer + l.fits + ") else " + all + " end)"
	}
	return all + "::text"
}

// window is the part of the list's statement, from its from on, that finds the rows of its window.
//
// What a filter asks of entries that references lead to is held against few or many, and what refers to these may
// be few or nearly all. So the first that the order has are looked through, if an index has it; if these are not
// enough, what refers to those entries is looked up by its links and sorted, if there are not too many; and else
// all is gone through.
func (l *list) window(args *clause.Params) string {
	wanted := l.root.Limit + l.root.Past()
	limit := args.Add(wanted, "bigint")
	if l.led == "" {
		return " from (" + ordered(l.root, "document", l.ofType+l.fits, args, limit) + ") document"
	}
	with, gone := l.some()+", few as materialized (select * from document"+l.ofType+refer+l.fits+")", ""
	many := links + " > " + strconv.Itoa(ledMost)
	var pieces []string
	if l.root.Indexed {
		with += ", near as materialized (select * from (" +
			ordered(l.root, "document", l.ofType, args, stretch(nearTimes*wanted)) + ") document where true" + l.fits +
			" limit " + limit + ")"
		pieces = []string{"select * from near where (select count(*) from near) >= " + limit}
		gone = " and (select count(*) from near) < " + limit
	}
	pieces = append(
		pieces,
		"select * from ("+ordered(l.root, "few", " where true", args, limit)+") document where not "+many+gone,
		"select * from ("+ordered(l.root, "document", l.ofType+l.fits, args, limit)+") document where "+many+gone,
	)
	return " from (" + with + " " + strings.Join(pieces, " union all ") + ") document"
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

// ordered selects the documents of a table, or of a select named document, that meet the conditions, in order, and
// cuts them. The documents are chosen in a select of their own: where no index has the order, what is shown would
// else be taken out of each that is sorted.
//
// What lies beyond a cursor is put together from pieces of which each is one
// stretch of an index, read in order and only as far as it is needed: a page far
// down costs what the first one does.
func ordered(root *query.Root, table, where string, args *clause.Params, limit string) string {
	order := inOrder(root)
	var pieces []string
	switch {
	case root.After != nil:
		pieces = behind(args, root)
	case root.Before != nil:
		pieces = ahead(args, root)
	default:
		text := "select * from " + table + where + order + " limit " + limit
		if root.Offset > 0 {
			text += " offset " + args.Add(root.Offset, "bigint")
		}
		return text
	}
	for i, p := range pieces {
		pieces[i] = "(select * from " + table + where + " and " + p + order + " limit " + limit + ")"
	}
	return "select * from (" + strings.Join(pieces, " union all ") + ") document limit " + limit
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
