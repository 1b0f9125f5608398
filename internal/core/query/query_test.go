package query_test

import (
	"errors"
	"reflect"
	"slices"
	"strings"
	"testing"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/testkit"
)

func TestSelectFieldsIsCanonical(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	route := []*model.Type{m.Type("route")}
	a, err := query.Selecting{
		Model:  m,
		Locale: "en",
	}.Fields(
		route, "text(plain,html),piers(slug,name),name,about(path,type),id",
	)
	if err != nil {
		t.Fatal(err)
	}
	b, err := query.Selecting{
		Model:  m,
		Locale: "en",
	}.Fields(
		route, "about(type,path),name,piers(name,slug),text(html,plain)",
	)
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(a, b) {
		t.Errorf("the same question in another order compiles differently:\n%+v\n%+v", a, b)
	}
}

func TestSelectFieldsNamesWhatIsWrong(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	for text, want := range map[string]string{
		"nmae":                       `there is no field "nmae" in route; did you mean "name"?`,
		"piers(nmae)":                `there is no field "piers.nmae" in pier; did you mean "name"?`,
		"text(hmtl)":                 `text has no part "hmtl"; did you mean "html"?`,
		"season(lable)":              `did you mean "label"?`,
		"photo(ulr)":                 `did you mean "url"?`,
		"about(pth)":                 `did you mean "path"?`,
		"number(x)":                  "number is of the kind integer and has no parts",
		"id(x)":                      "id has no parts",
		"name,name":                  `"name" stands there twice`,
		"name,":                      "a name is missing at character 6",
		"":                           "a name is missing at character 1",
		"piers(name":                 `the bracket behind "piers" is not closed`,
		"name)":                      "a closing bracket too many at character 5",
		"piers()":                    "a name is missing at character 7",
		"name slug":                  `unexpected " " at character 5`,
		"piers[limit=3]":             "piers takes no arguments",
		strings.Repeat("piers(", 40): "nested more than",
	} {
		_, err := query.Selecting{Model: m, Locale: "en"}.Fields([]*model.Type{m.Type("route")}, text)
		var wrong *query.Error
		if !errors.As(err, &wrong) || wrong.Parameter != "fields" || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: got %v, want %q", text, err, want)
		}
	}
}

func FuzzSelectFields(f *testing.F) {
	for _, s := range []string{
		"name", "piers(name,slug)", "start(name,text(html))", "about(path),id", "a((", ")",
		"text(plain", "name[filter=a = ']']", "piers[limit=3]",
	} {
		f.Add(s)
	}
	m := testkit.Model(f, testkit.Ferries)
	f.Fuzz(func(t *testing.T, text string) {
		sel, err := query.Selecting{Model: m, Locale: "en"}.Fields([]*model.Type{m.Type("route")}, text)
		var wrong *query.Error
		if err != nil && !errors.As(err, &wrong) {
			t.Errorf("%q: an error of another kind: %v", text, err)
		}
		if err == nil && len(sel.Picks) == 0 {
			t.Errorf("%q selects nothing", text)
		}
	})
}

func TestNeedsFollowLinks(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	sel, err := query.Selecting{Model: m, Locale: "en"}.Fields([]*model.Type{m.Type("route")}, "name,start(name)")
	if err != nil {
		t.Fatal(err)
	}
	q := &query.Query{Edition: "preview", Roots: []query.Root{{By: query.ByList, Type: "route", Selection: sel}}}
	want := []access.Need{
		{Verb: "read", Edition: "preview", Type: "route"}, {Verb: "read", Edition: "preview", Type: "pier"},
	}
	if got := q.Needs(); !reflect.DeepEqual(got, want) {
		t.Errorf("needs %v, want %v", got, want)
	}
}

func TestNeedsOfAnEntryByIDFollowItsType(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	q := &query.Query{
		Edition: "published",
		Roots: []query.Root{
			{
				By:        query.ByID,
				Value:     "x",
				Locale:    "en",
				Selection: query.Selecting{Model: m, Locale: "en"}.All(m.Types),
			},
		},
	}
	if got := q.Needs(); len(got) != 0 {
		t.Errorf("before it is found: %v", got)
	}
	of := func(typ string) (types []string) {
		for _, g := range q.NeedsOf(&query.Result{Roots: []query.RootResult{{Rows: []*query.Row{{
			ID:   "x",
			Type: typ,
		}}}}}) {
			types = append(types, g.Type)
		}
		return types
	}
	if got := of("pier"); !reflect.DeepEqual(got, []string{"pier"}) {
		t.Errorf("a pier, which has no links: %v", got)
	}
	if got := of("route"); !reflect.DeepEqual(got, []string{"route", "pier"}) {
		t.Errorf("a route, which leads to piers: %v", got)
	}
}

