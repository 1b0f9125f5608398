package environment_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/testkit"
)

func filtered(path, filter string) string { return path + "&filter=" + url.QueryEscape(filter) }

func graphqlOf(edition, query string) string {
	return edition + "/graphql?query=" + url.QueryEscape(query)
}

// TestForbiddenEntriesLookLikeMissingOnes asks, as readers of each kind, for
// what there is and they may not read, and for what there is not: the answers are the
// same but for the names in the question.
func TestForbiddenEntriesLookLikeMissingOnes(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	n.must(
		t,
		api.Edit{
			ID:   "hat",
			Type: "remark",
			Save: per{"subject": "Hat", "text": per{"en": "By [north](ref:north)."}},
		},
		api.Edit{
			ID:   "scarf",
			Type: "remark",
			Save: per{"subject": "Scarf", "text": per{"en": "At [ring](ref:ring) and [north](ref:north)."}},
			Do:   "publish",
		},
	)
	n.must(
		t,
		api.Edit{
			ID:   "moved",
			Type: "notice",
			Save: per{"title": per{"en": "Moved"}, "slug": "moved"},
			Do:   "publish",
		},
	)
	n.must(
		t,
		api.Edit{
			ID:   "moved",
			Type: "notice",
			Save: per{"title": per{"en": "Moved"}, "slug": "elsewhere"},
			Do:   "publish",
		},
	)
	if _, err := n.Keys.ChangePublicGrants(t.Context(), "test",
		access.Grants{{Verb: access.Read, Edition: content.Published, Type: "notice"}}, nil); err != nil {
		t.Fatal(err)
	}
	readers := map[string]string{"everyone": ""}
	for name, grants := range map[string][]string{
		"notices":           {"read published notice", "read preview notice"},
		"notices in nb":     {"read published notice in nb", "read preview notice in nb"},
		"writer of notices": {"read published notice", "read preview notice", "write preview notice"},
	} {
		_, readers[name] = l.key(t, grants...)
	}
	_, routesToo := l.key(t, "read published notice", "read published route", "read published remark")
	_, remarks := l.key(t, "read published remark")
	type question struct{ there, not string }
	ask := func(t *testing.T, secret string, q question) {
		t.Helper()
		a, b := n.ask(t, secret, q.there), n.ask(t, secret, q.not)
		if a.Status != b.Status || !bytes.Equal(masked(a.Body), masked(b.Body)) ||
			a.Header.Get("Content-Type") != b.Header.Get("Content-Type") {
			t.Errorf("%s: %d %s\n%s: %d %s", q.there, a.Status, a.Body, q.not, b.Status, b.Body)
		}
		if a.Status >= 500 {
			t.Errorf("%s: %d %s", q.there, a.Status, a.Body)
		}
	}
	for reader, secret := range readers {
		for way, q := range map[string]question{
			"a field of another type": {
				"published/notices?locale=nb&fields=title,routes(name)",
				"published/notices?locale=nb&fields=title,routes(nonsense)",
			},
			"a field of another type, deeper": {
				"published/notices?locale=nb&fields=routes(notices(routes(name)))",
				"published/notices?locale=nb&fields=routes(notices(routes(nonsense)))",
			},
			"a filter on another type": {
				filtered("published/notices?locale=nb", "routes.name = 'x'"),
				filtered("published/notices?locale=nb", "routes.nonsense = 'x'"),
			},
			"a filter of another kind": {
				filtered("published/notices?locale=nb", "routes.name = 'x'"),
				filtered("published/notices?locale=nb", "routes.name = 4"),
			},
			"a filter on a reference": {filtered("published/notices?locale=nb", "A_CONTAINS(routes, "+
				"('ring'))"), filtered("published/notices?locale=nb", "A_CONTAINS(routes, ('nonsense'))")},
			"a count by a reference": {
				filtered("published/notices?locale=nb&count=true",
					"A_CONTAINS(routes, ('north'))"),
				filtered("published/notices?locale=nb&count=true", "A_CONTAINS(routes, ('nonsense'))"),
			},
			"a sort by a field of another type": {"published/routes?sort=name", "published/routes?sort=nonsense"},
			"a filter on a list of another type": {
				filtered("published/routes?limit=1", "name = 'x'"),
				filtered("published/routes?limit=1", "nonsense = 'x'"),
			},
			"a field of a list of another type": {"published/routes?fields=name", "published/routes?fields=nonsense"},
			"an entry of another type, by slug": {"published/routes/outer-ring", "published/routes/nonsense-x"},
			"a draft, by slug": {
				"published/notices/ice?locale=nb",
				"published/notices/nonsense?locale=nb",
			},
			"a draft, by id": {
				"published/entries/ice?locale=nb",
				"published/entries/nonsense?locale=nb",
			},
			"a draft of another type, by id": {
				"preview/entries/hat?locale=nb",
				"preview/entries/nonsense?locale=nb",
			},
			"a draft of another type, in GraphQL": {
				graphqlOf("preview",
					`{ entry(by: {id: "hat"}, locale: "nb") { id } }`),
				graphqlOf("preview", `{ entry(by: {id: "nonsense"}, locale: "nb") { id } }`),
			},
			"a list in GraphQL": {
				graphqlOf("published",
					`{ routes(locale: "nb") { nodes { name } } }`),
				graphqlOf("published", `{ routes(locale: "nb") { nodes { nonsense } } }`),
			},
			"an argument in GraphQL": {
				graphqlOf("published",
					`{ routes(filter: {name: {eq: "x"}}) { totalCount } }`),
				graphqlOf("published", `{ routes(filter: {nonsense: {eq: "x"}}) { totalCount } }`),
			},
			"a linked field in GraphQL": {
				graphqlOf("published",
					`{ notices(locale: "nb") { nodes { routes { name } } } }`),
				graphqlOf("published", `{ notices(locale: "nb") { nodes { routes { nonsense } } } }`),
			},
			"a variable in GraphQL": {
				graphqlOf("published",
					`query($f: RouteFilter = {name: {eq: "x"}}) { routes(filter: $f) { totalCount } }`),
				graphqlOf("published", `query($f: RouteFilter = {nonsense: {eq: "x"}}) { routes(filter: $f) { totalCount } }`),
			},
			"a fragment in GraphQL": {
				graphqlOf("published",
					`{ routes { nodes { ...F } } } fragment F on Route { name }`),
				graphqlOf("published", `{ routes { nodes { ...F } } } fragment F on Route { nonsense }`),
			},
		} {
			t.Run(reader+": "+way, func(t *testing.T) { ask(t, secret, q) })
		}
	}
	// Who may read both types is told of published routes, and of nothing else.
	for way, q := range map[string]question{
		"a filter on a draft": {filtered("published/notices?count=true", "A_CONTAINS(routes, "+
			"('north'))"), filtered("published/notices?count=true", "A_CONTAINS(routes, ('nonsense'))")},
		"a filter on a draft and others": {filtered("published/notices?count=true", "A_CONTAINS(routes, ('ring', "+
			"'north'))"), filtered("published/notices?count=true", "A_CONTAINS(routes, ('ring', 'nonsense'))")},
		"what all references lead to": {filtered("published/notices?fields=title", "A_EQUALS(routes, "+
			"('ring'))"), filtered("published/notices?fields=title", "A_CONTAINEDBY(routes, ('ring', 'nonsense')) "+
			"AND routes IS NOT NULL")},
		"GraphQL": {
			graphqlOf("published", `{ notices(filter: {routes: {id: {eq: "north"}}}) { totalCount } }`),
			graphqlOf("published", `{ notices(filter: {routes: {id: {eq: "nonsense"}}}) { totalCount } }`),
		},
	} {
		t.Run("routes too: "+way, func(t *testing.T) { ask(t, routesToo, q) })
	}
	if a := n.ask(t, routesToo, filtered("published/notices?fields=title", "A_EQUALS(routes, "+
		"('ring'))")); !strings.Contains(
		string(a.Body), "Fog",
	) {
		t.Errorf("references are filtered as they are delivered: %s", a.Body)
	}
	if a := n.ask(t, routesToo, "published/remarks/scarf?fields=text(html,tree,commonmark)"); strings.Contains(
		string(a.Body), `"entry": "north"`,
	) ||
		strings.Contains(string(a.Body), "ref:") ||
		!strings.Contains(string(a.Body), `"entry": "ring"`) {
		t.Errorf("prose tells the id of a draft: %s", a.Body)
	}
	n.must(t, api.Edit{ID: "north", Do: "publish"})
	if a := n.ask(t, routesToo, "published/remarks/scarf?fields=text(tree)"); !strings.Contains(
		string(a.Body), `"entry": "north"`,
	) {
		t.Errorf("once it is published, prose links to it: %s", a.Body)
	}
	if _, err := n.Keys.ChangePublicGrants(t.Context(), "test", nil,
		access.Grants{{Verb: access.Read, Edition: content.Published, Type: "notice"}}); err != nil {
		t.Fatal(err)
	}
	if a := n.ask(t, remarks, "published/at?path=/notices/moved"); a.Status != http.StatusForbidden ||
		strings.Contains(string(a.Body)+a.Header.Get("Location"), "elsewhere") {
		t.Errorf("a former path tells the present one: %d %s %s", a.Status, a.Header.Get("Location"), a.Body)
	}
}

