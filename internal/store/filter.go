package store

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/depend"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/query"
)

// condition compiles filters to SQL. The row at hand is the table document, those
// that it leads to get names of their own.
type condition struct {
	args *params
	n    int // aliases given
	// bare says that times are compared as texts: they are kept in a form whose
	// order is that of time, and that an index can have.
	bare bool
	// but is an entry, as SQL, that does not count at the end of ways.
	but string
}

// filtered is the condition of a list's filter, "" without one.
func filtered(root *query.Root, args *params) string {
	if root.Filter == nil {
		return ""
	}
	c := condition{args: args}
	return " and (" + c.expr(root.Filter.Expr, "document") + ")"
}

func (c *condition) expr(e filter.Expr, row string) string {
	switch e := e.(type) {
	case filter.Truth:
		return strconv.FormatBool(bool(e))
	case filter.Not:
		return "not (" + c.expr(e.Part, row) + ")"
	case filter.And:
		return c.all(e.Parts, row, " and ")
	case filter.Or:
		return c.all(e.Parts, row, " or ")
	}
	name := filter.Named(e)
	if name == nil || !name.Through() {
		return c.predicate(e, row, false)
	}
	end, from, where := c.way(name.Steps, row)
	if c.but != "" {
		where += " and " + end + ".entry <> " + c.but
	}
	return c.holding(e, name, row) + "exists (select from " + from + " where " + where + " and (" + c.predicate(e, end, true) + "))"
}

// holding is what an index can tell of a condition on the ids that a list of references
// leads to: that the list holds one of them at all.
func (c *condition) holding(e filter.Expr, name *filter.Name, row string) string {
	field := name.Entered()
	if field == "" {
		return ""
	}
	var ids []filter.Operand
	switch e := e.(type) {
	case filter.Compare:
		if e.Op == "=" {
			ids = []filter.Operand{e.Right}
		}
	case filter.In:
		if !e.Outside {
			ids = e.Values
		}
	}
	var links []string
	for _, o := range ids {
		if o.Value == nil {
			return ""
		}
		links = append(links, field+"/"+o.Value.Text)
	}
	if links == nil {
		return ""
	}
	return row + ".links <> '{}' and " + row + ".links && " + c.args.add(links, "text[]") + " and "
}

func (c *condition) all(parts []filter.Expr, row, word string) string {
	texts := make([]string, len(parts))
	for i, p := range parts {
		texts[i] = "(" + c.expr(p, row) + ")"
	}
	return strings.Join(texts, word)
}

// way returns the tables of the entries that steps lead to, with what joins
// them, and the name of the last.
func (c *condition) way(steps []filter.Step, row string) (end, from, where string) {
	var tables, conditions []string
	for _, s := range steps {
		c.n++
		next := "f" + strconv.Itoa(c.n)
		join := fmt.Sprintf("%[1]s.environment = %[2]s.environment and %[1]s.edition = %[2]s.edition and %[1]s.locale = %[2]s.locale and %[1]s.type = any(%[3]s)", next, row, c.args.add(s.Types, "text[]"))
		switch field := quote(s.Field); {
		case s.Back:
			join += " and " + next + ".links <> '{}' and " + next + ".links @> array[" + quote(s.Field+"/") + " || " + row + ".entry]"
		case s.Several:
			tables = append(tables, "jsonb_array_elements_text("+row+".fields -> "+field+") r"+strconv.Itoa(c.n)+" (id)")
			join += " and " + next + ".entry = r" + strconv.Itoa(c.n) + ".id"
		default:
			join += " and " + next + ".entry = " + row + ".fields ->> " + field
		}
		tables, conditions, row = append(tables, "document "+next), append(conditions, join), next
	}
	return row, strings.Join(tables, ", "), strings.Join(conditions, " and ")
}

// column is a property's value as SQL compares it. there says that the row is
// that at the end of the name's way already.
func (c *condition) column(n *filter.Name, row string, there bool) string {
	if len(n.Steps) > 0 && !there {
		end, from, where := c.way(n.Steps, row)
		return "(select " + c.column(n, end, true) + " from " + from + " where " + where + ")"
	}
	switch n.Field {
	case "id":
		return row + `.entry collate "C"`
	case "about.published", "about.updated":
		return row + "." + strings.TrimPrefix(n.Field, "about.")
	case "about.firstPublished":
		return row + ".first_published"
	}
	value := row + ".fields"
	for _, member := range append([]string{n.Field}, n.Inner...) {
		value += " -> " + quote(member)
	}
	if n.Several || n.Kind == filter.Other {
		return "(" + value + ")"
	}
	return c.cast("("+strings.TrimSuffix(value, "-> "+quote(last(n)))+"->> "+quote(last(n))+")", n.Kind)
}

