package command

import (
	"cmp"
	"fmt"
	"strings"

	"ubiquon/internal/core/invalidation"
)

// MadeOf says what a response depends on, a line each; of entries, how many had the
// same read of them.
func (t *Table) MadeOf(set *invalidation.Set, titles map[string]string) []string {
	if set == nil {
		return nil
	}
	var out []string
	for i := range set.Lists {
		out = append(out, listed(&set.Lists[i], titles))
	}
	for _, l := range set.Lookups {
		what := fmt.Sprintf("%s with the slug %s", l.Type, l.Slug)
		if l.Path != "" {
			what = "whatever lives at " + l.Path
		}
		out = append(out, fmt.Sprintf("the search for %s in %s", what, l.Locale))
	}
	for i := 0; i < len(set.Entries); {
		e, ids := set.Entries[i], []string{}
		for ; i < len(set.Entries) && strings.Join(set.Entries[i].Fields, ",") == strings.Join(e.Fields, ",") &&
			set.Entries[i].Locale == e.Locale; i++ {
			ids = append(ids, cmp.Or(titles[set.Entries[i].ID], set.Entries[i].ID))
		}
		fields := strings.Join(e.Fields, ", ")
		if fields == "" {
			fields = "whether it is there"
		}
		out = append(out, fmt.Sprintf("of %s in %s: %s", t.Short(strings.Join(ids, ", "), 80), e.Locale, fields))
	}
	return out
}

// listed describes a list and the part of it that is shown.
func listed(l *invalidation.List, titles map[string]string) string {
	what := "the list of " + l.Type
	switch {
	case l.Paths:
		what = "the paths of " + l.Type
	case l.Target != "":
		what = fmt.Sprintf("the %s whose %s lead to %s", l.Type, l.Field, cmp.Or(titles[l.Target], l.Target))
	}
	what += " in " + l.Locale
	if l.Filter != nil {
		what += " where " + l.Filter.String()
	}
	var order []string
	for _, s := range l.Sort {
		by := s.By
		if s.Descending {
			by = "-" + by
		}
		order = append(order, by)
	}
	if order != nil && !l.Paths {
		what += ", by " + strings.Join(order, ", ")
	}
	n := len(l.Window.Rows)
	what += fmt.Sprintf(": %d shown", n)
	if n < l.Window.Limit {
		what += ", and whatever else comes to it"
	}
	if l.Count {
		what += "; how many there are"
	}
	return what
}
