package filter

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Document is an entry as a reader of one edition and locale gets it.
type Document interface {
	// Value is what a field holds, as encoding/json decodes it, or what is said
	// about the entry: id, about.published and the like as texts. nil is no value.
	Value(field string) any
	// Enter returns the entries that a step leads to, of those that such a reader
	// gets.
	Enter(s Step) []Document
}

// truth is a value of three-valued logic.
type truth int8

const (
	unknown3 truth = iota
	isFalse
	isTrue
)

func truthOf(b bool) truth {
	if b {
		return isTrue
	}
	return isFalse
}

// Match tells whether the filter is true of the document at the given time.
func (f *Filter) Match(d Document, now time.Time) bool {
	return evaluation{now: now}.expr(f.Expr, d) == isTrue
}

type evaluation struct {
	now   time.Time
	given []truth // of a Split's atoms
}

func (v evaluation) expr(e Expr, d Document) truth {
	switch e := e.(type) {
	case Truth:
		return truthOf(bool(e))
	case Not:
		switch v.expr(e.Part, d) {
		case isTrue:
			return isFalse
		case isFalse:
			return isTrue
		}
		return unknown3
	case And:
		out := isTrue
		for _, p := range e.Parts {
			switch v.expr(p, d) {
			case isFalse:
				return isFalse
			case unknown3:
				out = unknown3
			}
		}
		return out
	case Or:
		out := isFalse
		for _, p := range e.Parts {
			switch v.expr(p, d) {
			case isTrue:
				return isTrue
			case unknown3:
				out = unknown3
			}
		}
		return out
	}
	if g, ok := e.(assumedValue); ok {
		return v.given[g]
	}
	name := Named(e)
	if name == nil || !name.Through() {
		return v.predicate(e, d, false)
	}
	for _, end := range ends(d, name.Steps) {
		if v.predicate(e, end, true) == isTrue {
			return isTrue
		}
	}
	return isFalse
}

// Named returns the property that a predicate is about whose way may go through
// lists; of two properties neither does.
func Named(e Expr) *Name {
	switch e := e.(type) {
	case Compare:
		return e.Left.Name
	case Like:
		return e.Of.Name
	case Between:
		return e.Of.Name
	case In:
		return e.Of.Name
	case IsNull:
		return &e.Of
	case Array:
		if e.Left.Name != nil {
			return e.Left.Name
		}
		return e.Right.Name
	}
	return nil
}

// ends are the documents at the end of a way.
func ends(d Document, steps []Step) []Document {
	at := []Document{d}
	for _, s := range steps {
		var next []Document
		for _, one := range at {
			next = append(next, one.Enter(s)...)
		}
		at = next
	}
	return at
}

// predicate evaluates a comparison; there says that the document is that at the
// end of the way already.
func (v evaluation) predicate(e Expr, d Document, there bool) truth {
	switch e := e.(type) {
	case Compare:
		a, b := v.operand(e.Left, d, there), v.operand(e.Right, d, there)
		if a == nil || b == nil {
			return unknown3
		}
		c := compare(e.Left.Kind(), *a, *b)
		switch e.Op {
		case "=":
			return truthOf(c == 0)
		case "<>":
			return truthOf(c != 0)
		case "<":
			return truthOf(c < 0)
		case "<=":
			return truthOf(c <= 0)
		case ">":
			return truthOf(c > 0)
		}
		return truthOf(c >= 0)
	case Like:
		a := v.operand(e.Of, d, there)
		if a == nil {
			return unknown3
		}
		return truthOf(like(*a, e.Pattern))
	case Between:
		a, low, high := v.operand(e.Of, d, there), v.operand(e.Low, d, there), v.operand(e.High, d, there)
		if a == nil {
			return unknown3
		}
		k := e.Of.Kind()
		return truthOf(compare(k, *a, *low) >= 0 && compare(k, *a, *high) <= 0)
	case In:
		a := v.operand(e.Of, d, there)
		if a == nil {
			return unknown3
		}
		among := slices.ContainsFunc(e.Values,
			func(o Operand) bool { return compare(e.Of.Kind(), *a, *v.operand(o, d, there)) == 0 })
		return truthOf(among != e.Outside)
	case IsNull:
		value := reach(&e.Of, d, there)
		if list, ok := value.([]any); ok && e.Of.Several {
			return truthOf(len(list) == 0)
		}
		return truthOf(value == nil)
	case Array:
		a, b := v.list(e.Left, d, there), v.list(e.Right, d, there)
		within := func(a, b []string) bool {
			return !slices.ContainsFunc(a, func(x string) bool { return !slices.Contains(b, x) })
		}
		switch e.Op {
		case "A_EQUALS":
			return truthOf(within(a, b) && within(b, a))
		case "A_CONTAINS":
			return truthOf(within(b, a))
		case "A_CONTAINEDBY":
			return truthOf(within(a, b))
		}
		return truthOf(slices.ContainsFunc(a, func(x string) bool { return slices.Contains(b, x) }))
	}
	return unknown3
}

// reach returns the value of a property, nil if there is none.
func reach(n *Name, d Document, there bool) any {
	if !there {
		at := ends(d, n.Steps)
		if len(at) == 0 {
			return nil
		}
		d = at[0]
	}
	value := d.Value(n.Field)
	for _, member := range n.Inner {
		m, _ := value.(map[string]any)
		value = m[member]
	}
	return value
}

// operand returns what an operand is compared as, nil for no value.
func (v evaluation) operand(o Operand, d Document, there bool) *string {
	switch {
	case o.Now:
		now := v.now.UTC().Truncate(time.Microsecond).Format(time.RFC3339Nano)
		return &now
	case o.Value != nil:
		return &o.Value.Text
	}
	value := reach(o.Name, d, there)
	if value == nil {
		return nil
	}
	s := plain(value)
	if o.CaseI || o.AccentI {
		s = fold(s, o.CaseI, o.AccentI)
	}
	return &s
}

// plain writes a scalar as Value.Text is.
func plain(value any) string {
	switch x := value.(type) {
	case string:
		return x
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64)
	case bool:
		return strconv.FormatBool(x)
	case json.Number:
		return x.String()
	}
	return ""
}

func (v evaluation) list(l List, d Document, there bool) []string {
	var out []string
	if l.Name == nil {
		for _, one := range l.Values {
			out = append(out, one.Text)
		}
		return out
	}
	values, _ := reach(l.Name, d, there).([]any)
	for _, one := range values {
		out = append(out, plain(one))
	}
	return out
}

func compare(k Kind, a, b string) int {
	switch k {
	case Number:
		x, _ := strconv.ParseFloat(a, 64) // checked when it was written
		y, _ := strconv.ParseFloat(b, 64)
		switch {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	case Timestamp:
		x, _ := time.Parse(time.RFC3339Nano, a)
		y, _ := time.Parse(time.RFC3339Nano, b)
		return x.Compare(y)
	}
	return strings.Compare(a, b)
}
