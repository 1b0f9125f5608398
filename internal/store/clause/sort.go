package clause

import (
	"strings"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
)

// SortColumn returns the SQL of a sort's value, that of the same value as text,
// and the type that the text is cast to when it is compared.
func SortColumn(s query.Sort) (expression, asText, cast string) {
	if name, ok := strings.CutPrefix(s.By, "about."); ok {
		column := map[string]string{
			"published": "published", "firstPublished": "first_published",
			"updated": "updated",
		}[name]
		return column, Member("about", name, true), "timestamptz"
	}
	asText = Member("fields", s.By, true)
	switch s.Kind {
	case model.Integer, model.Decimal:
		return "(" + asText + ")::numeric", asText, "numeric"
	case model.Money:
		asText = Member(Member("fields", s.By, false), "amount", true)
		return "(" + asText + ")::numeric", asText, "numeric"
	case model.Boolean:
		return "(" + asText + ")::boolean", asText, "boolean"
	}
	// Text compares by its bytes, here and everywhere.
	return "(" + asText + `) collate "C"`, asText, "text"
}

// WhereType returns the beginning of a WHERE clause about documents of a type in an
// environment. Both are written out, so that a plan may use the partial indexes that are for
// these alone, and not compared with a parameter besides: PostgreSQL would count the condition
// twice. The parameter $1, which stands for the environment elsewhere, stays referred to.
func WhereType(environment, typ string) string {
	return " where $1::text is not null" + InType(environment, typ)
}

// InType returns the condition that a document is of a type in an environment, to be added to
// others.
func InType(environment, typ string) string {
	return " and environment = " + Quote(environment) + " and type = " + Quote(typ)
}

// Direction returns the order of a sort: asc or desc, with nulls last.
func Direction(descending, backwards bool) string {
	switch {
	case descending && backwards:
		return " asc nulls first"
	case descending:
		return " desc nulls last"
	case backwards:
		return " desc nulls first"
	}
	return " asc nulls last"
}
