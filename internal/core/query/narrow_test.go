package query_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/sunset"
	"ubiquon/internal/testkit"
)

// reading compiles fields of routes; "" is all of them.
func reading(t *testing.T, m *model.Model, fields string) query.Query {
	t.Helper()
	selecting, types := query.Selecting{Model: m, Locale: "en"}, []*model.Type{m.Type("route")}
	sel := selecting.All(types)
	if fields != "" {
		var err error
		if sel, err = selecting.Fields(types, fields); err != nil {
			t.Fatal(err)
		}
	}
	return query.Query{
		Edition: "published",
		Roots: []query.Root{
			{By: query.ByList, Type: "route", Locale: "en", Limit: 20, Sort: query.DefaultSort, Selection: sel},
		},
	}
}

func rights(all ...string) access.Rights {
	var out access.Rights
	for _, typ := range all {
		out.Own = append(out.Own, access.Grant{Verb: access.Read, Edition: "published", Type: typ})
	}
	return out
}

// TestSelectionOmitsForbiddenTypes narrows reads for readers who lack grants.
func TestSelectionOmitsForbiddenTypes(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	picks := func(s *query.Selection) string {
		var out []string
		for i := range s.Picks {
			out = append(out, fmt.Sprintf("%s %s", s.Picks[i].As, s.Picks[i].Kind))
		}
		return strings.Join(out, ", ")
	}
	for name, c := range map[string]struct {
		fields string
		rights access.Rights
		null   bool
		picks  string
		hidden string
	}{
		"everything": {"name,piers(name)", rights("route", "pier"), false, "id id, name value, piers " +
			"link", "[]"},
		"piers are left out": {
			"name,piers(name)", rights("route"), false, "id id, name value",
			"[piers: read published pier]",
		},
		"piers are nothing": {"name,piers(name)", rights("route"), true, "id id, name value, piers " +
			"null", "[piers: read published pier]"},
		"one of two types": {"start(name)", rights("pier"), false, "id id", "[start: read published route]"},
		"within what is entered": {
			"start(name,piers(name))", rights("route"), false, "id id",
			"[start: read published pier]",
		},
	} {
		q := reading(t, m, c.fields)
		less, hidden := q.Without(c.rights, c.null)
		if got := picks(&less.Roots[0].Selection); got != c.picks {
			t.Errorf("%s: what is left is %s, want %s", name, got, c.picks)
		}
		var left []string
		for _, h := range hidden[0] {
			left = append(left, strings.Join(h.Path, ".")+": "+h.Need.String())
		}
		if fmt.Sprint(left) != c.hidden {
			t.Errorf("%s: hidden is %v, want %s", name, left, c.hidden)
		}
		if (less == &q) != (len(hidden[0]) == 0) || less != &q && less.Key() == q.Key() {
			t.Errorf("%s: it is another query exactly if something is hidden", name)
		}
		if len(hidden[0]) == 0 {
			continue
		}
		less.Roots[0].Selection.TellHidden(hidden[0], []string{"route"})
		about := less.Roots[0].Selection.Picks[len(less.Roots[0].Selection.Picks)-1]
		if about.Kind != query.PickAbout || len(about.Parts) != 1 ||
			!slices.Equal(about.Parts[0].Texts, []string{strings.Join(hidden[0][0].Path, ".")}) {
			t.Errorf("%s: it is told by %+v", name, about)
		}
	}
	any := query.Query{Edition: "published", Roots: []query.Root{{By: query.ByID, Locale: "en", Value: "x"}}}
	any.Refuse(rights("pier"), []string{"pier", "route"})
	if got := any.Roots[0].Refused; len(got) != 1 || got["route"] != "read published route" {
		t.Errorf("whoever may not read routes is refused %v", got)
	}
	paths := query.Query{
		Edition: "published",
		Roots:   []query.Root{{By: query.ByPaths, Types: []string{"pier", "route"}, Locale: "en"}},
	}
	if less, _ := paths.Without(rights("pier"), false); !slices.Equal(less.Roots[0].Types, []string{"pier"}) ||
		len(paths.Roots[0].Types) != 2 {
		t.Errorf("paths of %v", less.Roots[0].Types)
	}
}