func last(n *filter.Name) string {
	if len(n.Inner) > 0 {
		return n.Inner[len(n.Inner)-1]
	}
	return n.Field
}

// cast makes of a text what values of the kind compare as.
func (c *condition) cast(text string, k filter.Kind) string {
	switch {
	case k == filter.Number:
		return text + "::numeric"
	case k == filter.Boolean:
		return text + "::boolean"
	case k == filter.Timestamp && !c.bare:
		return text + "::timestamptz"
	}
	return "(" + text + ` collate "C")`
}

// value is a literal.
func (c *condition) value(v filter.Value) string {
	text := v.Text
	if at, err := time.Parse(time.RFC3339, text); v.Kind == filter.Timestamp && err == nil {
		text = at.Format(content.TimeForm)
	}
	return c.cast(c.args.add(text, "text"), v.Kind)
}

// timeForm is content.TimeForm for PostgreSQL.
const timeForm = `'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'`

// isBare tells whether the operands can be compared as texts, if they are times:
// when none is a column of its own.
func isBare(operands ...filter.Operand) bool {
	return !slices.ContainsFunc(operands, func(o filter.Operand) bool { return o.Name != nil && strings.HasPrefix(o.Name.Field, "about.") })
}

func (c *condition) operand(o filter.Operand, row string, there bool) string {
	switch {
	case o.Now && c.bare:
		return "(to_char(now() at time zone 'UTC', " + timeForm + `) collate "C")`
	case o.Now:
		return "now()"
	case o.Value != nil:
		return c.value(*o.Value)
	}
	s := c.column(o.Name, row, there)
	if o.AccentI {
		s = "regexp_replace(normalize(" + s + `, NFD), '[\u0300-\u036f]', '', 'g')`
	}
	if o.CaseI {
		s = `lower((` + s + `) collate "und-x-icu")`
	}
	if o.CaseI || o.AccentI {
		s = "((" + s + `) collate "C")`
	}
	return s
}

func (c *condition) predicate(e filter.Expr, row string, there bool) string {
	switch e := e.(type) {
	case filter.Compare:
		c.bare = isBare(e.Left, e.Right)
		return c.operand(e.Left, row, there) + " " + e.Op + " " + c.operand(e.Right, row, there)
	case filter.Like:
		value := c.operand(e.Of, row, there)
		like := value + " like " + c.args.add(e.Pattern, "text")
		if from, to := stretch(e.Pattern); to != "" && e.Of.Name != nil && !e.Of.CaseI && !e.Of.AccentI {
			// What begins alike lies together: an index can be used.
			like = "(" + like + " and " + value + " >= " + c.args.add(from, "text") + ` collate "C" and ` + value + " < " + c.args.add(to, "text") + ` collate "C")`
		}
		return like
	case filter.Between:
		c.bare = isBare(e.Of, e.Low, e.High)
		return c.operand(e.Of, row, there) + " between " + c.operand(e.Low, row, there) + " and " + c.operand(e.High, row, there)
	case filter.In:
		c.bare = isBare(append(slices.Clone(e.Values), e.Of)...)
		values := make([]string, len(e.Values))
		for i, v := range e.Values {
			values[i] = c.operand(v, row, there)
		}
		word := " in ("
		if e.Outside {
			word = " not in ("
		}
		return c.operand(e.Of, row, there) + word + strings.Join(values, ", ") + ")"
	case filter.IsNull:
		value := c.column(&e.Of, row, there)
		if e.Of.Several {
			return "coalesce(" + value + ", '[]') in ('[]', 'null')"
		}
		return value + " is null"
	case filter.Array:
		c.bare = true
		a, b := c.list(e.Left, row, there), c.list(e.Right, row, there)
		switch e.Op {
		case "A_EQUALS":
			return a + " @> " + b + " and " + b + " @> " + a
		case "A_CONTAINS":
			return a + " @> " + b
		case "A_CONTAINEDBY":
			return b + " @> " + a
		}
		return "exists (select from jsonb_array_elements(" + a + ") a (v), jsonb_array_elements(" + b + ") b (v) where a.v = b.v)"
	}
	panic(fmt.Sprintf("store: no SQL for %T", e))
}

