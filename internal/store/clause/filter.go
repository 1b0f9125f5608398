// Package clause translates filters and sorts to SQL.
package clause

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
)

// Condition compiles filters to SQL. The row at hand is the table document, those
// that it leads to get names of their own.
type Condition struct {
	Args *Params
	// Environment, if not "", is the one that the rows are of; then their edition is $2 and their locale $3.
	Environment string
	n           int // aliases given
	// bare says that times are compared as texts: they are kept in a form whose
	// order is that of time, and that an index can have.
	Bare bool
	// but is an entry, as SQL, that does not count at the end of ways.
	Except string
}

// Expr returns the SQL of an expression about the row of an alias.
func (c *Condition) Expr(e filter.Expr, row string) string {
	switch e := e.(type) {
	case filter.Truth:
		return strconv.FormatBool(bool(e))
	case filter.Not:
		return "not (" + c.Expr(e.Part, row) + ")"
	case filter.And:
		return c.all(e.Parts, row, " and ")
	case filter.Or:
		return c.all(e.Parts, row, " or ")
	}
	name := filter.Named(e)
	if name == nil || !name.Through() {
		return c.predicate(e, row, false)
	}
	return c.holding(e, name, row) + c.some(name.Steps, row, func(end string) string {
		p := c.predicate(e, end, true)
		if c.Except != "" {
			p = end + ".entry <> " + c.Except + " and (" + p + ")"
		}
		return p
	})
}

// some is the condition that steps lead to an entry which meets another. Each entry that a list of references has is
// looked up by itself: PostgreSQL takes every list for a hundred, and would rather go through a whole table once.
func (c *Condition) some(steps []filter.Step, row string, met func(end string) string) string {
	if len(steps) == 0 {
		return met(row)
	}
	s := steps[0]
	if s.Back && c.Environment != "" {
		return c.referredBy(s, row, func(next string) string { return c.some(steps[1:], next, met) })
	}
	next, tables, join := c.enter(s, row)
	rest := c.some(steps[1:], next, met)
	found := "(select " + rest + " from document " + next + " where " + join + ")"
	switch {
	case s.Back:
		return "exists (select from document " + next + " where " + join + " and (" + rest + "))"
	case s.Several:
		return "exists (select from " + tables + " where " + found + ")"
	}
	return found + " is true"
}

// referredBy is the condition that documents refer to the entry of a row of which another is true. All entries that
// such documents refer to are found once for all rows, as the keys of an object: thousands may refer to an entry, and
// thousands of entries may be asked about.
func (c *Condition) referredBy(s filter.Step, row string, met func(next string) string) string {
	c.n++
	n := strconv.Itoa(c.n)
	next, from := "f"+n, Quote(s.Field+"/")
	links := "select distinct l" + n + ".link from document " + next + " cross join unnest(" + next + ".links) l" + n +
		" (link) where " + c.ofTypes(next, s.Types) + " and " + next + ".links <> '{}' and l" + n + ".link ^@ " + from +
		" and (" + met(next) + ")"
	return "coalesce((select jsonb_object_agg(substr(link, length(" + from + ") + 1), true) from (" + links + ") l" + n +
		") ? " + row + ".entry, false)"
}

// ofTypes is the condition that next is a document of one of the types, of the rows' environment, edition and locale.
func (c *Condition) ofTypes(next string, types []string) string {
	here := next + ".edition = $2 and " + next + ".locale = $3 and " + next
	if len(types) == 1 { // as the indexes have it that are for one type
		return here + ".environment = " + Quote(c.Environment) + " and " + next + ".type = " + Quote(types[0])
	}
	return here + ".environment = $1 and " + next + ".type = any(" + c.Args.Add(types, "text[]") + ")"
}

// holding is what an index can tell of a condition on the ids that a list of references
// leads to: that the list holds one of them at all.
func (c *Condition) holding(e filter.Expr, name *filter.Name, row string) string {
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
	return row + ".links <> '{}' and " + row + ".links && " + c.Args.Add(links, "text[]") + " and "
}