// TestListsKnowWhetherAnIndexHasTheirOrder also where lists stand inside of others.
func TestListsKnowWhetherAnIndexHasTheirOrder(t *testing.T) {
	const piers = "types: [pier], several: true"
	m := testkit.Model(t, strings.Replace(testkit.Ferries, piers, piers+", inverse: routes", 1))
	for fields, want := range map[string]bool{
		"routes": true, "routes[sort=-firstPublished]": true, "routes[sort=-published,limit=3](name)": true,
		"routes[sort=name]": false, "routes[sort=published]": false, "routes[sort=-published,name]": false,
	} {
		sel, err := query.Selecting{Model: m, Locale: "en"}.Fields([]*model.Type{m.Type("pier")}, fields)
		if err != nil {
			t.Fatal(err)
		}
		if got := sel.Picks[len(sel.Picks)-1].List; got == nil || got.Indexed != want {
			t.Errorf("%s: %+v, want %v", fields, got, want)
		}
	}
}

func TestCursorsAreCheckedAgainstTheirList(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	root := query.Root{By: query.ByList, Type: "route", Locale: "en"}
	if err := root.SortBy(m.Type("route"), []string{"-number", "slug"}); err != nil {
		t.Fatal(err)
	}
	text := func(s string) *string { return &s }
	at := query.Position{ID: "r1", Values: []*string{text("7"), text("outer")}}
	cursor := root.Cursor(at)
	got, err := root.ParseCursor("after", cursor)
	if err != nil || !reflect.DeepEqual(*got, at) {
		t.Fatalf("came back as %+v, %v", got, err)
	}
	other := root
	other.Locale = "nb"
	forged := root.Cursor(query.Position{ID: "r1", Values: []*string{text("7; drop table"), text("outer")}})
	for name, c := range map[string]struct {
		root *query.Root
		text string
	}{
		"of another list": {&other, cursor}, "cut": {&root, cursor[:10]}, "nonsense": {&root, "!!!"},
		"empty": {&root, ""}, "wrong kind of value": {&root, forged},
	} {
		var wrong *query.Error
		if _, err := c.root.ParseCursor("after", c.text); !errors.As(err, &wrong) || wrong.Parameter != "after" {
			t.Errorf("a cursor that is %s: %v", name, err)
		}
	}
}

func FuzzParseCursor(f *testing.F) {
	root := query.Root{By: query.ByList, Type: "route", Locale: "en", Sort: query.DefaultSort}
	f.Add(root.Cursor(query.Position{ID: "r1", Values: []*string{nil}}))
	f.Fuzz(func(t *testing.T, text string) {
		if at, err := root.ParseCursor("after", text); err == nil && len(at.Values) != 1 {
			t.Errorf("%q gives %+v", text, at)
		}
	})
}

func TestSortByNamesWhatIsWrong(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	for _, c := range []struct{ name, want string }{
		{"nubmer", `did you mean "number"?`},
		{"text", "text is of the kind prose"},
		{"tags", "tags is a list"},
		{"-publishd", `did you mean "published"?`},
	} {
		if err := new(query.Root).SortBy(m.Type("route"), []string{c.name}); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", c.name, err, c.want)
		}
	}
	if err := new(query.Root).SortBy(m.Type("route"), []string{"number", "-number"}); err == nil {
		t.Error("the same name twice is accepted")
	}
}