// masked is a body without what only differs because the question does.
func masked(body []byte) []byte {
	for _, name := range []string{"nonsense-x", "nonsense", "outer-ring", "ice", "hat"} {
		body = bytes.ReplaceAll(body, []byte(`"`+name+`"`), []byte(`"…"`))
	}
	return body
}

// TestSchemasShowWhatMayBeRead describes the model to somebody who may read one type.
func TestSchemasShowWhatMayBeRead(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, notices := l.key(t, "read published notice")
	_, all := l.key(t, "read published *")
	introspection := graphqlOf(
		"published",
		`{ __schema { types { name fields { name } } queryType { fields { name } } } route: __type(name: "Route") { name } }`,
	)
	for _, path := range []string{
		"published/schema", "published/openapi.json", "published/graphql/schema.graphql",
		introspection,
	} {
		few, whole := strings.ToLower(
			string(n.ask(t, notices, path).Body),
		), strings.ToLower(
			string(n.ask(t, all, path).Body),
		)
		for _, hidden := range []string{"remark", "subject", `"routes"`, "routefilter"} {
			if strings.Contains(few, hidden) {
				t.Errorf("%s shows %s", path, hidden)
			}
		}
		if !strings.Contains(few, "notice") || !strings.Contains(whole, "remark") ||
			!strings.Contains(whole, "route") {
			t.Errorf("%s: %.300s", path, few)
		}
	}
	for _, path := range []string{
		"published/rotes", "published/remarks/x/y",
		graphqlOf("published", "{ rotes { totalCount } }"), graphqlOf("published", "{ notices { nodes { rotes } } }"),
	} {
		if a := n.ask(t, notices, path); strings.Contains(string(a.Body), "routes") {
			t.Errorf("%s is near to what is hidden: %s", path, a.Body)
		}
	}
	if a := n.ask(t, all, graphqlOf("published", "{ rotes { totalCount } }")); !strings.Contains(
		string(a.Body), "routes",
	) {
		t.Errorf("who may read everything is told what is near: %s", a.Body)
	}
}

