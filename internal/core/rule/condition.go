package rule

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/model"
)

// Vocabulary is what the conditions of rules may speak of under a model. Make it with
// NewVocabulary, once a model. It is safe for concurrent use.
type Vocabulary struct {
	m     *model.Model // with types of occurrences and entries for each type
	types []string
}

// occurrenceOf names the type of the occurrences that are about entries of a type; with an empty
// name, of those that are about none, or any.
func occurrenceOf(typ string) string {
	if typ == "" {
		return "the event"
	}
	return "the event of a " + typ
}

// NewVocabulary returns the vocabulary of a model.
func NewVocabulary(m *model.Model) (*Vocabulary, error) {
	var types []*model.Type
	for _, name := range append([]string{""}, m.TypeNames()...) {
		leads := []string{name}
		if name == "" {
			leads = m.TypeNames()
		}
		types = append(types, occurrenceType(occurrenceOf(name), m.TypeNames(), leads))
		if t := m.Type(name); t != nil {
			types = append(types, entryType(t, m.TypeNames()))
		}
	}
	with, err := m.With(types...)
	return &Vocabulary{m: with, types: m.TypeNames()}, err
}

// occurrenceType describes occurrences as a type of a model: so that conditions are read and
// checked as filters on content are.
func occurrenceType(name string, types, leads []string) *model.Type {
	choice := func(name string, values []string) *model.Field {
		f := &model.Field{Name: name, Kind: model.Choice}
		for _, v := range values {
			f.Options = append(f.Options, model.Option{Value: v, Label: v})
		}
		return f
	}
	t := &model.Type{Name: name, Plural: name, Fields: []*model.Field{
		choice("event", append(Events(), Clock)),
		choice("type", types),
		{Name: "locales", Kind: model.Text, Several: true},
		{Name: "changed", Kind: model.Text, Several: true},
		{Name: "by", Kind: model.Text},
		{Name: "role", Kind: model.Text},
		{Name: "origin", Kind: model.Text},
		{Name: "subject", Kind: model.Text},
		{Name: "detail", Kind: model.Text},
	}}
	if len(leads) > 0 {
		t.Fields = append(t.Fields,
			&model.Field{Name: "entry", Kind: model.Reference, Types: leads},
			&model.Field{Name: "before", Kind: model.Reference, Types: leads})
	}
	return t
}

// Properties lists the properties that the conditions of rules for the types may name, without
// those of entries; and the names of the fields of entries.
func (v *Vocabulary) Properties(types []string) (properties, fields []string) {
	for _, f := range v.m.Type(occurrenceOf("")).Fields {
		if f.Kind != model.Reference {
			properties = append(properties, f.Name)
		}
	}
	for _, t := range v.m.Types {
		if slices.Contains(types, t.Name) {
			fields = append(fields, t.FieldNames()...)
		}
	}
	slices.Sort(fields)
	return properties, slices.Compact(fields)
}

// condition is what holds for an occurrence, for each type of entry that it may be about.
type condition struct {
	byType map[string]*filter.Filter // "" has occurrences without an entry
	// unfit has types whose entries can never meet it, with the reason.
	unfit map[string]string
	// usesRole says that it asks for the role of who did it.
	usesRole bool
}

// compile reads a condition for entries of the types. Its error says at which character what is
// wrong: it could hold for none of the types.
func (v *Vocabulary) compile(text string, types []string) (*condition, error) {
	c := &condition{byType: map[string]*filter.Filter{}, unfit: map[string]string{}}
	var first error
	for _, t := range append(slices.Clone(types), "") {
		f, err := filter.Parse(text, v.m, v.m.Type(occurrenceOf(t)))
		if err == nil {
			err = shallow(f)
		}
		if err != nil {
			c.unfit[t] = reasonOf(err)
			if first == nil && t != "" {
				first = err
			}
			continue
		}
		c.byType[t] = f
		c.usesRole = c.usesRole || slices.ContainsFunc(f.Names(), isProperty("role"))
	}
	if len(c.byType) > 0 {
		return c, v.checkFits(c, types)
	}
	if len(types) != 1 { // speak of all of them
		if _, err := filter.Parse(text, v.m, v.m.Type(occurrenceOf(""))); err != nil {
			first = err
		}
	}
	return nil, first
}