// LinksTo returns a select, of one column named link, of the links by which documents refer through a step to entries
// that an expression is true of. c has an Environment.
func (c *Condition) LinksTo(step filter.Step, e filter.Expr) string {
	c.n++
	row := "f" + strconv.Itoa(c.n)
	// The index of links has the collation of the database, entries have another.
	return "select (" + Quote(step.Field+"/") + " || " + row + `.entry) collate "default" as link from document ` + row +
		" where " + c.ofTypes(row, step.Types) + " and (" + c.Expr(e, row) + ")"
}

func (c *Condition) all(parts []filter.Expr, row, word string) string {
	texts := make([]string, len(parts))
	for i, p := range parts {
		texts[i] = "(" + c.Expr(p, row) + ")"
	}
	return strings.Join(texts, word)
}

// way returns the tables of the entries that single references lead to, with what joins them, and the name of the
// last.
func (c *Condition) way(steps []filter.Step, row string) (end, from, where string) {
	var tables, conditions []string
	for _, s := range steps {
		next, _, join := c.enter(s, row)
		tables, conditions, row = append(tables, "document "+next), append(conditions, join), next
	}
	return row, strings.Join(tables, ", "), strings.Join(conditions, " and ")
}

// enter returns what joins the documents that a step leads to, by an alias of their own, and, if it may lead to
// several, the ids that it leads to.
func (c *Condition) enter(s filter.Step, row string) (next, ids, join string) {
	c.n++
	next = "f" + strconv.Itoa(c.n)
	join = fmt.Sprintf(
		"%[1]s.environment = %[2]s.environment and %[1]s.edition = %[2]s.edition and %[1]s.locale = "+
			"%[2]s.locale and %[1]s.type = any(%[3]s)",
		next, row, c.Args.Add(s.Types, "text[]"),
	)
	switch field := Quote(s.Field); {
	case s.Back:
		join += " and " + next + ".links <> '{}' and " + next + ".links @> array[" + Quote(s.Field+"/") + " || " + row +
			".entry]"
	case s.Several:
		ids = "jsonb_array_elements_text(" + row + ".fields -> " + field + ") r" + strconv.Itoa(c.n) + " (id)"
		join += " and " + next + ".entry = r" + strconv.Itoa(c.n) + ".id"
	default:
		join += " and " + next + ".entry = " + row + ".fields ->> " + field
	}
	return next, ids, join
}

// Column is a property's value as SQL compares it. there says that the row is
// that at the end of the name's way already.
func (c *Condition) Column(n *filter.Name, row string, there bool) string {
	if len(n.Steps) > 0 && !there {
		end, from, where := c.way(n.Steps, row)
		return "(select " + c.Column(n, end, true) + " from " + from + " where " + where + ")"
	}
	switch n.Field {
	case "id":
		return row + `.entry collate "C"`
	case "about.published", "about.updated":
		return row + "." + strings.TrimPrefix(n.Field, "about.")
	case "about.firstPublished":
		return row + ".first_published"
	}
	if n.Slug { // an index has it
		return row + `.slug collate "C"`
	}
	value := row + ".fields"
	for _, member := range append([]string{n.Field}, n.Inner...) {
		value += " -> " + Quote(member)
	}
	if n.Several || n.Kind == filter.Other {
		return "(" + value + ")"
	}
	return c.cast("("+strings.TrimSuffix(value, "-> "+Quote(last(n)))+"->> "+Quote(last(n))+")", n.Kind)
}

func last(n *filter.Name) string {
	if len(n.Inner) > 0 {
		return n.Inner[len(n.Inner)-1]
	}
	return n.Field
}

// cast makes of a text what values of the kind compare as.
func (c *Condition) cast(text string, k filter.Kind) string {
	switch {
	case k == filter.Number:
		return text + "::numeric"
	case k == filter.Boolean:
		return text + "::boolean"
	case k == filter.Timestamp && !c.Bare:
		return text + "::timestamptz"
	}
	return "(" + text + ` collate "C")`
}