// TestCursorsAround asks what a page says of those before and behind it.
func TestCursorsAround(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	rows := func(n int) (out []*query.Row) {
		for i := range n {
			out = append(
				out,
				&query.Row{ID: fmt.Sprint("r", i), Type: "route", Keys: [][]byte{[]byte("2026-11-27T08:00:00Z")}},
			)
		}
		return out
	}
	at := rows(1)[0].Position()
	for name, c := range map[string]struct {
		set        func(*query.Root)
		found      query.RootResult
		prev, next string // the ids of the cursors
	}{
		"the only page":     {func(*query.Root) {}, query.RootResult{Rows: rows(3)}, "", ""},
		"the first of some": {func(*query.Root) {}, query.RootResult{Rows: rows(3), More: true}, "", "r2"},
		"one further on": {
			func(r *query.Root) { r.After = &at },
			query.RootResult{Rows: rows(3), More: true},
			"r0", "r2",
		},
		"the last":   {func(r *query.Root) { r.After = &at }, query.RootResult{Rows: rows(2)}, "r0", ""},
		"skipped to": {func(r *query.Root) { r.Offset = 4 }, query.RootResult{Rows: rows(2)}, "r0", ""},
		"before a place": {
			func(r *query.Root) { r.Before = &at },
			query.RootResult{Rows: rows(2), More: true},
			"r0", "r1",
		},
		"the first, from behind": {
			func(r *query.Root) { r.Before = &at },
			query.RootResult{Rows: rows(2)},
			"",
			"r1",
		},
		"the end of it": {
			func(r *query.Root) { r.Last = true },
			query.RootResult{Rows: rows(2), More: true},
			"r0", "",
		},
		"nothing":                   {func(r *query.Root) { r.After = &at }, query.RootResult{}, "", ""},
		"nothing, though there was": {func(r *query.Root) { r.Offset = 90 }, query.RootResult{More: true}, "", ""},
	} {
		q := reading(t, m, "name")
		root := &q.Roots[0]
		c.set(root)
		prev, next := root.PageCursors(&c.found)
		for text, want := range map[string]string{prev: c.prev, next: c.next} {
			if (text == "") != (want == "") {
				if prev != next {
					t.Errorf("%s: %q and %q", name, prev, next)
				}
				continue
			}
			if text == "" {
				continue
			}
			if p, err := root.ParseCursor("after", text); err != nil || p.ID != want {
				t.Errorf("%s: the cursor of %v, %v, want %s", name, p, err, want)
			}
		}
	}
}

// TestPathsDependOnTheirParts lists paths of two types in two locales, in pages.
func TestPathsDependOnTheirParts(t *testing.T) {
	path := func(locale, typ, id string) query.PathRow {
		return query.PathRow{Entry: id, Type: typ, Locale: locale, Path: "/" + id, Updated: "2026-11-27T08:00:00Z"}
	}
	root := query.Root{By: query.ByPaths, Types: []string{"page", "route"}, Locales: []string{"en", "nb"}, Limit: 2}
	describe := func(r query.RootResult) string {
		set := query.Dependencies(
			&query.Query{Edition: "published", Roots: []query.Root{root}},
			&query.Result{Roots: []query.RootResult{r}},
		)
		var out []string
		for _, l := range set.Lists {
			text := fmt.Sprintf("%s %s %d", l.Locale, l.Type, len(l.Window.Rows))
			for i, is := range []bool{l.Window.After != "", l.Window.Before != "", l.Window.StatesSize} {
				if is {
					text += []string{" after", " before", " tells"}[i]
				}
			}
			out = append(out, text)
		}
		slices.Sort(out)
		return strings.Join(out, "; ")
	}
	for name, c := range map[string]struct {
		found query.RootResult
		want  string
	}{
		"all there are": {query.RootResult{Paths: []query.PathRow{
			path("en", "page", "a"),
			path("nb", "route", "b"),
		}}, "en page 1; en route 0; nb page 0; nb route 1"},
		"none": {query.RootResult{}, "en page 0; en route 0; nb page 0; nb route 0"},
		"more of the locale": {
			query.RootResult{
				Paths: []query.PathRow{
					path("en", "page", "a"),
					path("en", "page", "b"),
				}, More: true,
				PastPaths: []query.PathRow{path("en", "page", "c"), path("nb", "page", "d")},
			},
			"en page 1 after tells; en page 2 before; en route 0 before",
		},
		"more of another": {
			query.RootResult{
				Paths: []query.PathRow{
					path("en", "page", "a"),
					path("en", "route", "b"),
				}, More: true,
				PastPaths: []query.PathRow{path("nb", "page", "d"), path("nb", "page", "e")},
			},
			"en page 1 before; en route 1 before; nb page 2 tells",
		},
	} {
		if got := describe(c.found); got != c.want {
			t.Errorf("%s: %s\nwant %s", name, got, c.want)
		}
	}
	from, at := "nb", "/d"
	root.After = &query.Position{Values: []*string{&from, &at}, ID: "d"}
	if got := describe(query.RootResult{Paths: []query.PathRow{path("nb", "page",
		"e")}}); got != "nb page 1 after; nb route 0 after" {
		t.Errorf("behind a place: %s", got)
	}
}