// TestDependenciesAreOfWhatIsShown reads a list whose linked entries are of two types,
// and what choices are called.
func TestDependenciesAreOfWhatIsShown(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	compile := func(fields string) query.Query {
		sel, err := query.Selecting{Model: m, Locale: "en"}.Fields([]*model.Type{m.Type("route")}, fields)
		if err != nil {
			t.Fatal(err)
		}
		return query.Query{
			Edition: "published",
			Roots:   []query.Root{{By: query.ByList, Type: "route", Locale: "en", Limit: 5, Selection: sel}},
		}
	}
	q := compile("start(name,number),season(label)")
	row := func(id, season string, start *query.Row) *query.Row {
		return &query.Row{
			ID:     id,
			Type:   "route",
			Cells:  [][][]byte{nil, nil, {[]byte(season)}},
			Asked:  [][]string{nil, {start.ID}, nil},
			Linked: [][]*query.Row{nil, {start}, nil},
		} // the first pick is the id
	}
	rows := []*query.Row{
		row("r1", "summer", &query.Row{ID: "p1", Type: "pier"}),
		row("r2", "summer", &query.Row{ID: "r3", Type: "route"}),
	}
	set := query.Dependencies(&q, &query.Result{Roots: []query.RootResult{{Rows: rows}}})
	for id, want := range map[string][]string{"r1": {"season", "start"}, "p1": {"name"}, "r3": {"name", "number"}} {
		i := slices.IndexFunc(set.Entries, func(e invalidation.Entry) bool { return e.ID == id })
		if i < 0 || !slices.Equal(set.Entries[i].Fields, want) {
			t.Errorf("%s is read in another way: %+v", id, set.Entries)
		}
	}
	uses := slices.IndexFunc(set.Uses, func(u invalidation.Use) bool { return u.Type == "route" })
	if got := set.Uses[uses].Fields; !slices.Contains(got, "season=summer") || slices.Contains(got, "season=winter") {
		t.Errorf("labels that are shown: %v", got)
	}
	// What they are called does not make another request.
	other := compile("start(name,number),season(label)")
	other.Roots[0].Selection.Picks[2].Label = query.Labels{"summer": "High season"}
	if plain := compile("start(name,number),season"); q.Key() != other.Key() || q.Key() == plain.Key() {
		t.Errorf("keys: %s\n%s\n%s", q.Key(), other.Key(), plain.Key())
	}
}

// TestCountedListsKnowMore asks how many entries past a window are looked for.
func TestCountedListsKnowMore(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	for text, want := range map[string]int{"": 3, "number > 3": 3, "piers.name = 'Mella'": 30} {
		root := query.Root{By: query.ByList, Type: "route", Limit: 2, Count: true}
		if text != "" {
			var err error
			if root.Filter, err = query.ParseFilter("filter", text, m, m.Type("route")); err != nil {
				t.Fatal(err)
			}
		}
		if got := root.Past(); got != want {
			t.Errorf("%q: %d, want %d", text, got, want)
		}
		if root.Count = false; root.Past() != 3 {
			t.Errorf("%q is not counted, and yet: %d", text, root.Past())
		}
		// As long as fewer are found than were looked for, all are known.
		for found, ends := range map[int]bool{0: true, 2: true, 3: false} {
			past := make([]*query.Row, found)
			for i := range past {
				past[i] = &query.Row{ID: string(rune('a' + i)), Type: "route"}
			}
			set := query.Dependencies(
				&query.Query{Edition: "published", Roots: []query.Root{root}},
				&query.Result{Roots: []query.RootResult{{Lookahead: past, More: found > 0}}},
			)
			if set.Lists[0].Window.Ends != ends {
				t.Errorf("%d past the window, and the list ends there: %v", found, !ends)
			}
		}
	}
}

func TestDependenciesNameWhatWasRead(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	sel, err := query.Selecting{
		Model:  m,
		Locale: "en",
	}.Fields(
		[]*model.Type{m.Type("route")}, "name,about(path),piers(name)",
	)
	if err != nil {
		t.Fatal(err)
	}
	q := &query.Query{Edition: "published", Roots: []query.Root{
		{By: query.ByList, Type: "route", Locale: "en", Limit: 5, Selection: sel},
		{By: query.BySlug, Type: "route", Locale: "nb", Value: "none", Selection: sel},
		{By: query.ByID, Locale: "en", Value: "gone", Selection: query.Selection{Picks: sel.Picks[:1]}},
	}}
	if err := q.Roots[0].SortBy(m.Type("route"), []string{"number"}); err != nil {
		t.Fatal(err)
	}
	sort := q.Roots[0].Sort
	pier := &query.Row{ID: "p1", Type: "pier"}
	links := len(sel.Picks)
	row := &query.Row{ID: "r1", Type: "route", Asked: make([][]string, links), Linked: make([][]*query.Row, links)}
	row.Asked[links-1], row.Linked[links-1] = []string{"p0", "p1", "p2", "p1"}, []*query.Row{pier, pier}
	set := query.Dependencies(q, &query.Result{Roots: []query.RootResult{{Rows: []*query.Row{row}}, {}, {}}})
	want := &invalidation.Set{
		Edition: "published",
		Entries: []invalidation.Entry{
			{ID: "r1", Locale: "en", Fields: []string{"about.path", "name", "piers"}},
			{ID: "p1", Locale: "en", Fields: []string{"name"}},
			{ID: "p0", Locale: "en"},
			{ID: "p2", Locale: "en"},
			{ID: "gone", Locale: "en"},
		},
		Lookups: []invalidation.Lookup{{Type: "route", Locale: "nb", Slug: "none"}},
		Lists: []invalidation.List{
			{
				Type:   "route",
				Locale: "en",
				Sort:   sort,
				Window: invalidation.Window{
					Limit:  5,
					Beyond: 3,
					Ends:   true,
					Rows:   []invalidation.SortKey{invalidation.NewSortKey(sort, []*string{nil}, "r1")},
				},
			},
		},
		Uses: []invalidation.Use{
			{Type: "route", Locale: "en", Fields: []string{"about.path", "name", "number", "piers"}},
			{Type: "pier", Locale: "en", Fields: []string{"name"}},
			{
				Type:   "route",
				Locale: "nb",
				Fields: []string{"slug"},
			},
			{Locale: "en"},
		},
	} // of what was not found nothing shows
	if !reflect.DeepEqual(set, want) {
		t.Errorf("got  %+v\nwant %+v", set, want)
	}
}

