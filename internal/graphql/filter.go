package graphql

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"ubiquon/internal/core/model"
)

// filterTypes are the inputs of values of one kind.
const filterTypes = `
"Conditions on a text; each that is given must hold. Texts compare by their bytes."
input TextFilter {
  eq: String
  ne: String
  in: [String!]
  "A pattern: % stands for any characters, _ for one, a backslash takes what follows as it is."
  like: String
  lt: String
  le: String
  gt: String
  ge: String
  isNull: Boolean
  "Whether upper and lower case are the same in the other conditions."
  anyCase: Boolean
  "Whether letters with and without accents are the same in the other conditions."
  anyAccent: Boolean
}

"Conditions on a list of texts, as a set."
input TextListFilter {
  equals: [String!]
  contains: [String!]
  containedBy: [String!]
  overlaps: [String!]
  isNull: Boolean
}

"Conditions on a number; of money it is the amount, in minor units."
input NumberFilter {
  eq: Float
  ne: Float
  in: [Float!]
  lt: Float
  le: Float
  gt: Float
  ge: Float
  isNull: Boolean
}

input BooleanFilter {
  eq: Boolean
  isNull: Boolean
}

input DateFilter {
  eq: Date
  ne: Date
  in: [Date!]
  lt: Date
  le: Date
  gt: Date
  ge: Date
  isNull: Boolean
}

input DateTimeFilter {
  eq: DateTime
  ne: DateTime
  lt: DateTime
  le: DateTime
  gt: DateTime
  ge: DateTime
  "Before the present moment."
  isPast: Boolean
  "After the present moment."
  isFuture: Boolean
  isNull: Boolean
}

"Whether there is a value."
input ValueFilter {
  isNull: Boolean
}
`

// joining are the fields of every filter that join conditions.
var joining = []string{"and", "or", "not"}

// filterInput names the input for a field's values; "" if there is none.
func (s *Schema) filterInput(f *model.Field) string {
	switch f.Kind {
	case model.Reference:
		if len(f.Types) == 1 {
			return s.types[f.Types[0]] + "Filter"
		}
		return "ValueFilter"
	case model.Record:
		if !f.Several {
			return s.inner[f.Inner[0]] + "Filter"
		}
		return "ValueFilter"
	case model.Choice:
		if !f.Several {
			return s.enums[f] + "Filter"
		}
	case model.Text, model.Slug:
		if f.Several {
			return "TextListFilter"
		}
		return "TextFilter"
	}
	kind, ok := map[model.Kind]string{
		model.Integer: "NumberFilter", model.Decimal: "NumberFilter",
		model.Money: "NumberFilter", model.Boolean: "BooleanFilter", model.Date: "DateFilter",
		model.DateTime: "DateTimeFilter",
	}[f.Kind]
	if f.Several || !ok {
		return "ValueFilter"
	}
	return kind
}

// writeFilter writes the filter of a type's entries, or of a record.
func (s *Schema) writeFilter(b *strings.Builder, t *model.Type, name string) {
	fmt.Fprintf(
		b,
		"\n\"Conditions; each that is given must hold.\"\ninput %[1]sFilter {\n  and: [%[1]sFilter!]\n  or: "+
			"[%[1]sFilter!]\n  not: %[1]sFilter\n",
		name,
	)
	if _, record := s.inner[t]; !record {
		b.WriteString(
			"  id: TextFilter\n  published: DateTimeFilter\n  firstPublished: DateTimeFilter\n  updated: " +
				"DateTimeFilter\n",
		)
	}
	var after strings.Builder
	for _, f := range t.Fields {
		if slices.Contains(joining, f.Name) {
			continue
		}
		if f.Kind == model.Choice && !f.Several {
			enum := s.enums[f]
			fmt.Fprintf(
				&after, "\ninput %[1]sFilter {\n  eq: %[1]s\n  ne: %[1]s\n  in: [%[1]s!]\n  isNull: Boolean\n}\n",
				enum,
			)
		}
		if f.Kind == model.Record && !f.Several {
			s.writeFilter(&after, f.Inner[0], s.inner[f.Inner[0]])
		}
		fmt.Fprintf(b, "  %s: %s\n", f.Name, s.filterInput(f))
	}
	if _, record := s.inner[t]; !record {
		for _, back := range s.model.Backs(t.Name) {
			if !slices.Contains(joining, back.Name) {
				fmt.Fprintf(b, "  %s: %sFilter\n", back.Name, s.types[back.Type.Name])
			}
		}
	}
	b.WriteString("}\n" + after.String())
}

// filterText spells a filter as CQL2 text: GraphQL's is another spelling of the
// same. prefix is the way to the entries at hand.
func filterText(m *model.Model, t *model.Type, record bool, in map[string]any, prefix string) (string, error) {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(in)) {
		if in[name] == nil {
			continue
		}
		part, err := conditionText(m, t, record, name, in[name], prefix)
		if err != nil {
			return "", err
		}
		parts = append(parts, part)
	}
	return joined(parts, " AND ", "TRUE"), nil
}

