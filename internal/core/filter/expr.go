package filter

import (
	"slices"
	"strings"
)

// Expr is a condition: And, Or, Not, Truth, Compare, Like, Between, In, IsNull or
// Array.
type Expr interface {
	// write writes the condition in its canonical form.
	write(b *strings.Builder)
}

// And is true when all parts are, Or when one is.
type (
	And struct{ Parts []Expr }
	Or  struct{ Parts []Expr }
)

// Not is true when its part is false.
type Not struct{ Part Expr }

// Truth is TRUE or FALSE.
type Truth bool

// Compare compares two operands of one kind. If one of them is a value, it is the
// right one.
type Compare struct {
	Op          string // = <> < <= > >=
	Left, Right Operand
}

// Like holds a text against a pattern, in which % stands for any characters, _
// for one, and a backslash takes what follows as it is.
type Like struct {
	Of      Operand
	Pattern string // folded as the operand is
}

// Between is true from Low to High, both included.
type Between struct{ Of, Low, High Operand }

// In is true when one of the values is equal; with Outside, when none is.
type In struct {
	Of      Operand
	Values  []Operand
	Outside bool
}

// IsNull is true when there is no value.
type IsNull struct{ Of Name }

// Array compares two lists as sets.
type Array struct {
	Op          string // A_EQUALS A_CONTAINS A_CONTAINEDBY A_OVERLAPS
	Left, Right List
}

// List is a property that is a list, or the values of one.
type List struct {
	Name   *Name
	Values []Value
}

// Kind is what can be compared with each other.
type Kind string

// The kinds of value.
const (
	Text      Kind = "text"
	Number    Kind = "number"
	Boolean   Kind = "boolean"
	Date      Kind = "date"
	Timestamp Kind = "timestamp"
	Other     Kind = "other" // can only be there or not
)

// Value is a literal. Text is what it is compared as: of a number its shortest
// decimal form, of a timestamp RFC 3339 in UTC, of a boolean true or false.
type Value struct {
	Kind Kind
	Text string
}

// Operand is a property, a literal, or the present time.
type Operand struct {
	Name  *Name
	Value *Value
	Now   bool
	// CaseI and AccentI fold a property's text before it is compared; literals are
	// folded already.
	CaseI, AccentI bool
}

// Kind of the operand's value.
func (o Operand) Kind() Kind {
	switch {
	case o.Now:
		return Timestamp
	case o.Name != nil:
		return o.Name.Kind
	}
	return o.Value.Kind
}

// Name is a property, found in the model.
type Name struct {
	// Steps are the references that the way to it enters.
	Steps []Step
	// Field that has the value, or id, about.published, about.firstPublished,
	// about.updated.
	Field string
	// Inner is the member of the field's value: of a record or of money.
	Inner []string
	Kind  Kind
	// Several says that the value is a list.
	Several bool
	// Slug says that the value is the slug of the entry.
	Slug    bool
	options []string // of a choice
	leads   []string // types that a reference leads to; nil if it is none
	indexed bool     // entries are found by the value
}

// Step is a reference on the way to a property.
type Step struct {
	// Name as it is written: of the field, or of the back-reference.
	Name  string
	Field string
	// Types that it leads to.
	Types []string
	// Several says that it may lead to more than one entry.
	Several bool
	// Back says that the step goes to those whose Field refers here.
	Back bool
}

// Through tells whether the way goes through lists.
func (n *Name) Through() bool {
	return slices.ContainsFunc(n.Steps, func(s Step) bool { return s.Several })
}

// Filter is a checked condition on the entries of a type.
type Filter struct {
	Expr Expr
	// Type of the entries.
	Type string
	// text is all that is known of a filter that came as text, without a model; of another one it is
	// there once it is prepared.
	text string
}

// MarshalText makes a filter part of a read's canonical form.
func (f *Filter) MarshalText() ([]byte, error) { return []byte(f.String()), nil }

// UnmarshalText takes the canonical form, which can be shown and no more: to check
// entries against it takes a model.
func (f *Filter) UnmarshalText(text []byte) error {
	*f = Filter{text: string(text)}
	return nil
}

// String implements fmt.Stringer.
func (v Value) String() string {
	switch v.Kind {
	case Number:
		return v.Text
	case Boolean:
		return strings.ToUpper(v.Text)
	case Date:
		return "DATE(" + literal(v.Text) + ")"
	case Timestamp:
		return "TIMESTAMP(" + literal(v.Text) + ")"
	}
	return literal(v.Text)
}

