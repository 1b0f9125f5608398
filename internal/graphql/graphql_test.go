package graphql

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/query"
	"ubiquon/internal/testkit"
)

func schema(t testing.TB) *Schema {
	t.Helper()
	s, err := New(testkit.Model(t, testkit.Ferries), limits.Limits{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestNames(t *testing.T) {
	for in, want := range map[string]string{
		"harbour-settings": "HarbourSettings", "pier": "Pier",
		"validUntil": "ValidUntil", "a-2-b": "A2B",
	} {
		if got := pascal(in); got != want {
			t.Errorf("%s: %s", in, got)
		}
	}
	for in, want := range map[string]string{
		"allYear": "ALL_YEAR", "in-time": "IN_TIME", "2nd": "_2ND",
		"true": "_TRUE",
	} {
		if got := enumName(in); got != want {
			t.Errorf("%s: %s", in, got)
		}
	}
	if camel("harbour-settings") != "harbourSettings" {
		t.Error(camel("harbour-settings"))
	}
}

func TestSchemaOfAModelWithTakenNames(t *testing.T) {
	s, err := New(testkit.Model(t, `
types:
  paper:  {plural: documents, fields: {name: {kind: text}}}
  query: {fields: {name: {kind: text}, slug: {kind: slug}, next: {kind: reference, types: [file]}}}
  sheep: {plural: sheep, fields: {slug: {kind: slug}, wool: {kind: integer, label: "Wool, in \"kilos\""}}}
`), limits.Limits{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"type FileEntry implements Node", "type QueryEntry implements " +
		"Node", "next: FileEntry", `"Wool, in \"kilos\""`, "): SheepConnection\n"} {
		if !strings.Contains(s.SDL, want) {
			t.Errorf("the schema lacks %q", want)
		}
	}
}

func compile(t *testing.T, text string, vars map[string]any) *Operation {
	t.Helper()
	op, errs := schema(t).Compile("published", Request{Query: text, Variables: vars})
	if len(errs) > 0 {
		t.Fatalf("%s: %v", text, errs)
	}
	return op
}

func TestCompileToOneQuery(t *testing.T) {
	op := compile(t, `query Q($slug: String!, $with: Boolean = false) {
		a: route(slug: $slug) { id ...names piers @include(if: $with) { id } }
		routes(first: 3, sort: ["-number"]) { edges { cursor node { n: number } } nodes { number } totalCount }
		again: __typename
	} fragment names on Route { title: name name piers { name } piers { slug } }`, map[string]any{"slug": "outer"})
	if len(op.Query.Roots) != 2 {
		t.Fatalf("%d roots", len(op.Query.Roots))
	}
	one, list := op.Query.Roots[0], op.Query.Roots[1]
	if one.By != query.BySlug || one.Value != "outer" || one.Locale != "en" || len(one.Selection.Picks) != 4 {
		t.Errorf("one: %+v", one)
	}
	if piers := one.Selection.Picks[3]; piers.Kind != query.PickLink || len(piers.Link.Picks) != 2 {
		t.Errorf("fields that are asked for twice are not united: %+v", piers)
	}
	if list.Limit != 3 || !list.Count || list.Sort[0].By != "number" || !list.Sort[0].Descending ||
		len(list.Selection.Picks) != 2 {
		t.Errorf("list: %+v", list)
	}
	res := &query.Result{Roots: []query.RootResult{{}, {Total: 7, More: true, Rows: []*query.Row{
		{ID: "r1", Type: "route", Keys: [][]byte{[]byte("9")}, Cells: [][][]byte{{[]byte("9")}, {[]byte("9")}}},
	}}}}
	var got struct {
		Data struct {
			A      any
			Again  string
			Routes struct {
				TotalCount int
				Edges      []struct {
					Cursor string
					Node   map[string]any
				}
				Nodes []map[string]any
			}
		}
	}
	if err := json.Unmarshal(written(t, op, res), &got); err != nil {
		t.Fatalf("%v: %s", err, written(t, op, res))
	}
	if d := got.Data; d.A != nil || d.Again != "Query" || d.Routes.TotalCount != 7 ||
		d.Routes.Edges[0].Node["n"] != 9.0 ||
		d.Routes.Nodes[0]["number"] != 9.0 {
		t.Errorf("%+v", d)
	}
	if _, err := list.ParseCursor("after", got.Data.Routes.Edges[0].Cursor); err != nil {
		t.Errorf("the cursor does not come back: %v", err)
	}
}

func TestUnionsAndConditions(t *testing.T) {
	op := compile(
		t,
		`{ route(slug: "r") { start { __typename ... on Pier { name } ... on Route { number } ... on Node { id } } } }`,
		nil,
	)
	picks := op.Query.Roots[0].Selection.Picks[0].Link.Picks
	got := map[string][]string{}
	for _, p := range picks {
		got[p.As] = p.On
	}
	if len(picks) != 4 || got["__typename"] != nil || got["id"] != nil || len(got["name"]) != 1 ||
		got["name"][0] != "pier" ||
		got["number"][0] != "route" {
		t.Errorf("picks %+v", picks)
	}
}

func TestEqualRequestsHaveEqualKeys(t *testing.T) {
	a := compile(t, `{ routes { nodes { name } } }`, nil)
	b := compile(t, `query Other { routes(first: 20) { nodes { ... on Route { name } } } }`, nil)
	c := compile(t, `{ routes { nodes { name number } } }`, nil)
	d := compile(t, `{ list: routes { nodes { name } } }`, nil)
	e := compile(t, `{ routes { nodes { name } totalCount } }`, nil)
	if a.Key() != b.Key() {
		t.Errorf("the same question:\n%s\n%s", a.Key(), b.Key())
	}
	for _, other := range []*Operation{c, d, e} {
		if a.Key() == other.Key() {
			t.Errorf("another question has the same key %s", a.Key())
		}
	}
}

func TestRestrict(t *testing.T) {
	op := compile(t, `{ piers { totalCount } routes { totalCount } r: route(slug: "x") { piers { name } } }`, nil)
	rights := access.Rights{Own: access.Grants{{Verb: access.Read, Edition: "published", Type: "route"}}}
	got := op.Restrict(rights)
	if len(got.Query.Roots) != 2 || got.Query.Roots[0].As != "routes" || len(got.Errors) != 1 ||
		len(op.Errors) != 0 ||
		len(op.Query.Roots) != 3 {
		t.Fatalf("%+v", got)
	}
	body := string(
		written(
			t, got,
			&query.Result{Roots: []query.RootResult{{Total: 4}, {Rows: []*query.Row{{ID: "x", Type: "route"}}}}},
		),
	)
	if want := `{"data":{"piers":null,"routes":{"totalCount":4},"r":{"piers":null}},"errors":[{`; !strings.HasPrefix(
		body, want,
	) ||
		!strings.Contains(body, `"path":["r","piers"],"extensions":{"grant":"read published pier"`) {
		t.Errorf("%s", body)
	}
}

func TestRestrictByWhatWasFound(t *testing.T) {
	op := compile(t, `{ node(id: "x") { id } routes { totalCount } }`, nil)
	got := op.Restrict(access.Rights{Own: access.Grants{{Verb: access.Read, Edition: "published", Type: "route"}}})
	found := &query.Result{Roots: []query.RootResult{{Rows: []*query.Row{{ID: "x", Type: "pier"}}}, {Total: 2}}}
	if body := string(written(t, got, found)); !strings.HasPrefix(
		body, `{"data":{"node":null,"routes":{"totalCount":2}},"errors":[{`,
	) ||
		!strings.Contains(body, `"grant":"read published pier"`) ||
		len(got.Query.NeedsOf(found)) != 0 {
		t.Errorf("a pier: %s", body)
	}
	found.Roots[0].Rows[0].Type = "route"
	if body := string(written(t, got,
		found)); body != `{"data":{"node":{"id":"x"},"routes":{"totalCount":2}},"extensions":{"effort":{"asked":4,"limit":200000}}}` {
		t.Errorf("a route: %s", body)
	}
}

func TestRequestErrors(t *testing.T) {
	s := schema(t)
	for name, c := range map[string]struct {
		r    Request
		want string
	}{
		"empty":            {Request{Query: ""}, "no operation"},
		"syntax":           {Request{Query: "{ routes { "}, "Expected"},
		"unknown field":    {Request{Query: "{ routes { nodes { nam } } }"}, `Cannot query field "nam"`},
		"no slug":          {Request{Query: "{ route { id } }"}, "slug"},
		"missing variable": {Request{Query: "query ($s: String!) { route(slug: $s) { id } }"}, "must be defined"},
		"which operation": {
			Request{Query: "query A { __typename } query B { __typename }", OperationName: "C"},
			`no operation "C"`,
		},
		"subscription": {Request{Query: "subscription { a }"}, "subscription"},
		"unknown sort": {Request{Query: `{ routes(sort: ["nubmer"]) { totalCount } }`}, `did you mean "number"?`},
		"half an entry": {Request{
			Query:     "query ($n: Int) { routes(first: $n) { totalCount } }",
			Variables: map[string]any{"n": 1.5},
		}, "Int"},
		"both ends":       {Request{Query: "{ routes(first: 1, last: 1) { totalCount } }"}, "both given"},
		"after with last": {Request{Query: `{ routes(last: 1, after: "x") { totalCount } }`}, "use before with last"},
		"too deep": {
			Request{Query: "{ route(slug: \"a\") " +
				strings.Repeat("{ start { ... on Route ", 10) + "{ id }" + strings.Repeat("} }", 10) + " }"},
			"at most 8 levels",
		},
		"too many tokens": {Request{Query: "{ " + strings.Repeat("__typename ", 6000) + "}"}, "token"},
	} {
		_, errs := s.Compile("published", c.r)
		if len(errs) == 0 || !strings.Contains(errs.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, errs, c.want)
		}
	}
}

func TestIntrospection(t *testing.T) {
	op := compile(t, `{ __schema { queryType { name } mutationType { name } directives { name } types { name } }
		route: __type(name: "Route") { kind name interfaces { name } fields { name type { kind name ofType { kind ofType { name } } } args { name } } }
		node: __type(name: "Node") { possibleTypes { name } } season: __type(name: "RouteSeason") { enumValues { name description isDeprecated } }
		none: __type(name: "Ghost") { name } }`, nil)
	if len(op.Query.Roots) != 0 {
		t.Fatalf("introspection asks the store: %+v", op.Query.Roots)
	}
	type named struct{ Name string }
	var got struct {
		Data struct {
			Schema struct {
				QueryType    named
				MutationType *named
				Directives   []named
			} `json:"__schema"`
			Route struct {
				Kind       string
				Interfaces []named
				Fields     []struct {
					Name string
					Type struct {
						Kind   string
						OfType *struct{ Kind string }
					}
				}
			}
			Node   struct{ PossibleTypes []named }
			Season struct {
				EnumValues []struct{ Name, Description string }
			}
			None *named
		}
	}
	body := written(t, op, &query.Result{})
	if err := json.Unmarshal(body, &got); err != nil {
		t.Fatalf("%v: %s", err, body)
	}
	d := got.Data
	if d.Schema.QueryType.Name != "Query" || d.Schema.MutationType != nil || d.None != nil ||
		d.Route.Kind != "OBJECT" ||
		d.Route.Interfaces[0].Name != "Node" {
		t.Errorf("%s", body)
	}
	for _, dir := range d.Schema.Directives {
		if dir.Name == "defer" {
			t.Error("@defer is shown, and not served")
		}
	}
	for _, f := range d.Route.Fields {
		if f.Name == "piers" && (f.Type.Kind != "LIST" || f.Type.OfType.Kind != "NON_NULL") {
			t.Errorf("piers: %+v", f.Type)
		}
	}
	if len(d.Node.PossibleTypes) != 4 || d.Season.EnumValues[0].Description != "Summer time" {
		t.Errorf("%+v, %+v", d.Node, d.Season)
	}
}

func FuzzCompile(f *testing.F) {
	for _, q := range []string{
		"{ routes { nodes { id } } }", `{ node(id: "a") { ... on Pier { name } } }`,
		"query ($a: Int) { piers(first: $a) { pageInfo { endCursor } } }",
		`{ routes(filter: {or: [{number: {gt: 3}}, {piers: {name: {like: "a%", anyCase: true}}}], season: {in: [SUMMER]}}) { nodes { id } } }`,
	} {
		f.Add(q)
	}
	s := schema(f)
	f.Fuzz(func(t *testing.T, text string) {
		op, errs := s.Compile("published", Request{Query: text})
		if len(errs) > 0 {
			return
		}
		res := &query.Result{Roots: make([]query.RootResult, len(op.Query.Roots))}
		if body := written(t, op, res); !json.Valid(body) {
			t.Errorf("%q gives %s", text, body)
		}
	})
}

const isles = `
locales: {en: {}, nb: {fallback: [en]}}
types:
  page:
    help: What the site is made of
    fields:
      title:  {kind: text, deprecated: use the heading, deprecatedSince: 2026-11-01}
      slug:   {kind: slug}
      miles:  {kind: decimal}
      at:     {kind: location}
      more:   {kind: json}
      parent: {kind: reference, types: [page], inverse: children}
      hours:  {kind: record, fields: {day: {kind: text}, tone: {kind: choice, options: {a: A}}}}
      blocks:
        kind: blocks
        blocks:
          heading: {label: Heading, fields: {text: {kind: text}}}
          prose:   {fields: {text: {kind: prose}}}
          rule:    {}
`

func TestBlocksRecordsAndWaysBack(t *testing.T) {
	s, err := New(testkit.Model(t, isles), limits.Limits{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		"union PageBlocks = PageBlocksHeading | PageBlocksProse | PageBlocksRule",
		"  blocks: [PageBlocks!]!", "type PageHours {", "enum PageHoursTone {", "  miles: Float", "  at: Point",
		"  more: JSON",
		`@deprecated(reason: "use the heading")`, "translated: Translated = FALLBACK", "): PageConnection\n",
		"What the site is made of",
	} {
		if !strings.Contains(s.SDL, want) {
			t.Errorf("the schema lacks %q in\n%s", want, s.SDL)
		}
	}
	op, errs := s.Compile("published", Request{Query: `{ pages(translated: ONLY) { nodes {
		blocks { __typename ... on PageBlocksHeading { text } ... on PageBlocksProse { prose: text { tree } } }
		hours { day tone __typename } at { coordinates }
		some: children(first: 2, sort: ["-title"]) { totalCount nodes { title } edges { cursor } pageInfo { hasNextPage endCursor } __typename }
	} } }`})
	if len(errs) > 0 {
		t.Fatal(errs)
	}
	root := op.Query.Roots[0]
	blocks, hours, back := root.Selection.Picks[0], root.Selection.Picks[1], root.Selection.Picks[3]
	if !root.Translated || blocks.Kind != query.PickInner || hours.Kind != query.PickInner ||
		back.Kind != query.PickBack ||
		back.List.Limit != 2 ||
		!back.List.Count ||
		back.List.Field != "parent" ||
		!back.List.Sort[0].Descending {
		t.Fatalf("%+v", root.Selection)
	}
	row := &query.Row{
		ID:     "p",
		Type:   "page",
		Cells:  make([][][]byte, 4),
		Asked:  make([][]string, 4),
		Linked: make([][]*query.Row, 4),
		Lists:  make([]*query.RootResult, 4),
	}
	row.Linked[0] = blocks.Inner(
		[]byte(
			`[{"block": "heading", "text": "Hi"}, {"block": "prose", "text": {"tree": {"kind": "document"}}}, {"block": "rule"}]`,
		),
	)
	row.Linked[1] = hours.Inner([]byte(`{"day": "Monday", "tone": "a"}`))
	row.Cells[2] = [][]byte{[]byte("t"), []byte("[5.1, 60.9]")}
	row.Lists[3] = &query.RootResult{
		Total: 5,
		More:  true,
		Rows:  []*query.Row{{ID: "c", Type: "page", Cells: [][][]byte{{[]byte("C")}}, Keys: [][]byte{[]byte("C")}}},
	}
	got := string(written(t, op, &query.Result{Roots: []query.RootResult{{Rows: []*query.Row{row}}}}))
	for _, want := range []string{
		`{"__typename":"PageBlocksHeading","text":"Hi"}`,
		`{"__typename":"PageBlocksProse","prose":{"tree":{"kind": "document"}}}`, `{"__typename":"PageBlocksRule"}`,
		`"hours":{"day":"Monday","tone":"A","__typename":"PageHours"}`, `"at":{"coordinates":[5.1, 60.9]}`,
		`"some":{"totalCount":5,"nodes":[{"title":"C"}]`, `"hasNextPage":true`, `"__typename":"PageConnection"`,
	} {
		if !strings.Contains(got, want) {
			t.Errorf("the answer lacks %s: %s", want, got)
		}
	}
	if _, errs := s.Compile("published",
		Request{Query: `{ pages { nodes { children(first: 3, last: 2) { nodes { id } } } } }`}); len(
		errs,
	) == 0 ||
		!strings.Contains(errs[0].Message, "both given") {
		t.Errorf("first and last: %v", errs)
	}
	if _, errs := s.Compile("published",
		Request{Query: `{ pages { nodes { children(sort: ["titel"]) { nodes { id } } } } }`}); len(
		errs,
	) == 0 ||
		!strings.Contains(errs[0].Message, `did you mean "title"?`) {
		t.Errorf("an unknown sort: %v", errs)
	}
}

func TestEffortIsKnownBeforehand(t *testing.T) {
	s := schema(t)
	for text, want := range map[string]int{
		`{ routes(first: 200) { nodes { name } } }`:                      1 + 200*2,
		`{ routes(first: 2) { nodes { piers { name } } totalCount } }`:   1 + 2*(1+1+10*2+1),
		`{ route(slug: "x") { name } other: route(slug: "y") { name } }`: 2 * 3,
		`{ __typename }`: 0,
	} {
		op, errs := s.Compile("published", Request{Query: text})
		if len(errs) > 0 || op.Query.Effort() != want {
			t.Errorf("%s: %v, effort %d, want %d", text, errs, op.Query.Effort(), want)
		}
	}
	wide := strings.Repeat("piers { name } p: piers { name } ", 1)
	var all strings.Builder
	for i := range 60 {
		fmt.Fprintf(&all, "r%d: routes(first: 200) { nodes { %s } } ", i, wide)
	}
	_, errs := s.Compile("published", Request{Query: "{ " + all.String() + "}"})
	if len(errs) != 1 ||
		!strings.Contains(errs[0].Message, "the effort would be 516060, at most 200000 is allowed") ||
		errs[0].Extensions["effort"] == nil {
		t.Errorf("too much: %v", errs)
	}
}

// TestCountOnly compiles lists of which nothing but the number is
// asked, and others.
func TestCountOnly(t *testing.T) {
	for text, limit := range map[string]int{
		"{ routes { totalCount } }": 0, "{ routes(first: 5) { n: totalCount __typename } }": 0,
		"{ routes { __typename } }":              0,
		"{ routes { totalCount nodes { id } } }": 20, "{ routes(first: 5) { edges { cursor } } }": 5,
		"{ routes(last: 3) { pageInfo { hasPreviousPage } } }":       3,
		"{ routes(first: 5) { pageInfo { endCursor } totalCount } }": 5,
	} {
		op := compile(t, text, nil)
		if root := op.Query.Roots[0]; root.Limit != limit {
			t.Errorf("%s looks for %d entries, want %d", text, root.Limit, limit)
		}
	}
	counted := compile(t, "{ routes(first: 100) { totalCount } }", nil)
	if whole := compile(t, "{ routes(first: 100) { totalCount nodes { name } } }",
		nil); counted.Query.Effort()*10 > whole.Query.Effort() {
		t.Errorf("to count takes %d, to list %d", counted.Query.Effort(), whole.Query.Effort())
	}
	if once, again := compile(t, "{ routes(first: 5) { totalCount } }", nil), compile(t, "{ routes(first: 9) { "+
		"totalCount } }", nil); once.Key() != again.Key() {
		t.Errorf("the same number is another request:\n%s\n%s", once.Key(), again.Key())
	}
}