func TestWriteObject(t *testing.T) {
	picks := []query.SelectedField{
		{As: "id", Kind: query.PickID},
		{As: "kind", Kind: query.PickType, Names: map[string]string{"route": "Route"}},
		{
			As:    "season",
			Kind:  query.PickValue,
			Field: "season",
			Text:  true,
			Names: map[string]string{"summer": "Summer time"},
		},
		{As: "tags", Kind: query.PickValue, Field: "tags", Several: true},
		{
			As:    "photo",
			Kind:  query.PickParts,
			Field: "photo",
			Parts: []query.Part{query.PartOf("address", "url"), {As: "t", Constant: "File"}},
		},
		{As: "only", Kind: query.PickValue, Field: "x", On: []string{"pier"}},
	}
	row := &query.Row{
		ID:   "r1",
		Type: "route",
		Cells: [][][]byte{
			nil, nil, {[]byte("summer")}, {nil}, {[]byte("t"), []byte("http://a/\"b\"")}, {[]byte("1")},
		},
	}
	written := func(most int, picks []query.SelectedField, first int) (string, error) {
		out, err := query.Render(most, func(b *query.Buffer) { query.WriteObject(b, picks, first, row) })
		return string(out), err
	}
	want := `{"id":"r1","kind":"Route","season":"Summer time","tags":[],"photo":{"address":"http://a/\"b\"","t":"File"}}`
	if got, err := written(len(want), picks, 0); got != want || err != nil {
		t.Errorf("got  %s, %v\nwant %s", got, err, want)
	}
	if _, err := written(len(want)-1, picks, 0); !errors.Is(err, query.ErrTooLarge) {
		t.Errorf("a byte more than is allowed: %v", err)
	}
	row.Cells[4] = [][]byte{nil, nil}
	if got, err := written(100, picks[4:5], 4); got != `{"photo":null}` || err != nil {
		t.Errorf("an absent object is written %s, %v", got, err)
	}
}

const isles = `
locales: {en: {}, nb: {fallback: [en]}}
types:
  banner:
    fields: {title: {kind: text}, slug: {kind: slug}, picture: {kind: file}}
  page:
    fields:
      title:  {kind: text}
      slug:   {kind: slug}
      tone:   {kind: choice, options: {hint: {en: Hint, nb: Råd}}}
      at:     {kind: location}
      parent: {kind: reference, types: [page], inverse: children}
      hours:  {kind: record, several: true, fields: {day: {kind: text}, open: {kind: boolean}}}
      blocks:
        kind: blocks
        blocks:
          heading: {fields: {text: {kind: text}, tone: {kind: choice, options: {loud: Loud}}}}
          prose:   {fields: {text: {kind: prose}, pictures: {kind: file, several: true}}}
          banner:  {fields: {banner: {kind: reference, types: [banner]}}}
`