// checkFits refuses a condition that some type meets in what it says of the type and the event,
// and that is wrong for its entries in another way than by naming a field that it lacks.
func (v *Vocabulary) checkFits(c *condition, types []string) error {
	for _, t := range types {
		reason, unfit := c.unfit[t]
		if !unfit || strings.Contains(reason, "has no property") {
			continue
		}
		for _, f := range c.byType {
			if admits(f, t) {
				return errors.New(reason + "; name the types that the rule is for")
			}
			break
		}
	}
	return nil
}

// admits reports whether what the filter says of the type alone is true of one.
func admits(f *filter.Filter, typ string) bool {
	parts := []filter.Expr{f.Expr}
	if and, ok := f.Expr.(filter.And); ok {
		parts = and.Parts
	}
	for _, p := range parts {
		one := &filter.Filter{Expr: p}
		other := func(n *filter.Name) bool { return !isProperty("type")(n) }
		if !slices.ContainsFunc(one.Names(), other) &&
			!one.Match(&view{o: &Occurrence{Type: typ}}, time.Time{}) {
			return false
		}
	}
	return true
}

// whyUnfit says why the condition cannot hold for an occurrence: what it says of the type is not
// true, or the entry lacks a field.
func (c *condition) whyUnfit(o *Occurrence, now time.Time) string {
	for _, name := range slices.Sorted(maps.Keys(c.byType)) {
		for _, part := range c.byType[name].Untrue(&view{o: o}, now) {
			if strings.HasPrefix(part.Text, "type ") {
				return part.Text + " is not true: " + strings.Join(part.Values, ", ")
			}
		}
	}
	return c.unfit[o.Type]
}

// shallow refuses conditions that look at other entries than the one that the event is about.
func shallow(f *filter.Filter) error {
	for _, n := range f.Names() {
		if len(n.Steps) > 1 {
			return fmt.Errorf("%s: a condition looks at the entry itself, not at those that it refers to", n)
		}
	}
	return nil
}

// isProperty returns whether a name is that of a property of the occurrence itself.
func isProperty(name string) func(*filter.Name) bool {
	return func(n *filter.Name) bool { return len(n.Steps) == 0 && n.Field == name }
}

func reasonOf(err error) string {
	var wrong *filter.Error
	if errors.As(err, &wrong) {
		return wrong.Detail
	}
	return err.Error()
}

// view shows an occurrence as the document that a condition is evaluated on.
type view struct {
	o     *Occurrence
	entry map[string]any // its values, where it is one side of the entry
	id    string
}

// Value implements filter.Document.
func (v *view) Value(field string) any {
	if v.entry != nil {
		if field == "id" {
			return v.id
		}
		return v.entry[field]
	}
	text := func(s string) any {
		if s == "" {
			return nil
		}
		return s
	}
	list := func(all []string) any {
		out := make([]any, len(all))
		for i, s := range all {
			out[i] = s
		}
		return out
	}
	switch field {
	case "event":
		return text(v.o.Event)
	case "type":
		return text(v.o.Type)
	case "locales":
		return list(v.o.Locales)
	case "changed":
		return list(v.o.Changed)
	case "by":
		return text(v.o.By)
	case "role":
		return text(v.o.Role)
	case "origin":
		return text(v.o.Origin)
	case "subject":
		return text(v.o.Subject)
	case "detail":
		return text(v.o.Detail)
	case "entry", "before":
		return text(v.o.Entry)
	}
	return nil
}

// Enter implements filter.Document.
func (v *view) Enter(s filter.Step) []filter.Document {
	values := v.o.values()
	if s.Name == "before" {
		values = v.o.Before
	}
	if v.entry != nil || values == nil {
		return nil
	}
	return []filter.Document{&view{o: v.o, entry: values, id: v.o.Entry}}
}
