package environment_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/environment"
	"ubiquon/internal/server"
	"ubiquon/internal/store/accounts"
	"ubiquon/internal/testkit"
)

// graphql sends a body to an edition's GraphQL.
func (n node) graphql(t *testing.T, address, secret string, body any, header ...string) *client.Answer {
	t.Helper()
	h := http.Header{"Accept": {"application/graphql-response+json"}}
	for i := 0; i+1 < len(header); i += 2 {
		h.Set(header[i], header[i+1])
	}
	a, err := (&client.Client{Address: address, Key: secret}).Do(
		t.Context(), http.MethodPost, "/content/"+n.Replica.Environment()+"/published/graphql", h, body,
	)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// TestExplainRead tries reads as different readers: the answer is what they
// would get, and what it is made of is said.
func TestExplainRead(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	notices, _ := l.key(t, "read published notice")
	examine := func(q api.ReadQuestion) api.Examined {
		t.Helper()
		out, err := n.client.Reads().Examine(t.Context(), q)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	rest := api.ReadQuestion{
		Request: "/notices?fields=title,routes(name)&filter=" + url.QueryEscape("title LIKE 'F%'"),
		Explain: true,
	}
	e := examine(rest)
	if e.Status != 200 || !strings.Contains(e.Body, `"Outer Ring"`) || e.Effort.Asked == 0 || e.Effort.Limit == 0 ||
		e.Milliseconds.SQL <= 0 ||
		e.RoundTrips == 0 ||
		e.Held != 0 ||
		fmt.Sprint(e.Grants) != "[read published notice in en read published route in en]" {
		t.Errorf("%+v", e)
	}
	if len(e.Statements) != 3 || !strings.Contains(e.Statements[1].Plan, "actual rows=1") {
		t.Errorf("statements: %+v", e.Statements)
	}
	if s, _ := json.Marshal(e.Dependencies); !bytes.Contains(
		s, []byte(`{"id":"ring","locale":"en","fields":["name"]}`),
	) ||
		!bytes.Contains(s, []byte(`"type":"notice"`)) {
		t.Errorf("dependencies: %s", s)
	}
	if a := n.ask(t, n.client.Key, "published"+rest.Request); a.Header.Get("ETag") == "" ||
		e.Header["Etag"][0] != a.Header.Get("ETag") {
		t.Errorf("read as it is: %d %v, examined: %v", a.Status, a.Header, e.Header)
	}
	if e := examine(rest); e.Held == 0 {
		t.Error("read, and not held")
	}
	rest.As = notices.ID
	if e := examine(rest); e.Status != 403 || !strings.Contains(e.Body, "read published route") {
		t.Errorf("as a key: %d %s", e.Status, e.Body)
	}
	rest.Lenient = true
	if e := examine(rest); e.Status != 200 || !strings.Contains(e.Body, `"hidden":["routes"]`) {
		t.Errorf("as a key, leniently: %d %s", e.Status, e.Body)
	}
	rest.As = "everyone"
	if e := examine(rest); e.Status != 401 {
		t.Errorf("as everyone: %d %s", e.Status, e.Body)
	}
	if e := examine(api.ReadQuestion{Request: "/notices?fields=title,routs(name)"}); e.Status != 400 ||
		!strings.Contains(e.Body, `"at":7`) {
		t.Errorf("a wrong field: %d %s", e.Status, e.Body)
	}
	if e := examine(api.ReadQuestion{Request: "/notices?filter=" + url.QueryEscape("title = 3")}); e.Status != 400 ||
		!strings.Contains(e.Body, `"at":1`) {
		t.Errorf("a wrong filter: %d %s", e.Status, e.Body)
	}
	e = examine(
		api.ReadQuestion{
			Query:    "{ notice(slug: \"fog\") { title routes { name } } }",
			Language: "nb",
			Edition:  "preview",
		},
	)
	if e.Status != 200 || !strings.Contains(e.Body, `"title":"Tåke"`) ||
		!strings.Contains(e.Body, `{"name":"North Line"}`) {
		t.Errorf("GraphQL: %d %s", e.Status, e.Body)
	}
	if e := examine(api.ReadQuestion{Query: "{ notice(slug: 3) }"}); e.Status != 400 ||
		!strings.Contains(e.Body, `"column":`) {
		t.Errorf("wrong GraphQL: %d %s", e.Status, e.Body)
	}
	for _, wrong := range []api.ReadQuestion{
		{},
		{Request: "/notices", As: "nobody's"},
		{Request: "/notices", Edition: "printed"},
		{Request: "/content/elsewhere/published/notices"},
		{Request: "/changes"},
		{DocumentID: "sha256:0"},
	} {
		if _, err := n.client.Reads().Examine(t.Context(), wrong); err == nil ||
			!strings.Contains(err.Error(), "no address") && !strings.Contains(err.Error(), "is not below") &&
				!strings.Contains(err.Error(), "is no read") &&
				!strings.Contains(err.Error(), "there is no") {
			t.Errorf("%+v: %v", wrong, err)
		}
	}
	_, previewer := l.key(t, "read preview notice")
	other := &client.Client{Address: n.client.Address, Key: previewer}
	if _, err := other.Reads().Examine(t.Context(), api.ReadQuestion{
		Request: "/notices",
		As:      notices.ID,
	}); err == nil {
		t.Error("whoever may read notices may read as any key")
	}
	if _, err := other.Reads().Examine(t.Context(), api.ReadQuestion{
		Request: "/notices",
		Explain: true,
	}); err == nil {
		t.Error("whoever may read notices is shown plans")
	}
}

func TestReadsAreKept(t *testing.T) {
	l := newLine(t, 1)
	c := l.nodes[0].client
	first, err := c.Reads().SaveRead(t.Context(), "front page", json.RawMessage(`{"request":"/notices"}`))
	if err != nil {
		t.Fatal(err)
	}
	again, err := c.Reads().SaveRead(t.Context(), "front page", json.RawMessage(`{"request":"/notices?limit=3"}`))
	if err != nil || again.ID != first.ID {
		t.Errorf("%v: %s, then %s", err, first.ID, again.ID)
	}
	if all, err := c.Reads().SavedReads(t.Context()); err != nil || len(all) != 1 ||
		!strings.Contains(string(all[0].Read), "limit=3") {
		t.Errorf("%v %+v", err, all)
	}
	if _, err := c.Reads().SaveRead(t.Context(), " ", json.RawMessage(`{}`)); err == nil {
		t.Error("kept without a name")
	}
	if err := c.Reads().ForgetRead(t.Context(), first.ID); err != nil {
		t.Error(err)
	}
	if err := c.Reads().ForgetRead(t.Context(), first.ID); err == nil {
		t.Error("forgotten twice")
	}
}

// TestDocumentsAreNamed trusts a document on one node and names it on another,
// where nothing else is answered.
func TestDocumentsAreNamed(t *testing.T) {
	l := newLine(t, 2)
	n, other := l.nodes[0], l.nodes[1]
	_, secret := l.key(t, "read published notice")
	strict := other.web(t, server.Options{TrustedOnly: true, Batch: 2})
	const text = "query One($slug: String!) { notice(slug: $slug) { title } }"
	ask := func(body any) (int, string) {
		t.Helper()
		a := other.graphql(t, strict, secret, body)
		return a.Status, string(a.Body)
	}
	testkit.Eventually(
		t, "the other node knows the key", func() bool { status, _ := ask(per{"query": text}); return status != 401 },
	)
	if status, body := ask(per{"query": text, "variables": per{"slug": "fog"}}); status != 403 ||
		!strings.Contains(body, "trusted") {
		t.Errorf("before: %d %s", status, body)
	}
	if _, err := n.client.Reads().AddDocument(t.Context(), "one", "{ notice(slug: 3) { nam } }"); err == nil ||
		!strings.Contains(err.Error(), "nam") {
		t.Errorf("a document that cannot be answered: %v", err)
	}
	d, err := n.client.Reads().AddDocument(t.Context(), "one", text)
	if err != nil || d.ID != accounts.DocumentID(text) {
		t.Fatalf("%v %+v", err, d)
	}
	named := per{"documentId": d.ID, "variables": per{"slug": "fog"}}
	testkit.Eventually(t, "the other node knows it", func() bool { status, _ := ask(named); return status == 200 })
	if status, body := ask(named); status != 200 || !strings.Contains(body, `"Fog"`) {
		t.Errorf("by name: %d %s", status, body)
	}
	if status, body := ask(per{"query": text, "variables": per{"slug": "fog"}}); status != 200 ||
		!strings.Contains(body, `"Fog"`) {
		t.Errorf("by its text: %d %s", status, body)
	}
	if status, body := ask(per{"query": text, "documentId": d.ID}); status != 400 ||
		!strings.Contains(body, "one of them") {
		t.Errorf("both: %d %s", status, body)
	}
	a := other.ask(
		t, secret,
		"published/graphql?documentId="+url.QueryEscape(d.ID)+"&variables="+url.QueryEscape(`{"slug":"fog"}`),
	)
	if a.Status != 200 || !strings.Contains(string(a.Body), `"Fog"`) {
		t.Errorf("with GET: %d %s", a.Status, a.Body)
	}
	if status, body := ask([]any{named, per{"documentId": "sha256:1"}}); status != 200 ||
		!strings.HasPrefix(body, `[{"data":{"notice":{"title":"Fog"}}`) ||
		!strings.Contains(body, "there is no trusted document") {
		t.Errorf("two at once: %d %s", status, body)
	}
	if status, body := ask([]any{named, named, named}); status != 400 || !strings.Contains(body, "1 to 2") {
		t.Errorf("three at once: %d %s", status, body)
	}
	if a := n.graphql(t, n.client.Address, secret, []any{named}); a.Status != 400 ||
		!strings.Contains(string(a.Body), "batch") {
		t.Errorf("a list where none is allowed: %d %s", a.Status, a.Body)
	}
	if err := n.client.Reads().RemoveDocument(t.Context(), "one"); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(
		t, "the other node trusts it no more", func() bool { status, _ := ask(named); return status == 400 },
	)
}

const farewells = `
locales: {en: {}, nb: {fallback: [en]}}
types:
  notice:
    path: {en: "/notices/{slug}", nb: "/varsler/{slug}"}
    fields:
      title: {kind: text, translated: true}
      slug: {kind: slug, madeFrom: title}
      code: {kind: text, deprecated: use the slug, deprecatedSince: 2026-11-01, sunset: 2027-05-01}
      hut: {kind: reference, types: [hut]}
  hut:
    deprecated: huts are piers now
    deprecatedSince: 2026-10-01
    fields: {name: {kind: text}, slug: {kind: slug, madeFrom: name}}
`

func TestDeprecationHeaders(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, farewells)), access.NewSecret())
	n.must(t, api.Edit{ID: "boathouse", Type: "hut", Save: per{"name": "Boathouse"}, Do: "publish"})
	n.must(
		t,
		api.Edit{
			ID:   "fog",
			Type: "notice",
			Save: per{"title": per{"en": "Fog", "nb": "Tåke"}, "code": "F1", "hut": "boathouse"},
			Do:   "publish",
		},
	)
	const november, october = "@1793491200", "@1790812800"
	for path, want := range map[string][2]string{
		"notices?fields=title":                                 {"", ""},
		"notices?fields=title,code":                            {november, "Sat, 01 May 2027 00:00:00 GMT"},
		"notices?fields=title&sort=code":                       {november, "Sat, 01 May 2027 00:00:00 GMT"},
		"notices?fields=title&filter=code='F1'":                {november, "Sat, 01 May 2027 00:00:00 GMT"},
		"notices?fields=title,hut(name)":                       {october, ""},
		"huts":                                                 {october, ""},
		"entries/fog?fields=title":                             {"", ""},
		"entries/fog?fields=code":                              {november, "Sat, 01 May 2027 00:00:00 GMT"},
		"entries/boathouse?fields=id":                          {october, ""},
		"graphql?query={notices{nodes{title}}}":                {"", ""},
		"graphql?query={notices{nodes{hut{name}}}}":            {october, ""},
		`graphql?query={node(id:"fog"){...on%20Notice{code}}}`: {november, "Sat, 01 May 2027 00:00:00 GMT"},
	} {
		a := n.ask(t, n.client.Key, "published/"+path)
		if a.Status != 200 || a.Header.Get("Deprecation") != want[0] || a.Header.Get("Sunset") != want[1] {
			t.Errorf(
				"%s: %d, Deprecation %q, Sunset %q, not %q", path, a.Status, a.Header.Get("Deprecation"),
				a.Header.Get("Sunset"), want,
			)
		}
	}
}