func joined(parts []string, word, none string) string {
	if len(parts) == 0 {
		return none
	}
	return "(" + strings.Join(parts, word) + ")"
}

func conditionText(m *model.Model, t *model.Type, record bool, name string, v any, prefix string) (string, error) {
	switch name {
	case "and", "or":
		var parts []string
		for _, one := range list(v) {
			inner, _ := one.(map[string]any)
			part, err := filterText(m, t, record, inner, prefix)
			if err != nil {
				return "", err
			}
			parts = append(parts, part)
		}
		if name == "and" {
			return joined(parts, " AND ", "TRUE"), nil
		}
		return joined(parts, " OR ", "FALSE"), nil
	case "not":
		inner, _ := v.(map[string]any)
		part, err := filterText(m, t, record, inner, prefix)
		return "NOT " + part, err
	}
	conditions, _ := v.(map[string]any)
	f := t.Field(name)
	property := `"` + prefix + name + `"`
	if f == nil {
		if b, ok := m.Back(t.Name, name); ok && !record {
			return filterText(m, b.Type, false, conditions, prefix+name+".")
		}
		kind := model.DateTime
		if name == "id" {
			kind = model.Text
		}
		return valueText(property, &model.Field{Kind: kind}, conditions)
	}
	switch {
	case f.Kind == model.Reference && len(f.Types) == 1:
		return filterText(m, m.Type(f.Types[0]), false, conditions, prefix+name+".")
	case f.Kind == model.Record && !f.Several:
		return filterText(m, f.Inner[0], true, conditions, prefix+name+".")
	}
	return valueText(property, f, conditions)
}

func list(v any) []any {
	switch v := v.(type) {
	case []any:
		return v
	case []map[string]any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = v[i]
		}
		return out
	case []string:
		out := make([]any, len(v))
		for i := range v {
			out[i] = v[i]
		}
		return out
	}
	return []any{v}
}

var (
	signs = map[string]string{"eq": "=", "ne": "<>", "lt": "<", "le": "<=", "gt": ">", "ge": ">="}
	sets  = map[string]string{
		"equals":      "A_EQUALS",
		"contains":    "A_CONTAINS",
		"containedBy": "A_CONTAINEDBY",
		"overlaps":    "A_OVERLAPS",
	}
)

// valueText spells the conditions on one value.
func valueText(property string, f *model.Field, conditions map[string]any) (string, error) {
	left, wrap := property, func(s string) string { return s }
	for name, function := range map[string]string{"anyCase": "CASEI", "anyAccent": "ACCENTI"} {
		if conditions[name] == true {
			before := wrap
			left, wrap = function+"("+left+")", func(s string) string { return function + "(" + before(s) + ")" }
		}
	}
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(conditions)) {
		v := conditions[name]
		if v == nil {
			continue
		}
		var values []string
		for _, one := range list(v) {
			text, err := valueOf(f, one)
			if err != nil {
				return "", err
			}
			values = append(values, text)
		}
		switch {
		case name == "isNull":
			parts = append(parts, negated(property+" IS NULL", v))
		case name == "isPast":
			parts = append(parts, negated(property+" < now()", v))
		case name == "isFuture":
			parts = append(parts, negated(property+" > now()", v))
		case name == "in" && len(values) == 0:
			parts = append(parts, "FALSE")
		case name == "in":
			for i := range values {
				values[i] = wrap(values[i])
			}
			parts = append(parts, left+" IN ("+strings.Join(values, ", ")+")")
		case name == "like":
			parts = append(parts, left+" LIKE "+wrap(values[0]))
		case signs[name] != "":
			parts = append(parts, left+" "+signs[name]+" "+wrap(values[0]))
		case sets[name] != "":
			parts = append(parts, sets[name]+"("+property+", ("+strings.Join(values, ", ")+"))")
		}
	}
	return joined(parts, " AND ", "TRUE"), nil
}

func negated(condition string, v any) string {
	if v == false {
		return "NOT " + condition
	}
	return condition
}

// valueOf spells a value of a field.
func valueOf(f *model.Field, v any) (string, error) {
	quoted := func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
	switch x := v.(type) {
	case bool:
		return strings.ToUpper(strconv.FormatBool(x)), nil
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64), nil
	case int64:
		return strconv.FormatInt(x, 10), nil
	case int:
		return strconv.Itoa(x), nil
	case json.Number:
		return x.String(), nil
	case string:
		switch f.Kind {
		case model.Date:
			return "DATE(" + quoted(x) + ")", nil
		case model.DateTime:
			return "TIMESTAMP(" + quoted(x) + ")", nil
		case model.Choice:
			for _, o := range f.Options {
				if enumName(o.Value) == x {
					return quoted(o.Value), nil
				}
			}
		}
		return quoted(x), nil
	}
	return "", fmt.Errorf("%v is no value of a filter", v)
}
