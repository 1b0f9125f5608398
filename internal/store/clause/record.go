package clause

import (
	"maps"
	"slices"
	"strings"

	"ubiquon/internal/core/filter"
)

// Record returns the SQL of a filter on rows whose values stand in columns of their own: the
// columns, as SQL, by the name of the property. It adds its values to the statement's
// arguments. Times are those that the names of times list.
func Record(f *filter.Filter, columns map[string]string, times []string, args *Params) string {
	var members []string
	for _, name := range slices.Sorted(maps.Keys(columns)) {
		value := columns[name]
		if slices.Contains(times, name) {
			value = "to_char(" + value + " at time zone 'UTC', " + timeForm + ")"
		}
		members = append(members, Quote(name)+", "+value)
	}
	c := Condition{Args: args}
	return "exists (select from (select jsonb_build_object(" + strings.Join(members, ", ") + ") as fields) d where " +
		c.Expr(f.Expr, "d") + ")"
}