// TestEntriesAreFoundByEither asks GraphQL for entries by id and by path, in the
// language that is told.
func TestEntriesAreFoundByEither(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, farewells)), access.NewSecret())
	n.must(
		t, api.Edit{ID: "fog", Type: "notice", Save: per{"title": per{"en": "Fog", "nb": "Tåke"}}, Do: "publish"},
	)
	for _, c := range []struct{ by, language, want string }{
		{`id: "fog"`, "", `"Fog"`},
		{`id: "fog"`, "nb-NO, en;q=0.5", `"Tåke"`},
		{`path: "/varsler/fog/"`, "", `"Tåke"`},
		{`path: "/notices/fog"`, "nb", `"Fog"`},
		{`path: "/notices/ice"`, "", `"entry":null`},
		{`path: "notices"`, "", "no path of a site"},
		{`id: "fog", path: "/"`, "", "exactly one"},
		{`id: null`, "", "EntryBy"},
	} {
		a := n.graphql(
			t, n.client.Address, n.client.Key,
			per{"query": "{ entry(by: {" + c.by + "}) { ... on Notice { title } } }"}, "Accept-Language", c.language,
		)
		if !strings.Contains(string(a.Body), c.want) ||
			strings.Contains(a.Header.Get("Vary"), "Accept-Language") == strings.HasPrefix(c.by, "path") &&
				a.Status == 200 {
			t.Errorf("%s in %q: %s, Vary %s", c.by, c.language, a.Body, a.Header.Get("Vary"))
		}
	}
}

