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
	b.fits = filtered(l.list, &args)
	where := b.ofType + b.refer() + b.fits
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
	text := ""
	r.sorted(l.list)
	if b.newest() {
		text = b.near(&args, r.columns, len(ids))
	} else {
		limit := args.Add(l.list.Limit+l.list.Past(), "bigint")
		text = b.each(r.columns, " from ("+ordered(l.list, "document", where, &args, limit)+") document", "")
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

// backParents are the entries that are referred to.
const backParents = "unnest($4::text[]) as p (id)"

// backs are the parts of a statement that reads those that refer to each of some entries. $1 to $5 are
// environment, edition, locale, those entries, and how links by the field begin.
type backs struct {
	root         *query.Root
	ofType, fits string // conditions: from where on, and of the filter
}

// refer is the condition that a document refers to p.
func (b *backs) refer() string { return " and links <> '{}' and links @> array[$5 || p.id]" }

// newest tells whether the list begins at the top of an order that an index has.
func (b *backs) newest() bool {
	r := b.root
	return r.Indexed && r.After == nil && r.Before == nil && !r.Last && r.Offset == 0
}

// nearEach is how many times as many entries as are wanted for all parents are looked through for them.
const nearEach = 2

// each returns what reads the columns for each parent that meets a condition.
func (b *backs) each(columns []string, from, condition string) string {
	named := make([]string, len(columns))
	for i, c := range columns {
		named[i] = c + " as c" + strconv.Itoa(i)
	}
	return "select p.id, d.* from " + backParents + " cross join lateral (select " + strings.Join(named, ", ") + from +
		") d" + condition
}

// near returns what reads the newest that refer to each of so many parents. What thousands of entries refer to is
// among the newest of their type as well, so these are looked through once for all parents; for a parent of which
// not all that is wanted is found there, all that refer to it are read and sorted.
func (b *backs) near(args *clause.Params, columns []string, parents int) string {
	order := inOrder(b.root)
	wanted := b.root.Limit + b.root.Past()
	limit := args.Add(wanted, "bigint")
	fits := "true"
	if b.fits != "" { // it may look at other entries: only for those that matter
		fits = "case when links && array(select $5 || id from " + backParents + ") then true" + b.fits + " end"
	}
	return "with near as materialized (select n, entry, substr(link, length($5) + 1) as id from (select entry, links, " +
		fits + " as fits, row_number() over (" + order[1:] + ") as n from (select * from document" + b.ofType + order +
		" limit " + stretch(nearEach*wanted*parents) + ") document) newest cross join unnest(links) as link where fits " +
		"and link ^@ $5), " +
		"found as materialized (select id, entry as one, n from (select id, entry, n, " +
		"row_number() over (partition by id order by n) as place, count(*) over (partition by id) as held " +
		"from near) refer where place <= " + limit + " and held >= " + limit + " and id = any($4)) " +
		"(select id, " + strings.Join(columns, ", ") + " from found join document on environment = $1 and entry = one " +
		"and edition = $2 and locale = $3 order by n) union all (" +
		b.each(columns, " from (select * from (select * from document"+b.ofType+b.refer()+b.fits+" offset 0) document"+
			order+" limit "+limit+") document", " where not exists (select from found where found.id = p.id)") + ")"
}
