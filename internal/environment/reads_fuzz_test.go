package environment_test

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"testing"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/server"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/cost"
)

const (
	// mostStatements and mostTrips bound the SQL of one read, however it is asked for:
	// their number follows from what is asked, not from what there is.
	mostStatements = 120
	mostTrips      = 20
)

// FuzzReads runs what somebody asks for, in REST or GraphQL, on real content, and holds
// what it takes of this process and of PostgreSQL against a bound.
func FuzzReads(f *testing.F) {
	for _, seed := range []string{
		"/notices?fields=title,routes(name,notices[limit=3](title))&count=true",
		"/notices?filter=A_CONTAINS(routes,('ring'))+OR+routes.name+LIKE+'%25x%25'", "/at?path=/notices/fog",
		"/paths?limit=10",
		"/entries/fog?fields=title", "{ notices(first: 5) { totalCount nodes { title routes { name notices { " +
			"totalCount nodes { title } } } } } }", "{ a: notice(slug: \"fog\") { title } b: node(id: \"ring\") { " +
			"id ... on Route { name } } }",
		"query { __schema { types { name } } routes(filter: {name: {like: \"%\"}}) { edges { cursor node { name } " +
			"} pageInfo { endCursor } } }", "/routes?sort=-updated,name&offset=10000&limit=200",
	} {
		f.Add(seed)
	}
	n := open(f, testkit.Store(f, testkit.Model(f, harbour)), access.NewSecret())
	if _, err := n.client.Entries().Edit(f.Context(), api.Edit{
		ID: "ring", Type: "route",
		Save: per{"name": per{"en": "Outer Ring"}}, Do: "publish",
	},
		api.Edit{
			ID: "fog", Type: "notice",
			Save: per{"title": per{"en": "Fog", "nb": "Tåke"}, "routes": []any{"ring"}}, Do: "publish",
		}); err != nil {
		f.Fatal(err)
	}
	handler := server.New(server.Options{Environment: n.Environment})
	f.Fuzz(func(t *testing.T, text string) {
		form := per{"request": text}
		if len(text) > 0 && text[0] != '/' {
			form = per{"query": text}
		}
		src, err := json.Marshal(form)
		if err != nil {
			t.Skip()
		}
		var out api.Examined
		cost.Bound(t, func() {
			r := httptest.NewRequestWithContext(
				t.Context(), http.MethodPost, "/control/v1/reads", bytes.NewReader(src),
			)
			r.Header.Set("Authorization", "Bearer "+n.client.Key)
			w := httptest.NewRecorder()
			handler.ServeHTTP(w, r)
			if w.Code >= 500 {
				t.Errorf("%q: %d %s", text, w.Code, w.Body)
			}
			_ = json.Unmarshal(w.Body.Bytes(), &out) // a refusal has none of it
		})
		if len(out.Statements) > mostStatements || out.RoundTrips > mostTrips || out.Status >= 500 {
			t.Errorf(
				"%q: %d statements in %d round trips, %d %s", text, len(out.Statements), out.RoundTrips, out.Status,
				out.Body,
			)
		}
	})
}