// TestRevisionsAreReadInPreview reads what was saved before, rendered as it would
// be today.
func TestRevisionsAreReadInPreview(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	n.must(
		t,
		api.Edit{
			ID:   "fog",
			Type: "notice",
			Save: per{"title": per{"en": "Thick fog", "nb": "Tåke"}, "routes": []any{"north"}},
		},
	)
	_, previews := l.key(t, "read preview *", "read published *")
	for path, want := range map[string]string{
		"preview/entries/fog?fields=title,routes(name),about(revision)":            `"about":{"revision":2},"title":"Thick fog","routes":[{"id":"north","name":"North Line"}]`,
		"preview/entries/fog?fields=title,routes(name),about(revision)&revision=1": `"about":{"revision":1},"title":"Fog","routes":[{"id":"ring","name":"Outer Ring"},{"id":"north","name":"North Line"}]`,
		"preview/entries/fog?fields=title&revision=1&locale=nb":                    `"Tåke"`,
		"preview/entries/fog?fields=title&revision=9":                              `not-found`,
		"preview/entries/fog?revision=0":                                           `is no revision`,
		"published/entries/fog?revision=1":                                         `preview`,
		"preview/notices?revision=1":                                               `no such parameter`,
	} {
		for range 2 {
			if a := n.ask(t, previews, path); !strings.Contains(string(a.Body), want) ||
				testkit.Hit(a.Header.Get("Cache-Status")) && a.Status == 200 && strings.Contains(path, "revision=") {
				t.Errorf("%s: %d %s %s", path, a.Status, a.Header.Get("Cache-Status"), a.Body)
			}
		}
	}
	if a := n.ask(t, "", "preview/entries/fog?revision=1"); a.Status != 401 {
		t.Errorf("for everyone: %d", a.Status)
	}
}

