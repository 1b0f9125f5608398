package reading

import (
	"slices"
	"strconv"
	"strings"

	"ubiquon/internal/core/query"
	"ubiquon/internal/store/clause"
)

// backStatements are what reads the entries that refer to the parents, and before it what counts them.
func (l *linkRead) backStatements(s *Reader, edition string) []statement {
	var ids []string
	lists := map[string][]*query.RootResult{}
	for _, p := range l.parents {
		if lists[p.ID] == nil {
			ids = append(ids, p.ID)
		}
		lists[p.ID] = append(lists[p.ID], p.Lists[l.pick])
	}
	args := clause.Params{s.environment, edition, l.locale, ids, l.list.Field + "/"}
	b := backs{root: l.list, ofType: clause.WhereType(s.environment, l.list.Type) + " and edition = $2 and locale = $3"}
	b.filter = filtered(s.environment, l.list, &args)
	where := b.ofType + refersToParent + b.filter
	var all []statement
	if l.list.Count {
		all = append(
			all,
			statement{
				text: "select p.id, (select count(*)::text from document" + where + ") from " + backParents,
				args: slices.Clone(args),
				each: func(raw [][]byte) error {
					n, err := strconv.Atoi(string(raw[1]))
					for _, list := range lists[string(raw[0])] {
						list.Total = n
					}
					return err
				},
			},
		)
	}
	r := newReader(l.selection, l.list.Type)
	r.sorted(l.list)
	var text string
	if b.headFirst() {
		text = b.headOrAll(&args, r.columns, len(ids))
	} else {
		limit := args.Add(l.list.Limit+l.list.Past(), "bigint")
		text = b.eachParent(r.columns, " from ("+ordered(l.list, "document", where, &args, limit)+") document", "")
	}
	return append(
		all,
		statement{
			text: text,
			args: args,
			each: func(raw [][]byte) error {
				for _, list := range lists[string(raw[0])] {
					takeRow(l.list, r, list, raw[1:])
				}
				return nil
			},
		},
	)
}

// backParents is the table of the entries that are referred to.
const backParents = "unnest($4::text[]) as p (id)"

// backs is a list, read for each of some entries (its parents), of the documents that refer to it. In its statement
// $1 to $5 are environment, edition, locale, the parents' ids, and how links by the field begin.
type backs struct {
	root   *query.Root
	ofType string // " where …": a document is of the list's type, edition and locale
	filter string // " and …", or "" without a filter
}

// refersToParent is the condition that a document refers to p.
const refersToParent = " and links <> '{}' and links @> array[$5 || p.id]"

// headFirst tells whether the beginning of the list's order is tried first: whether an index has it.
func (b *backs) headFirst() bool {
	r := b.root
	return r.Indexed && r.After == nil && r.Before == nil && !r.Last && r.Offset == 0
}

// headPerBack is how many documents at the beginning of an order are tried for each row that is wanted of all parents.
const headPerBack = 2

// eachParent returns the select of the columns for each parent that a condition is true of.
func (b *backs) eachParent(columns []string, from, condition string) string {
	named := make([]string, len(columns))
	for i, c := range columns {
		named[i] = c + " as c" + strconv.Itoa(i)
	}
	return "select p.id, d.* from " + backParents + " cross join lateral (select " + strings.Join(named, ", ") + from +
		") d" + condition
}

// headOrAll returns the statement that tries the beginning of the order (head) once for all parents: an entry that
// thousands of documents refer to is referred to by some of these. For a parent of which fewer are found there than are
// wanted, all documents that refer to it are read and sorted.
func (b *backs) headOrAll(args *clause.Params, columns []string, parents int) string {
	order := inOrder(b.root)
	wanted := b.root.Limit + b.root.Past()
	limit := args.Add(wanted, "bigint")
	matches := "true"
	if b.filter != "" { // it may look at other entries: only where a parent is referred to
		matches = "case when links && array(select $5 || id from " + backParents + ") then true" + b.filter + " end"
	}
	return "with head as materialized (select n, entry, substr(link, length($5) + 1) as id from (select entry, links, " +
		matches + " as matches, row_number() over (" + order[1:] + ") as n from (select * from document" + b.ofType +
		order + " limit " + headSize(headPerBack*wanted*parents) + ") document) d cross join unnest(links) as link " +
		"where matches and link ^@ $5), " +
		"found as materialized (select id, entry as one, n from (select id, entry, n, " +
		"row_number() over (partition by id order by n) as place, count(*) over (partition by id) as total " +
		"from head) h where place <= " + limit + " and total >= " + limit + " and id = any($4)) " +
		"(select id, " + strings.Join(columns, ", ") + " from found join document on environment = $1 and entry = one " +
		"and edition = $2 and locale = $3 order by n) union all (" +
		b.eachParent(columns, " from (select * from (select * from document"+b.ofType+refersToParent+b.filter+
			" offset 0) document"+order+" limit "+limit+") document",
			" where not exists (select from found where found.id = p.id)") + ")"
}
