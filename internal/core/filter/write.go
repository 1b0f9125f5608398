package filter

import (
	"slices"
	"strconv"
	"strings"
)

// String writes the filter in its canonical form: filters that say the same in
// another order or spelling have the same.
func (f *Filter) String() string {
	if f.Expr == nil || f.text != "" {
		return f.text
	}
	var b strings.Builder
	f.Expr.write(&b)
	return b.String()
}

// Prepare keeps the text of a filter that is written again and again. It must not be changed from then
// on; it is called before anybody else knows the filter.
func (f *Filter) Prepare() { f.text = f.String() }

func text(e Expr) string {
	var b strings.Builder
	e.write(&b)
	return b.String()
}

// all flattens, orders and writes the parts of an And or Or.
func all(b *strings.Builder, parts []Expr, word string) {
	texts := make([]string, len(parts))
	for i, p := range parts {
		texts[i] = text(p)
	}
	slices.Sort(texts)
	texts = slices.Compact(texts)
	if len(texts) == 1 {
		b.WriteString(texts[0])
		return
	}
	b.WriteString("(" + strings.Join(texts, " "+word+" ") + ")")
}

func (e And) write(b *strings.Builder) { all(b, e.Parts, "AND") }
func (e Or) write(b *strings.Builder)  { all(b, e.Parts, "OR") }
func (e Not) write(b *strings.Builder) { b.WriteString("NOT "); e.Part.write(b) }
func (e Truth) write(b *strings.Builder) {
	b.WriteString(strings.ToUpper(strconv.FormatBool(bool(e))))
}

func (e Compare) write(b *strings.Builder) {
	left, op, right := e.Left.String(), e.Op, e.Right.String()
	if e.Left.Name != nil && e.Right.Name != nil && right < left {
		left, op, right = right, mirrored[op], left
	}
	b.WriteString(left + " " + op + " " + right)
}

// mirrored has, for each comparison, the one that says the same from the other
// side.
var mirrored = map[string]string{"=": "=", "<>": "<>", "<": ">", ">": "<", "<=": ">=", ">=": "<="}

func (e Like) write(b *strings.Builder) { b.WriteString(e.Of.String() + " LIKE " + literal(e.Pattern)) }

func (e Between) write(b *strings.Builder) {
	b.WriteString(e.Of.String() + " BETWEEN " + e.Low.String() + " AND " + e.High.String())
}

func (e In) write(b *strings.Builder) {
	texts := make([]string, len(e.Values))
	for i, v := range e.Values {
		texts[i] = v.String()
	}
	slices.Sort(texts)
	word := " IN ("
	if e.Outside {
		word = " OUTSIDE ("
	}
	b.WriteString(e.Of.String() + word + strings.Join(slices.Compact(texts), ", ") + ")")
}
func (e IsNull) write(b *strings.Builder) { b.WriteString(e.Of.String() + " IS NULL") }
func (e Array) write(b *strings.Builder) {
	b.WriteString(e.Op + "(" + e.Left.String() + ", " + e.Right.String() + ")")
}

// String implements fmt.Stringer.
func (l List) String() string {
	if l.Name != nil {
		return l.Name.String()
	}
	texts := make([]string, len(l.Values))
	for i, v := range l.Values {
		texts[i] = v.String()
	}
	slices.Sort(texts)
	return "(" + strings.Join(slices.Compact(texts), ", ") + ")"
}

func literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
