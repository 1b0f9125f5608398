package cli

import (
	"cmp"
	"fmt"
	"net/http"
	"strings"
	"time"

	"ubiquon/internal/client"
	"ubiquon/internal/core/depend"
)

// drawExamined tells what an answer is made of.
func drawExamined(t *table, out *client.Examined) {
	t.line(fmt.Sprintf("%d %s, %d bytes", out.Status, http.StatusText(out.Status), len(out.Body)))
	if out.Key == "" { // it was refused
		t.line(out.Body)
		return
	}
	held := "not held in the cache"
	if out.Held > 0 {
		held = fmt.Sprintf("held in the cache since change %d", out.Held)
	}
	t.line(fmt.Sprintf("as of change %d; %s", out.Sequence, held))
	if out.GoodFor > 0 {
		t.line(
			"it holds for " + span(
				time.Duration(out.GoodFor*float64(time.Millisecond)),
			) + " at most, for it speaks of now",
		)
	}
	l := out.Milliseconds
	t.line("")
	t.row("effort", fmt.Sprintf("%d of %d", out.Effort.Asked, out.Effort.Limit))
	t.row(
		"time",
		fmt.Sprintf(
			"%.2f ms: parse %.2f, cache %.2f, SQL %.2f, lay out %.2f", l.All, l.Parse, l.Cache, l.SQL, l.Render,
		),
	)
	t.row("database", fmt.Sprintf("%d statements in %d round trips", len(out.Statements), out.RoundTrips))
	t.row("takes", strings.Join(out.Grants, ", "))
	t.line("\nmade of")
	for _, line := range t.madeOf(out.Dependencies, out.Titles) {
		t.line("  " + line)
	}
	for i, s := range out.Statements {
		t.line(fmt.Sprintf("\n%d. %s", i+1, s.SQL))
		if len(s.Args) > 0 {
			t.line("   with " + t.short(fmt.Sprint(s.Args), 150))
		}
		for line := range strings.Lines(s.Plan) {
			t.line("   | " + strings.TrimRight(line, "\n"))
		}
	}
}

// madeOf says what a response depends on, a line each; of entries, how many had the
// same read of them.
func (t *table) madeOf(set *depend.Set, titles map[string]string) []string {
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
		out = append(out, fmt.Sprintf("of %s in %s: %s", t.short(strings.Join(ids, ", "), 80), e.Locale, fields))
	}
	return out
}

// listed describes a list and the part of it that is shown.
func listed(l *depend.List, titles map[string]string) string {
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