// value is a literal.
func (c *Condition) value(v filter.Value) string {
	text := v.Text
	if at, err := time.Parse(time.RFC3339, text); v.Kind == filter.Timestamp && err == nil {
		text = at.Format(content.TimeForm)
	}
	return c.cast(c.Args.Add(text, "text"), v.Kind)
}

// timeForm is content.TimeForm for PostgreSQL.
const timeForm = `'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'`

// isBare tells whether the operands can be compared as texts, if they are times:
// when none is a column of its own.
func isBare(operands ...filter.Operand) bool {
	return !slices.ContainsFunc(
		operands, func(o filter.Operand) bool { return o.Name != nil && strings.HasPrefix(o.Name.Field, "about.") },
	)
}

// Operand returns the SQL of an operand about the row of an alias.
func (c *Condition) Operand(o filter.Operand, row string, there bool) string {
	switch {
	case o.Now && c.Bare:
		return "(to_char(now() at time zone 'UTC', " + timeForm + `) collate "C")`
	case o.Now:
		return "now()"
	case o.Value != nil:
		return c.value(*o.Value)
	}
	s := c.Column(o.Name, row, there)
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

func (c *Condition) predicate(e filter.Expr, row string, there bool) string {
	switch e := e.(type) {
	case filter.Compare:
		c.Bare = isBare(e.Left, e.Right)
		return c.Operand(e.Left, row, there) + " " + e.Op + " " + c.Operand(e.Right, row, there)
	case filter.Like:
		value := c.Operand(e.Of, row, there)
		like := value + " like " + c.Args.Add(e.Pattern, "text")
		if from, to := stretch(e.Pattern); to != "" && e.Of.Name != nil && !e.Of.CaseI && !e.Of.AccentI {
			// What begins alike lies together: an index can be used.
			like = "(" + like + " and " + value + " >= " + c.Args.Add(from, "text") + ` collate "C" and ` + value +
				" < " + c.Args.Add(to, "text") + ` collate "C")`
		}
		return like
	case filter.Between:
		c.Bare = isBare(e.Of, e.Low, e.High)
		return c.Operand(e.Of, row, there) + " between " + c.Operand(e.Low, row, there) + " and " +
			c.Operand(e.High, row, there)
	case filter.In:
		c.Bare = isBare(append(slices.Clone(e.Values), e.Of)...)
		values := make([]string, len(e.Values))
		for i, v := range e.Values {
			values[i] = c.Operand(v, row, there)
		}
		word := " in ("
		if e.Outside {
			word = " not in ("
		}
		return c.Operand(e.Of, row, there) + word + strings.Join(values, ", ") + ")"
	case filter.IsNull:
		value := c.Column(&e.Of, row, there)
		if e.Of.Several {
			return "coalesce(" + value + ", '[]') in ('[]', 'null')"
		}
		return value + " is null"
	case filter.Array:
		c.Bare = true
		a, b := c.list(e.Left, row, there), c.list(e.Right, row, there)
		switch e.Op {
		case "A_EQUALS":
			return a + " @> " + b + " and " + b + " @> " + a
		case "A_CONTAINS":
			return a + " @> " + b
		case "A_CONTAINEDBY":
			return b + " @> " + a
		}
		return "exists (select from jsonb_array_elements(" + a + ") a (v), jsonb_array_elements(" + b +
			") b (v) where a.v = b.v)"
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

func (c *Condition) list(l filter.List, row string, there bool) string {
	if l.Name != nil {
		return "coalesce(" + c.Column(l.Name, row, there) + ", '[]')"
	}
	parts := make([]string, len(l.Values))
	for i, v := range l.Values {
		parts[i] = c.value(v)
	}
	return "jsonb_build_array(" + strings.Join(parts, ", ") + ")"
}

// MomentsKept is how many time triggers are known of a list. When the entries of them all
// have changed, it ends at the last.
const MomentsKept = 4