// stretch returns between which texts, the first included, all lie that a pattern
// may be true of; to is "" if that is everywhere.
func stretch(pattern string) (from, to string) {
	for i := 0; i < len(pattern) && pattern[i] != '%' && pattern[i] != '_'; i++ {
		if pattern[i] == '\\' {
			if i++; i == len(pattern) {
				break
			}
		}
		from += pattern[i : i+1]
	}
	if !utf8.ValidString(from) {
		return "", ""
	}
	last, size := utf8.DecodeLastRuneInString(from)
	if next := last + 1; size > 0 && utf8.ValidRune(next) {
		to = from[:len(from)-size] + string(next)
	}
	return from, to
}

func (c *condition) list(l filter.List, row string, there bool) string {
	if l.Name != nil {
		return "coalesce(" + c.column(l.Name, row, there) + ", '[]')"
	}
	parts := make([]string, len(l.Values))
	for i, v := range l.Values {
		parts[i] = c.value(v)
	}
	return "jsonb_build_array(" + strings.Join(parts, ", ") + ")"
}

// deadlineStatements find out how long the answers of filters that speak of now
// hold: until the next moment that a property which they hold against now passes,
// of an entry for which that makes a difference; and by which entries.
func (s *Store) deadlineStatements(q *query.Query, res *query.Result) []statement {
	var out []statement
	for _, root := range q.Lists() {
		for _, held := range root.Filter.HeldAgainstNow() {
			for _, n := range held.Names {
				out = append(out, s.deadlineStatement(q.Edition, root, held, n, res))
			}
		}
	}
	return out
}

// momentsKept is how many moments are known of a list. When the entries of them all
// have changed, it ends at the last.
const momentsKept = 4

func (s *Store) deadlineStatement(edition string, root *query.Root, held filter.Held, n *filter.Name, res *query.Result) statement {
	args := params{s.Environment, edition, []string{root.Type}}
	c := condition{args: &args, bare: !strings.HasPrefix(n.Field, "about.")}
	value := c.column(n, "document", true)
	where := " from document where environment = $1 and edition = $2 and type = any($3::text[]) and " + value + " > " + c.operand(filter.Operand{Now: true}, "", true)
	if len(n.Steps) > 0 {
		args[2] = n.Steps[len(n.Steps)-1].Types
	} else {
		where += " and (" + c.expr(held.IfTrue, "document") + ") is distinct from (" + c.expr(held.IfFalse, "document") + ")"
		if root.Locale != "" {
			where += " and locale = " + args.add(root.Locale, "")
		}
		if root.Translated {
			where += " and about -> 'locales' ? locale"
		}
	}
	rest := " from (select 1) one left join (select entry, (" + value + ")::timestamptz as at" + where + " order by 2 limit " + strconv.Itoa(momentsKept) + ") moment on true order by at"
	known := 0
	return statement{"extract(epoch from at - now())::text, extract(epoch from at)::text, extract(epoch from now())::text, entry", rest, args, func(raw [][]byte) error {
		now, err := strconv.ParseFloat(string(raw[2]), 64)
		res.Now = time.UnixMicro(int64(math.Round(now * 1e6)))
		if raw[0] == nil || err != nil {
			return err
		}
		seconds, err := strconv.ParseFloat(string(raw[0]), 64)
		if err != nil {
			return err
		}
		epoch, err := strconv.ParseFloat(string(raw[1]), 64)
		at := time.UnixMicro(int64(math.Round(epoch * 1e6)))
		if span := time.Duration(seconds * float64(time.Second)); res.Good == 0 || span < res.Good {
			res.Good, res.Deadline = max(span, 1), at
		}
		one := depend.Moments{List: []depend.Moment{{At: at, Entry: string(raw[3])}}}
		if known++; known == momentsKept {
			one.Until = at
		}
		if len(n.Steps) > 0 {
			one.List[0].Entry = "" // it is not an entry of the list
		}
		if res.Moments == nil {
			res.Moments = map[*query.Root]depend.Moments{}
		}
		all := res.Moments[root]
		all.Add(one)
		res.Moments[root] = all
		return err
	}}
}