// TestSlowReadsAreGivenUp holds up the database.
func TestSlowReadsAreGivenUp(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := start(t, environment.Options{Store: s, ReadTimeout: 300 * time.Millisecond}, access.NewSecret())
	tx, err := s.DB.Pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(t.Context(), `lock table document in access exclusive mode`); err != nil {
		t.Fatal(err)
	}
	a := n.ask(t, n.client.Key, "published/piers?limit=7")
	if a.Status != 503 || !strings.Contains(string(a.Body), "too-slow") ||
		!strings.Contains(string(a.Body), "indexed") {
		t.Errorf("%d %s", a.Status, a.Body)
	}
	if err := tx.Rollback(t.Context()); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(
		t, "afterwards it is answered",
		func() bool { return n.ask(t, n.client.Key, "published/piers?limit=7").Status == 200 },
	)
	if a := n.ask(t, n.client.Key, "published/piers?filter="+strings.Repeat("x", 17<<10)); a.Status != 414 ||
		!strings.Contains(string(a.Body), "16384") {
		t.Errorf("a long address: %d %s", a.Status, a.Body)
	}
}

// TestModelDiffNamesBrokenReads plans a model that renames a field which requests in use name.
func TestModelDiffNamesBrokenReads(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	publish(t, n, "p1", "pier", content.Fields{"name": "Mella"})
	for _, d := range [][2]string{{"names", "{ piers { nodes { name } } }"}, {"counts", "{ piers { totalCount } }"}} {
		if _, err := n.client.Reads().AddDocument(t.Context(), d[0], d[1]); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := n.Documents.SaveRead(t.Context(), "by name",
		[]byte(`{"request": "/piers?sort=name", "edition": "published"}`), "test"); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/piers?fields=name", "/piers?fields=id"} {
		n.get(t, "/content/"+n.Replica.Environment()+"/published"+path, false)
	}
	renamed := strings.Replace(testkit.Ferries, "      name: {kind: text", "      called: {was: name, kind: text", 1)
	if renamed == testkit.Ferries {
		t.Fatal("nothing is renamed")
	}
	// Only the first type's: the others have names, too.
	renamed = strings.Replace(
		strings.Replace(renamed, "title: name", "title: called", 1), "madeFrom: name", "madeFrom: called", 1,
	)
	plan, err := n.client.Models().Plan(t.Context(), map[string]string{"m.yaml": renamed})
	if err != nil {
		t.Fatal(err)
	}
	var what []string
	for _, b := range plan.Breaks {
		what = append(what, b.What+": "+b.Request)
	}
	told := strings.Join(what, "\n")
	for text, want := range map[string]bool{
		"trusted document names": true, "trusted document " +
			"counts": false, "saved read by name: /piers?sort=name": true, "piers?fields=name": true,
		"piers?fields=id": false,
	} {
		if strings.Contains(told, text) != want {
			t.Errorf("%q is told of is %t:\n%s", text, !want, told)
		}
	}
	if len(plan.Consequences) == 0 || plan.Consequences[0].Severity != "breaks reads" {
		t.Errorf("%+v", plan.Consequences)
	}
}

