package contentapi

import (
	"net/http"
	"net/url"
	"testing"

	"ubiquon/internal/core/limits"
	"ubiquon/internal/graphql"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/cost"
)

// FuzzREST compiles what somebody asks for in REST.
func FuzzREST(f *testing.F) {
	for _, seed := range [][2]string{
		{"routes", "fields=name,piers(name)&sort=-published,name&limit=3&count=true&locale=nb"},
		{"routes", "filter=A_CONTAINS(piers,('a'))+AND+number+BETWEEN+1+AND+4&offset=100"},
		{"routes/outer-ring", "fields=text(tree),about(path)"},
		{"entries/a", "revision=2"},
		{"at", "path=/routes/x"},
		{"paths", "type=route&limit=10000&after=x"},
		{"routes", "after=eyJ2YWx1ZXMiOltudWxsXSwiaWQiOiJhIn0"},
		{"settings", ""},
		{"%ff", "limit=%ff"},
		{"routes", "filter=NOT+NOT+NOT+TRUE&translated=only&before=x&after=y"},
	} {
		f.Add(seed[0], seed[1], "nb;q=0.5, *")
	}
	m := testkit.Model(f, testkit.Ferries)
	f.Fuzz(func(t *testing.T, path, query, language string) {
		u := &url.URL{Path: "/content/main/preview/" + path, RawQuery: query}
		r := &http.Request{
			Method:     http.MethodGet,
			URL:        u,
			RequestURI: u.RequestURI(),
			Header:     http.Header{"Accept-Language": {language}},
		}
		cost.Bound(t, func() {
			p, err := PlanREST(m, nil, "preview", path, r)
			if err == nil && (p.Query.Effort() < 0 || len(p.Query.Key()) > 4<<20) {
				t.Errorf("%s?%s: effort %d, %d bytes", path, query, p.Query.Effort(), len(p.Query.Key()))
			}
		})
	})
}

// FuzzGraphQL compiles what somebody asks for in GraphQL, whether they may read it or
// not.
func FuzzGraphQL(f *testing.F) {
	for _, seed := range []string{
		`{"query": "{ routes(first: 3, filter: {number: {gt: 3}}) { nodes { name piers { name } } pageInfo { endCursor } } }"}`,
		`{"query": "query Q($s: String!) { route(slug: $s) { ...F } } fragment F on Route { text { html } start { ... on Pier { name } } }", "variables": {"s": "x"}}`,
		`{"query": "{ __schema { types { name fields { type { ofType { name } } } } } }"}`,
		`{"query": "{ a: settings { claim } node(id: \"x\") { id __typename } }", "operationName": "A"}`,
		`[{"query": "{"}]`, `{"query": "query { routes(first: $n) @include(if: true) { totalCount } }", "variables": {"n": 1e99}}`,
	} {
		f.Add(seed)
	}
	s, err := graphql.New(testkit.Model(f, testkit.Ferries), limits.Limits{}, nil)
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, body string) {
		cost.Bound(t, func() {
			req, err := graphqlOf(body)
			if err != nil {
				return
			}
			if op, errs := s.Compile("published", req); len(errs) == 0 && len(op.Key()) > 4<<20 {
				t.Errorf("the plan of %q has %d bytes", body, len(op.Key()))
			}
			_, _ = s.CompileFor("published", req, func(typ string) bool { return typ == "pier" })
		})
	})
}