func TestSelectionsWithinRecordsAndBlocks(t *testing.T) {
	m := testkit.Model(t, isles)
	page := []*model.Type{m.Type("page")}
	object := func(locale, fields, blocks, hours string) string {
		t.Helper()
		sel := query.Selecting{Model: m, Locale: locale}.All(page)
		if fields != "" {
			var err error
			if sel, err = (query.Selecting{Model: m, Locale: locale}).Fields(page, fields); err != nil {
				t.Fatal(err)
			}
		}
		n := len(sel.Picks)
		row := &query.Row{
			ID:     "p",
			Type:   "page",
			Cells:  make([][][]byte, n),
			Asked:  make([][]string, n),
			Linked: make([][]*query.Row, n),
			Lists:  make([]*query.RootResult, n),
		}
		for i := range sel.Picks {
			p := &sel.Picks[i]
			row.Cells[i] = make([][]byte, 12)
			switch {
			case p.Field == "blocks":
				row.Linked[i] = p.Inner([]byte(blocks))
			case p.Field == "hours":
				row.Linked[i] = p.Inner([]byte(hours))
			case p.Field == "tone":
				row.Cells[i][0] = []byte("hint")
			case p.List != nil:
				row.Lists[i] = &query.RootResult{}
			}
		}
		out, err := query.Render(1<<20, func(b *query.Buffer) { query.WriteObject(b, sel.Picks, 0, row) })
		if err != nil {
			t.Fatal(err)
		}
		return string(out)
	}
	const blocks = `[{"block": "heading", "text": "A \"b\"", "tone": "loud"}, {"block": "prose", "text": {"html": "<p>x</p>", "tree": {"kind": "document"}}, "pictures": [{"url": "/a", "alt": null}]}, {"block": "banner", "banner": "b1"}]`
	for fields, want := range map[string]string{
		"blocks": `{"id":"p","blocks":[{"block":"heading","text":"A \"b\"","tone":"loud"},{"block":"prose","text":{"html":"<p>x</p>"},"pictures":[{"url":"/a","alt":null,"width":null,"height":null,"mediaType":null,"bytes":null}]},{"block":"banner","banner":null}]}`,
		"blocks(prose(text(tree)),heading(tone(label)))": `{"id":"p","blocks":[{"block":"heading","tone":"Loud"},{"block":"prose","text":{"tree":{"kind": "document"}}},{"block":"banner"}]}`,
		"blocks(prose(pictures(url)))":                   `{"id":"p","blocks":[{"block":"heading"},{"block":"prose","pictures":[{"url":"/a"}]},{"block":"banner"}]}`,
		"hours(open)":                                    `{"id":"p","hours":[{"open":true},{"open":null}]}`,
		"hours":                                          `{"id":"p","hours":[{"day":"Monday","open":true},{"day":null,"open":null}]}`,
		"tone(label)":                                    `{"id":"p","tone":"Råd"}`,
		"children[limit=2,sort=-title](title,tone(label))": `{"id":"p","children":[]}`,
	} {
		if got := object("nb", fields, blocks, `[{"day": "Monday", "open": true}, {}]`); got != want {
			t.Errorf("%s:\n got %s\nwant %s", fields, got, want)
		}
	}
	for fields, want := range map[string]string{
		"blocks(headnig)":                  `blocks has no kind of block "headnig"; did you mean "heading"?`,
		"blocks(heading(txt))":             `there is no field "txt" in blocks.heading; did you mean "text"?`,
		"hours(dya)":                       `there is no field "dya" in hours; did you mean "day"?`,
		"children[limit=999](title)":       `"999" is no number from 0 to 200`,
		"children[sort=titel](title)":      `did you mean "title"?`,
		"children[lmit=3](title)":          `children takes no argument "lmit"; did you mean "limit"?`,
		"children[limit=3](titel)":         `there is no field "children.titel" in page`,
		"children[limit](title)":           `"limit" behind "children" is no argument`,
		"children[limit=1,limit=2](title)": `"limit" stands twice`,
		"children[limit=3":                 "the square bracket behind",
		"title[limit=3]":                   "title takes no arguments",
		"at(lat)":                          `at has no part "lat"`,
	} {
		_, err := query.Selecting{Model: m, Locale: "en"}.Fields(page, fields)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", fields, err, want)
		}
	}
	q := &query.Query{
		Edition: "published",
		Roots: []query.Root{
			{
				By:        query.ByList,
				Type:      "page",
				Locale:    "en",
				Selection: query.Selecting{Model: m, Locale: "en"}.All(page),
			},
		},
	}
	if got := q.Needs(); len(got) != 2 || got[1].Type != "banner" {
		t.Errorf("all of a page needs %v", got)
	}
}

func TestIDs(t *testing.T) {
	for src, want := range map[string][]string{
		`"a"`: {"a"}, `["a", "b-2"]`: {"a", "b-2"}, `[]`: nil, ``: nil,
		`null`: nil, `"`: nil,
	} {
		if got := query.IDs([]byte(src)); !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %v", src, got)
		}
	}
}