// TestDraftsDoNotMoveTheSequence saves drafts beside readers of the published edition.
func TestDraftsDoNotMoveTheSequence(t *testing.T) {
	l := newLine(t, 2)
	n := l.nodes[0]
	_, key := l.key(t, "read published *")
	testkit.Eventually(
		t, "both nodes know the key",
		func() bool { return l.nodes[1].ask(t, key, "published/notices?fields=title").Status == 200 },
	)
	told := func() string {
		var out []string
		for _, node := range l.nodes {
			a := node.ask(t, key, "published/notices?fields=title")
			b := node.ask(t, key, "published/changes?after=0")
			out = append(out, a.Header.Get("Ubiquon-Sequence"), string(b.Body))
		}
		return strings.Join(out, "\n")
	}
	reach := func(sequence int64) {
		t.Helper()
		for _, node := range l.nodes {
			if a := node.ask(t, key, "published/notices?fields=title", "Ubiquon-Min-Sequence",
				fmt.Sprint(sequence)); a.Status != 200 {
				t.Fatalf("%d %s", a.Status, a.Body)
			}
		}
	}
	first := n.must(
		t,
		api.Edit{
			ID:   "fog",
			Type: "notice",
			Save: per{"title": per{"en": "Fog at the pier"}, "routes": []any{"ring"}},
			Do:   "publish",
		},
	)
	reach(first.Sequence)
	before := told()
	saved := n.must(t, api.Edit{ID: "ice", Type: "notice", Save: per{"title": per{"en": "Ice, thicker"}}})
	reach(saved.Sequence)
	if after := told(); after != before {
		t.Errorf("a draft shows:\n%s\n%s", before, after)
	}
	next := n.must(t, api.Edit{ID: "ice", Do: "publish"})
	reach(next.Sequence)
	if a := n.ask(t, key, "published/notices?fields=title"); a.Header.Get(
		"Ubiquon-Sequence",
	) < fmt.Sprint(
		next.Sequence,
	) &&
		len(a.Header.Get("Ubiquon-Sequence")) <= len(fmt.Sprint(next.Sequence)) {
		t.Errorf("after a publish: %s, it is %d", a.Header.Get("Ubiquon-Sequence"), next.Sequence)
	}
	if after := told(); after == before {
		t.Error("a publish does not show")
	}
}