// TestSearchesByPathEndWhereOneIsFound looks for whoever lives at a path.
func TestSearchesByPathEndWhereOneIsFound(t *testing.T) {
	root := query.Root{By: query.ByPath, Value: "/ring", Locales: []string{"en", "nb", "ja"}}
	set := func(r query.RootResult) *invalidation.Set {
		return query.Dependencies(
			&query.Query{Edition: "published", Roots: []query.Root{root}},
			&query.Result{Roots: []query.RootResult{r}},
		)
	}
	found := set(
		query.RootResult{
			Locale:   "nb",
			Rows:     []*query.Row{{ID: "r1", Type: "route"}},
			Formerly: []query.Former{{Entry: "r2", Locale: "en"}},
		},
	)
	if len(found.Lookups) != 2 || found.Lookups[1].Locale != "nb" || !found.Lookups[1].Found ||
		len(found.Entries) != 1 {
		t.Errorf("found in the second locale: %+v", found)
	}
	none := set(query.RootResult{Formerly: []query.Former{{Entry: "r2", Locale: "en"}}})
	if len(none.Lookups) != 3 || none.Lookups[2].Found || len(none.Entries) != 1 ||
		!slices.Equal(none.Entries[0].Fields, []string{invalidation.PathExists}) {
		t.Errorf("not found, but somebody lived there: %+v", none)
	}
	root.Locale = "ja"
	if one := set(query.RootResult{}); len(one.Lookups) != 1 || one.Lookups[0].Locale != "ja" {
		t.Errorf("in one locale: %+v", one)
	}
}

// TestEffortGrowsWithSelection prices reads before they are run.
func TestEffortGrowsWithSelection(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	last := 0
	for _, fields := range []string{
		"id", "name", "name,slug", "name,start(name)", "name,piers(name)",
		"name,piers(name,slug)", "name,start(name,piers(name)),piers(name)",
	} {
		q := reading(t, m, fields)
		if got := q.Effort(); got <= last {
			t.Errorf("%s takes %d, no more than the one before", fields, got)
		} else {
			last = got
		}
	}
	q := reading(t, m, "piers(name)")
	q.Roots[0].Limit = 200
	for range 60 {
		q.Roots = append(q.Roots, q.Roots[0])
	}
	if err := q.CheckSize(); err == nil || !strings.Contains(err.Error(), "effort would be") {
		t.Errorf("sixty long lists: %v", err)
	}
	if err := (&query.Query{Roots: q.Roots[:1]}).CheckSize(); err != nil {
		t.Errorf("one: %v", err)
	}
	deep := "name"
	for range 9 {
		deep = "start(" + deep + ")"
	}
	q = reading(t, m, deep)
	if err := q.CheckSize(); err == nil || !strings.Contains(err.Error(), "nested 9 deep") {
		t.Errorf("nine deep: %v", err)
	}
}

// TestDeprecationNamesSelectedFields reads things that are deprecated, in all the ways in which
// a query may.
func TestDeprecationNamesSelectedFields(t *testing.T) {
	src := strings.Replace(
		testkit.Ferries, "number: {kind: integer,",
		`number: {kind: integer, deprecated: use the name, deprecatedSince: "2026-10-01", sunset: "2027-02-01",`, 1,
	)
	src = strings.Replace(src, "      slug:     ", "      slug: ", 1)
	src = strings.Replace(
		src, "  pier:\n",
		"  pier:\n    deprecated: quays take their place\n    deprecatedSince: \"2026-11-01\"\n    sunset: "+
			"\"2027-01-01\"\n",
		1,
	)
	m := testkit.Model(t, src)
	for fields, want := range map[string]string{
		"name": "", "number": "route.number since 2026-10-01 until " +
			"2027-02-01", "piers(name)": "pier since 2026-11-01 until 2027-01-01",
		"number,piers(name)": "route.number pier since 2026-10-01 until 2027-01-01",
	} {
		q := reading(t, m, fields)
		names, days := sunset.Of(&q, m)
		got := strings.Join(names, " ")
		if got != "" {
			got += " since " + days.DeprecatedSince + " until " + days.Sunset
		}
		if got != want {
			t.Errorf("%s: %s, want %s", fields, got, want)
		}
	}
	q := reading(t, m, "name")
	var err error
	if err = q.Roots[0].SortBy(m.Type("route"), []string{"-number"}); err != nil {
		t.Fatal(err)
	}
	if names, _ := sunset.Of(&q, m); !slices.Equal(names, []string{"route.number"}) {
		t.Errorf("sorted by what goes: %v", names)
	}
	q = reading(t, m, "name")
	if q.Roots[0].Filter, err = query.ParseFilter("filter", "piers.name = 'Mella' AND number > 3", m,
		m.Type("route")); err != nil {
		t.Fatal(err)
	}
	if names, _ := sunset.Of(&q, m); !slices.Equal(names, []string{"route.number", "pier"}) &&
		!slices.Equal(names, []string{"pier", "route.number"}) {
		t.Errorf("filtered by what goes: %v", names)
	}
	any := query.Query{Edition: "published", Roots: []query.Root{{By: query.ByID, Locale: "en", Value: "x"}}}
	if names, _ := sunset.Of(&any, m, "pier"); !slices.Equal(names, []string{"pier"}) {
		t.Errorf("whatever was found: %v", names)
	}
}