// String implements fmt.Stringer.
func (o Operand) String() string {
	switch {
	case o.Now:
		return "now()"
	case o.Value != nil:
		return o.Value.String()
	}
	s := o.Name.String()
	if o.AccentI {
		s = "ACCENTI(" + s + ")"
	}
	if o.CaseI {
		s = "CASEI(" + s + ")"
	}
	return s
}

// String implements fmt.Stringer.
func (n *Name) String() string {
	var parts []string
	for _, s := range n.Steps {
		parts = append(parts, s.Name)
	}
	return strings.Join(append(append(parts, n.Field), n.Inner...), ".")
}

// walk calls f for every predicate.
func walk(e Expr, f func(Expr)) {
	switch e := e.(type) {
	case And:
		for _, p := range e.Parts {
			walk(p, f)
		}
	case Or:
		for _, p := range e.Parts {
			walk(p, f)
		}
	case Not:
		walk(e.Part, f)
	default:
		f(e)
	}
}

// names lists the properties that a predicate is about.
func names(e Expr) []*Name {
	var out []*Name
	add := func(n *Name) {
		if n != nil {
			out = append(out, n)
		}
	}
	switch e := e.(type) {
	case Compare:
		add(e.Left.Name)
		add(e.Right.Name)
	case Array:
		add(e.Left.Name)
		add(e.Right.Name)
	default:
		add(Named(e))
	}
	return out
}

// Names lists the properties that the filter is about, in the order in which they are written.
func (f *Filter) Names() []*Name {
	var out []*Name
	walk(f.Expr, func(e Expr) { out = append(out, names(e)...) })
	return out
}

// TimeTrigger is a condition that holds properties against the present time, and the
// filter as it would be if the condition were true or false.
type TimeTrigger struct {
	Names           []*Name
	IfTrue, IfFalse Expr
}

// HeldAgainstNow lists the conditions that the passing of time turns.
func (f *Filter) HeldAgainstNow() []TimeTrigger {
	if f == nil {
		return nil
	}
	var out []TimeTrigger
	walk(f.Expr, func(e Expr) {
		if isHeld(e) {
			n := len(out)
			out = append(out, TimeTrigger{names(e), assuming(f.Expr, n, true), assuming(f.Expr, n, false)})
		}
	})
	return out
}

func isHeld(e Expr) bool {
	switch e := e.(type) {
	case Compare:
		return e.Left.Now || e.Right.Now
	case Between:
		return e.Low.Now || e.High.Now
	case In:
		return slices.ContainsFunc(e.Values, func(o Operand) bool { return o.Now })
	}
	return false
}

// assuming is the condition with the truth of the nth that is held against now.
func assuming(e Expr, nth int, is bool) Expr {
	var in func(e Expr) Expr
	all := func(parts []Expr) []Expr {
		out := make([]Expr, len(parts))
		for i, p := range parts {
			out[i] = in(p)
		}
		return out
	}
	in = func(e Expr) Expr {
		switch e := e.(type) {
		case And:
			return And{all(e.Parts)}
		case Or:
			return Or{all(e.Parts)}
		case Not:
			return Not{in(e.Part)}
		}
		if isHeld(e) {
			if nth--; nth == -1 {
				return Truth(is)
			}
		}
		return e
	}
	return in(e)
}

// Read is what a filter reads of the entries of a type.
type Read struct {
	Type   string
	Fields []string
}

// Reads lists what the filter reads, of its own type first.
func (f *Filter) Reads() []Read {
	out := []Read{{Type: f.Type}}
	add := func(types []string, field string) {
		for _, t := range types {
			i := slices.IndexFunc(out, func(r Read) bool { return r.Type == t })
			if i < 0 {
				i, out = len(out), append(out, Read{Type: t})
			}
			if field != "" && !slices.Contains(out[i].Fields, field) {
				out[i].Fields = append(out[i].Fields, field)
			}
		}
	}
	walk(f.Expr, func(e Expr) {
		for _, n := range names(e) {
			at := []string{f.Type}
			for _, s := range n.Steps {
				if s.Back {
					add(s.Types, s.Field)
				} else {
					add(at, s.Field)
				}
				add(s.Types, "")
				at = s.Types
			}
			if n.Field != "id" {
				add(at, n.Field)
			}
		}
	})
	return out
}
