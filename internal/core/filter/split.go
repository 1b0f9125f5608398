package filter

import (
	"reflect"
	"slices"
	"strings"
	"time"
)

// Split is a filter taken apart into what a document's own values decide, and
// conditions on the entries that it leads to, its atoms. Who knows only what one
// entry held before and after a change can say with it for which truths of the
// atoms the filter is true.
type Split struct {
	Atoms []Atom
	own   Expr
}

// Atom is a condition on entries that dotted names lead to.
type Atom struct {
	pred Expr
	// Names are its properties that are reached through other entries.
	Names []*Name
	// single says that it is true or not by what one entry at the end holds.
	single bool
	text   string
}

// Pred is the condition itself.
func (a *Atom) Pred() Expr { return a.pred }

// String is the condition in its canonical form.
func (a *Atom) String() string { return a.text }

// Truth3 is a value of three-valued logic.
type Truth3 = truth

// The truths.
const (
	Unknown = unknown3
	False   = isFalse
	True    = isTrue
)

// assumedValue stands for an atom.
type assumedValue int

func (g assumedValue) write(b *strings.Builder) { b.WriteByte(byte('0' + int(g))) }

// Split takes the filter apart.
func (f *Filter) Split() *Split {
	s := &Split{}
	s.own = s.expr(f.Expr)
	return s
}

// AsksOthers tells whether the filter asks something of other entries.
func (f *Filter) AsksOthers() (asks bool) {
	walk(f.Expr, func(e Expr) {
		asks = asks || slices.ContainsFunc(names(e), func(n *Name) bool { return len(n.Steps) > 0 })
	})
	return asks
}

func (s *Split) expr(e Expr) Expr {
	switch e := e.(type) {
	case And:
		return And{s.all(e.Parts)}
	case Or:
		return Or{s.all(e.Parts)}
	case Not:
		return Not{s.expr(e.Part)}
	}
	all := names(e)
	a := Atom{pred: e}
	for _, n := range all {
		if len(n.Steps) > 0 {
			a.Names = append(a.Names, n)
		}
	}
	if a.Names == nil {
		return e
	}
	a.single, a.text = len(all) == 1, text(e)
	s.Atoms = append(s.Atoms, a)
	return assumedValue(len(s.Atoms) - 1)
}

func (s *Split) all(parts []Expr) []Expr {
	out := make([]Expr, len(parts))
	for i, p := range parts {
		out[i] = s.expr(p)
	}
	return out
}

// Match tells whether the filter is true of a document at the given time if the atoms
// have these truths.
func (s *Split) Match(d Document, now time.Time, atoms []Truth3) bool {
	return evaluation{now, atoms}.expr(s.own, d) == isTrue
}

// Truths are what an atom can come to.
func (a *Atom) Truths() []Truth3 {
	if len(a.Names) == 1 && a.Names[0].Through() {
		return []Truth3{False, True}
	}
	return []Truth3{False, True, Unknown}
}

// Keeps tells whether the atom is as true as it was when nothing but the document's
// own values changed in this way: those that its names set out from are the same.
func (a *Atom) Keeps(before, after Document) bool {
	same := func(n *Name) bool {
		field := n.Field
		if len(n.Steps) > 0 {
			if n.Steps[0].Back {
				return true
			}
			field = n.Steps[0].Field
		}
		return reflect.DeepEqual(before.Value(field), after.Value(field))
	}
	return !slices.ContainsFunc(names(a.pred), func(n *Name) bool { return !same(n) })
}

// ChangesBetween tells whether the atom may come out otherwise because an entry of a type
// changes that it leads to or through: by what the entry held and holds now, nil
// for nothing.
func (a *Atom) ChangesBetween(typ string, before, after Document, now time.Time) bool {
	for _, n := range a.Names {
		for i, step := range n.Steps {
			reaches := slices.Contains(step.Types, typ)
			if step.Back && reaches && differs(step.Field, before, after) {
				return true // it begins or ends to refer
			}
			last := i == len(n.Steps)-1
			if !reaches {
				continue
			}
			if !last {
				// On the way: what it leads on by.
				next := n.Steps[i+1]
				if next.Back && (before == nil) != (after == nil) ||
					!next.Back && differs(next.Field, before, after) {
					return true
				}
				continue
			}
			if !a.single {
				if differs(n.Field, before, after) {
					return true
				}
				continue
			}
			if a.at(before, n, now) != a.at(after, n, now) {
				return true
			}
		}
	}
	return false
}

// ReferencePaths are the ways from the filter's entries to those of a type.
func (a *Atom) ReferencePaths(typ string) [][]Step {
	var out [][]Step
	for _, n := range a.Names {
		for i, s := range n.Steps {
			if slices.Contains(s.Types, typ) {
				out = append(out, n.Steps[:i+1])
			}
		}
	}
	return out
}

// EndsWith tells whether the atom is about a property at the end of the way, which
// goes through lists, and about nothing else.
func (a *Atom) EndsWith(way []Step) bool {
	return a.single && len(a.Names[0].Steps) == len(way) && a.Names[0].Through() &&
		a.Names[0].Steps[len(way)-1].Name == way[len(way)-1].Name
}