// TestDocumentsAreNamedByHash names trusted documents as clients of persisted queries do,
// and by the ids of a manifest.
func TestDocumentsAreNamedByHash(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	publish(t, n, "p1", "pier", content.Fields{"name": "Mella"})
	const text = "{ piers { totalCount } }"
	d, err := n.client.Reads().AddDocument(t.Context(), "id-of-a-tool", text)
	if err != nil {
		t.Fatal(err)
	}
	hash := strings.TrimPrefix(d.ID, "sha256:")
	named := func(version int, hash string) per {
		return per{"persistedQuery": per{"version": version, "sha256Hash": hash}}
	}
	unknown := strings.Repeat("0", 64)
	for name, c := range map[string]struct {
		body   per
		status int
		want   string
	}{
		"a hash that is trusted": {per{"extensions": named(1, hash)}, 200, `"totalCount":1`},
		"one that is not":        {per{"extensions": named(1, unknown)}, 200, `"code":"PERSISTED_QUERY_NOT_FOUND"`},
		"another version": {
			per{"extensions": named(2, hash)},
			200,
			`"code":"PERSISTED_QUERY_NOT_SUPPORTED"`,
		},
		"the text beside it": {per{"query": text, "extensions": named(1, hash)}, 200, `"totalCount":1`},
		"another text beside it": {
			per{"query": "{ piers { nodes { id } } }", "extensions": named(1, hash)},
			400, "is not the SHA-256",
		},
		"the id of a manifest":       {per{"documentId": "id-of-a-tool"}, 200, `"totalCount":1`},
		"an id that nobody knows":    {per{"documentId": "another"}, 400, "no trusted document"},
		"extensions of another kind": {per{"query": text, "extensions": per{"client": "x"}}, 200, `"totalCount":1`},
	} {
		for range 2 {
			if a := n.graphql(t, n.client.Address, n.client.Key, c.body); a.Status != c.status ||
				!strings.Contains(string(a.Body), c.want) {
				t.Errorf("%s: %d %s", name, a.Status, a.Body)
			}
		}
	}
	asked := "/content/" + n.Replica.Environment() + "/published/graphql?extensions=" + url.QueryEscape(
		`{"persistedQuery":{"version":1,"sha256Hash":"`+hash+`"}}`,
	)
	if a := n.get(t, asked, false); a.Status != 200 || !strings.Contains(string(a.Body), `"totalCount":1`) {
		t.Errorf("with GET: %d %s", a.Status, a.Body)
	}
	if a := n.asking(t, "/content/"+n.Replica.Environment()+"/published/graphql", "Accept",
		"text/html,*/*"); !strings.Contains(
		string(a.Body), "console",
	) {
		t.Errorf("in a browser: %d %v %.200s", a.Status, a.Header, a.Body)
	}
}
