package reading

import (
	"slices"
	"strconv"
	"strings"

	"ubiquon/internal/core/query"
	"ubiquon/internal/store/clause"
)

func listTemplates(environment string, root *query.Root, r *reader, where string, args clause.Params) []template {
	if root.Translated {
		where += " and about -> 'locales' ? locale"
	}
	l := list{
		root: root, ofType: where, filter: filtered(environment, root, &args),
		referenced: referencedLinks(environment, root, &args),
	}
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
		before := *root
		before.Offset = 0
		skipped := l
		skipped.root = &before
		rest := skipped.window(&some, root.Offset)
		all = append(all, newTemplate(keys.columns, rest, some, func(out *query.RootResult) func([][]byte) error {
			return func(raw [][]byte) error {
				out.Skipped = append(out.Skipped, keys.placed(raw))
				return nil
			}
		}))
	}
	r.sorted(root)
	rest := l.window(&args, root.Limit+root.Past())
	return append(all, newTemplate(r.columns, rest, args, func(out *query.RootResult) func([][]byte) error {
		r := r.fresh()
		return func(raw [][]byte) error {
			takeRow(root, r, out, raw)
			return nil
		}
	}))
}

// list is a list that is read. Its conditions are written as they stand in a statement, in which $1 to $3 are
// environment, edition and locale.
type list struct {
	root   *query.Root
	ofType string // " where …": a document is of the list's type, edition and locale
	filter string // " and …", or "" without a filter
	// referenced selects links of which each document that the filter is true of has at least one; "" if there is
	// no such select.
	referenced string
}

// referencedLinks is list.referenced of a root.
func referencedLinks(environment string, root *query.Root, args *clause.Params) string {
	if root.Filter == nil {
		return ""
	}
	step, condition, found := root.Filter.Referenced()
	if !found {
		return ""
	}
	c := clause.Condition{Args: args, Environment: environment}
	return c.LinksTo(step, condition)
}

const (
	// maxReferenced is up to how many referenced entries the documents that refer to them are looked up.
	maxReferenced = 100
	// headPerRow is how many documents at the beginning of an order are tried for each row that is wanted.
	headPerRow = 20
	// maxHead is how many are tried at most.
	maxHead = 1000
)

// headSize returns how many documents at the beginning of an order are tried, at most maxHead, where n would do. It is
// one of three sizes, so that few statements have to be prepared.
func headSize(n int) string {
	for _, size := range []int{200, 500} {
		if n <= size {
			return strconv.Itoa(size)
		}
	}
	return strconv.Itoa(maxHead)
}

// withReferenced begins a statement with the table referenced, of one link more than are looked up if there are more.
func (l *list) withReferenced() string {
	return "with referenced as materialized (" + l.referenced + " limit " + strconv.Itoa(maxReferenced+1) + ")"
}

const (
	// hasReferenced is the condition that a document has one of the links in the table referenced.
	hasReferenced = " and links <> '{}' and links && array(select link from referenced)"
	// countReferenced is how many there are.
	countReferenced = "(select count(*) from referenced)"
)

// count is the expression for how many documents the list has, as text.
func (l *list) count() string {
	all := "(select count(*) from document" + l.ofType + l.filter + ")"
	if l.referenced != "" {
		all = "(" + l.withReferenced() + " select case when " + countReferenced + " <= " + strconv.Itoa(maxReferenced) +
			" then (select count(*) from document" + l.ofType + hasReferenced + l.filter + ") else " + all + " end)"
	}
	return all + "::text"
}

// window is the part of the list's statement, from its from on, that finds the wanted number of rows, after those that
// are skipped.
//
// A filter on referenced entries may be true of few documents or of nearly all, and PostgreSQL cannot estimate which.
// So there are up to three selects, of which one has rows: the first tries the beginning of the order (head), if an
// index has the order; if that has too few, the second looks up the documents that refer to the referenced entries
// (referring) and sorts them, if these are not too many; the third reads the whole order.
func (l *list) window(args *clause.Params, wanted int) string {
	if l.referenced == "" {
		limit := args.Add(wanted, "bigint")
		return " from (" + ordered(l.root, "document", l.ofType+l.filter, args, limit) + ") document"
	}
	root, skip := *l.root, ""
	if root.Offset > 0 {
		skip = " offset " + args.Add(root.Offset, "bigint")
		wanted, root.Offset = wanted+root.Offset, 0
	}
	limit := args.Add(wanted, "bigint")
	with := l.withReferenced() + ", referring as materialized (select * from document" + l.ofType + hasReferenced +
		l.filter + ")"
	tooMany := countReferenced + " > " + strconv.Itoa(maxReferenced)
	var selects []string
	headTooShort := ""
	if l.root.Indexed && wanted <= maxHead {
		with += ", head as materialized (select * from (" +
			ordered(&root, "document", l.ofType, args, headSize(headPerRow*wanted)) + ") document where true" + l.filter +
			" limit " + limit + ")"
		selects = []string{"select * from head where (select count(*) from head) >= " + limit}
		headTooShort = " and (select count(*) from head) < " + limit
	}
	selects = append(
		selects,
		"select * from ("+ordered(&root, "referring", " where true", args, limit)+") document where not "+tooMany+
			headTooShort,
		"select * from ("+ordered(&root, "document", l.ofType+l.filter, args, limit)+") document where "+tooMany+
			headTooShort,
	)
	return " from (" + with + " " + strings.Join(selects, " union all ") + ") document" + skip
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