// TestWriteOnlyKeysDoNotRead looks at what refusals of a write show.
func TestWriteOnlyKeysDoNotRead(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, secret := l.key(t, "write preview notice", "write preview route", "publish published route")
	writer := &client.Client{Address: n.client.Address, Key: secret}
	post := func(body string) *client.Answer {
		a, err := writer.Do(
			t.Context(), http.MethodPost, "/control/v1/edits", http.Header{"Content-Type": {"application/json"}},
			json.RawMessage(body),
		)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	if a := post(`{"edits": [{"id": "fog", "type": "notice", "save": {"title": {"en": "Sun"}}, "ifRevision": 7}]}`); a.Status != 412 ||
		strings.Contains(string(a.Body), "Fog") ||
		strings.Contains(string(a.Body), "present") {
		t.Errorf("a lost update: %d %s", a.Status, a.Body)
	}
	if a := post(`{"edits": [{"id": "ring", "do": "delete"}]}`); a.Status != 409 ||
		strings.Contains(string(a.Body), "Fog") ||
		strings.Contains(string(a.Body), `"fog"`) {
		t.Errorf("what refers to it: %d %s", a.Status, a.Body)
	}
	for _, path := range []string{
		"/entries", "/entries/fog", "/entries/fog/revisions/1", "/export?type=notice",
		"/model", "/changes", "/events",
	} {
		if a, err := writer.Do(t.Context(), http.MethodGet, "/control/v1"+path, nil, nil); err != nil ||
			a.Status != 403 && a.Status != 404 {
			t.Errorf("%s: %v %d %s", path, err, a.Status, a.Body)
		}
	}
	_, norwegian := l.key(t, "read preview notice in nb")
	reader := &client.Client{Address: n.client.Address, Key: norwegian}
	for _, path := range []string{
		"/entries", "/entries?search=Fog", "/entries/fog", "/export?type=notice",
		"/previews", "/reads/saved",
	} {
		if a, err := reader.Do(t.Context(), http.MethodGet, "/control/v1"+path, nil, nil); err != nil ||
			a.Status != 403 && a.Status != 404 {
			t.Errorf("a key for one locale: %s: %v %d %s", path, err, a.Status, a.Body)
		}
	}
}