// AtEnd is what the condition comes to for an entry at the end of the way.
func (a *Atom) AtEnd(d Document, now time.Time) Truth3 { return a.at(d, a.Names[0], now) }

// at is what an entry at the end of the way contributes.
func (a *Atom) at(d Document, n *Name, now time.Time) truth {
	if d == nil {
		if n.Through() {
			return isFalse
		}
		d = nothing{}
	}
	t := (evaluation{now: now}).predicate(a.pred, d, true)
	if n.Through() && t != isTrue {
		return isFalse
	}
	return t
}

func differs(field string, before, after Document) bool {
	return (before == nil) != (after == nil) ||
		before != nil && !reflect.DeepEqual(before.Value(field), after.Value(field))
}

// nothing is a document that is not there.
type nothing struct{}

// Value implements Document.
func (nothing) Value(string) any { return nil }

// Enter implements Document.
func (nothing) Enter(Step) []Document { return nil }

// Values is a document of which only its own values are known, under the names
// that a change of content gives them.
type Values struct {
	ID    string
	Known map[string]any
}

// Value returns a field's value, or what is said about the entry.
func (v Values) Value(field string) any {
	if field == "id" {
		return v.ID
	}
	return v.Known[field]
}

// Enter leads nowhere.
func (Values) Enter(Step) []Document { return nil }

// isEntered tells whether the name is the id of the entry that a reference of the
// document's own leads to.
func (n *Name) isEntered() bool {
	return len(n.Steps) == 1 && !n.Steps[0].Back && n.Field == "id"
}

// Entered returns the document's own reference of which the name is the id that it leads
// to; "" if it is something else.
func (n *Name) Entered() string {
	if n.isEntered() {
		return n.Steps[0].Field
	}
	return ""
}

// Equalities returns the conditions of which one at least must be met for the
// filter to be true, each being that a field of the document's own holds, or has
// among its values, a text; none if there are no such.
func (f *Filter) Equalities() (name string, values []string) {
	parts := []Expr{f.Expr}
	if and, ok := f.Expr.(And); ok {
		parts = and.Parts
	}
	own := func(n *Name, k Kind) bool {
		return n != nil && (len(n.Steps) == 0 || n.isEntered()) && len(n.Inner) == 0 && n.Kind == k &&
			k != Timestamp &&
			k != Other
	}
	// A reference leads to an entry only if it holds the entry's id.
	field := func(n *Name) string {
		if n.isEntered() {
			return n.Steps[0].Field
		}
		return n.Field
	}
	for _, e := range parts {
		switch e := e.(type) {
		case Compare:
			if e.Op == "=" && own(e.Left.Name, e.Left.Kind()) && !e.Left.CaseI && !e.Left.AccentI &&
				e.Right.Value != nil {
				return field(e.Left.Name), []string{e.Right.Value.Text}
			}
		case In:
			if !e.Outside && own(e.Of.Name, e.Of.Kind()) && !e.Of.CaseI && !e.Of.AccentI &&
				!slices.ContainsFunc(e.Values, func(o Operand) bool { return o.Value == nil }) {
				for _, o := range e.Values {
					values = append(values, o.Value.Text)
				}
				return field(e.Of.Name), values
			}
		case Array:
			if e.Op == "A_CONTAINS" && own(e.Left.Name, Text) && len(e.Right.Values) > 0 {
				return e.Left.Name.Field, []string{e.Right.Values[0].Text}
			}
		}
	}
	return "", nil
}

// Referenced returns a necessary condition on referenced entries: the filter is true of a document only if the step, a
// reference of the document, leads to at least one entry that the condition is true of. found is false if the filter
// has no such part.
func (f *Filter) Referenced() (step Step, condition Expr, found bool) {
	parts := []Expr{f.Expr}
	if and, ok := f.Expr.(And); ok {
		parts = and.Parts
	}
	for _, e := range parts {
		n := Named(e)
		if n == nil || len(n.Steps) == 0 || n.Steps[0].Back || len(names(e)) != 1 {
			continue
		}
		rest := *n
		rest.Steps = n.Steps[1:]
		switch e := e.(type) {
		case Compare:
			e.Left.Name = &rest
			condition = e
		case Like:
			e.Of.Name = &rest
			condition = e
		case Between:
			e.Of.Name = &rest
			condition = e
		case In:
			e.Of.Name = &rest
			condition = e
		default:
			continue // it may be true where nothing is referenced
		}
		return n.Steps[0], condition, true
	}
	return Step{}, nil, false
}

// Texts are the values that Equalities' are held against, of what a document
// holds in a field.
func Texts(value any) []string {
	if list, ok := value.([]any); ok {
		out := make([]string, len(list))
		for i, one := range list {
			out[i] = plain(one)
		}
		return out
	}
	if value == nil {
		return nil
	}
	return []string{plain(value)}
}
