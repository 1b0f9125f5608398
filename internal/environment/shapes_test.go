package environment_test

import (
	"encoding/json"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ubiquon/internal/api"
	"ubiquon/internal/environment"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"

	"ubiquon/internal/core/access"
)

const shaped = testkit.Ferries + `
  notice:
    path: /notices/{slug}
    fields:
      title: {kind: text, translated: true, required: true}
      slug: {kind: slug, madeFrom: title}
      routes: {kind: reference, types: [route], several: true}

shapes:
  card:
    of: [route]
    fields: {heading: name, number: number}
  teaser:
    of: [notice, route]
    fields:
      heading: {notice: title, route: name}
      link: about(path)
      routes: {notice: routes(shape=card)}
`

// TestReadsInAShape reads entries of several types in one form, and expires exactly what shows a change.
func TestReadsInAShape(t *testing.T) {
	m := testkit.Model(t, shaped)
	n := start(t, environment.Options{Store: testkit.Store(t, m)}, access.NewSecret())
	n.must(
		t,
		api.Edit{ID: "ring", Type: "route", Save: per{"name": per{"en": "Outer Ring"}, "number": 1}, Do: "publish"},
		api.Edit{
			ID: "fog", Type: "notice", Do: "publish", Save: per{"title": per{"en": "Fog"}, "routes": []any{"ring"}},
		},
	)
	at := "/content/" + n.Replica.Environment() + "/published/"
	read := func(path string) string {
		t.Helper()
		a := n.get(t, at+path, false)
		if a.Status != http.StatusOK {
			t.Fatalf("%s: %d %s", path, a.Status, a.Body)
		}
		return string(a.Body)
	}
	const ring = `{"id":"ring","heading":"Outer Ring","number":1}`
	for path, want := range map[string]string{
		"notices/fog?shape=teaser":              `{"id":"fog","heading":"Fog","link":"/notices/fog","routes":[` + ring + `]}`,
		"routes?shape=teaser":                   `"items":[{"id":"ring","heading":"Outer Ring","link":"/routes/outer-ring","routes":null}]`,
		"entries/ring?shape=teaser":             `"heading":"Outer Ring"`,
		"at?path=/notices/fog&shape=teaser":     `"link":"/notices/fog"`,
		"notices/fog?fields=routes(shape=card)": `"routes":[` + ring + `]`,
	} {
		if got := read(path); !strings.Contains(got, want) {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
	graph := func(query string) string {
		t.Helper()
		return read("graphql?query=" + url.QueryEscape(query))
	}
	for query, want := range map[string]string{
		`{notice(slug:"fog"){asTeaser{routes{n:number __typename} heading __typename}title}}`: `{"notice":{"asTeaser":{"routes":[{"n":1,"__typename":"TeaserRoutes"}],"heading":"Fog","__typename":"Teaser"},"title":"Fog"}}`,
		`{routes{nodes{id ... on HasTeaser{asTeaser{heading link}} c:asCard{heading}}}}`: `"nodes":[{"id":"ring",` +
			`"asTeaser":{"heading":"Outer Ring","link":"/routes/outer-ring"},"c":{"heading":"Outer Ring"}}]`,
		`{fog:node(id:"fog"){...T} ring:node(id:"ring"){...T}} fragment T on HasTeaser{id asTeaser{heading routes{number}}}`: `"fog":{"id":"fog","asTeaser":{"heading":"Fog","routes":[{"number":1}]}},` +
			`"ring":{"id":"ring","asTeaser":{"heading":"Outer Ring","routes":null}}`,
		`{__type(name:"HasTeaser"){possibleTypes{name}}}`: `[{"name":"Notice"},{"name":"Route"}]`,
	} {
		if got := graph(query); !strings.Contains(got, want) || strings.Contains(got, `"errors"`) {
			t.Errorf("%s: %s, want %s", query, got, want)
		}
	}
	// An answer in a shape depends on nothing that the shape does not show.
	headings := "graphql?query=" + url.QueryEscape(`{routes{nodes{asTeaser{heading}}}}`)
	read(headings)
	held := func(path string) bool { return testkit.Hit(n.get(t, at+path, false).Header.Get("Cache-Status")) }
	n.must(
		t,
		api.Edit{
			ID:   "ring",
			Type: "route",
			Save: per{"name": per{"en": "Outer Ring"}, "number": 1, "text": per{"en": "Clockwise"}},
			Do:   "publish",
		},
	)
	for _, path := range []string{"notices/fog?shape=teaser", "routes?shape=teaser", headings} {
		if !held(path) {
			t.Errorf("%s is computed again, and shows nothing that has changed", path)
		}
	}
	n.must(
		t,
		api.Edit{ID: "ring", Type: "route", Save: per{"name": per{"en": "Outer Ring"}, "number": 2}, Do: "publish"},
	)
	if held("notices/fog?shape=teaser") || !held("routes?shape=teaser") || !held(headings) {
		t.Error("a changed number concerns the card alone")
	}
	for path, want := range map[string]string{
		"notices?shape=teasre":               `did you mean \"teaser\"?`,
		"notices?shape=card":                 "the shape card is not of notice",
		"notices?shape=teaser&fields=title":  "a shape says which fields there are",
		"notices?fields=title(shape=teaser)": "leads to no entries",
	} {
		if a := n.get(t, at+path, false); a.Status != 400 || !strings.Contains(string(a.Body), want) {
			t.Errorf("%s: %d %s", path, a.Status, a.Body)
		}
	}
	// Who may not read a type is not told of it by shapes either.
	grants, _ := access.ParseGrants([]string{"read published route"})
	_, routes, err := n.Keys.CreateKey(t.Context(), access.Key{Name: "routes", Grants: grants}, "test")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"graphql/schema.graphql", "openapi.json", "schema"} {
		told := string(n.ask(t, routes, "published/"+path).Body)
		if strings.Contains(told, "Notice") || !strings.Contains(told, "Teaser") && path[0] == 'g' {
			t.Errorf("%s tells somebody who may read routes alone: %s", path, told)
		}
	}
	// A shape is tried before it is applied.
	for selection, want := range map[string]string{
		"number": `{\"id\":\"ring\",\"first\":2}`, "nmber": "there is no field", `"`: "a name is missing at character 1", "": `\"first\":null`,
	} {
		body, _ := json.Marshal(per{"request": "/entries/ring?shape=tried", "shapes": []any{
			per{"name": "tried", "of": []any{"route"}, "fields": []any{per{"name": "first", "each": selection}}},
		}})
		if _, got := n.sends(t, "POST", "/control/v1/reads", "application/json", string(body)); !strings.Contains(
			got,
			want,
		) {
			t.Errorf("a shape that selects %q: %s", selection, got)
		}
	}
	// A field that a shape shows does not go without a word, and a changed shape is in force at once.
	broken := testkit.Model(t, strings.Replace(shaped, "heading: {notice: title", "heading: {notice: titel", 1))
	if err := n.Authoring.ApplyModel(t.Context(), broken, "test", writing.ModelOptions{}); err == nil ||
		!strings.Contains(err.Error(), "shape teaser, heading") {
		t.Errorf("a model whose shape is broken: %v", err)
	}
	changed := testkit.Model(t, strings.Replace(shaped, "link: about(path)", "goes: about(path)", 1))
	if err := n.Authoring.ApplyModel(t.Context(), changed, "test", writing.ModelOptions{}); err != nil {
		t.Fatal(err)
	}
	if got := read("routes?shape=teaser"); !strings.Contains(got, `"goes":"/routes/outer-ring"`) {
		t.Errorf("after the shape has changed: %s", got)
	}
}

// TestGraphQLNarrowsWhatAShapeHas asks for some of what each kind of member has, under other names.
func TestGraphQLNarrowsWhatAShapeHas(t *testing.T) {
	m := testkit.Model(t, `
types:
  berth:
    fields:
      name: {kind: text, required: true}
      fee: {kind: money}
      state: {kind: choice, options: {free: Free, taken: Taken}}
      place: {kind: location}
      text: {kind: prose}
      picture: {kind: file}
      depth: {kind: decimal}
      keeper: {kind: record, fields: {name: {kind: text}, next: {kind: reference, types: [berth]}, pay: {kind: money}}}
      notes: {kind: blocks, blocks: {said: {fields: {words: {kind: text}}}, seen: {fields: {what: {kind: text}}}}}
      asSheet: {kind: text}
shapes:
  sheet:
    of: [berth]
    fields:
      fee: fee
      state: "state(value,label)"
      place: place
      text: "text(plain,html)"
      picture: "picture(url,alt,width)"
      depth: depth
      keeper: "keeper(name,next(name),pay)"
      notes: notes
      says: "about(type,revision)"
`)
	n := start(t, environment.Options{Store: testkit.Store(t, m)}, access.NewSecret())
	n.must(t, api.Edit{ID: "b1", Type: "berth", Do: "publish", Save: per{
		"name": "One", "fee": per{"amount": 1200, "currency": "EUR"}, "state": "taken", "depth": 2.5,
		"place": per{"type": "Point", "coordinates": []any{4.5, 60.25}}, "text": "Deep *water*.",
		"picture": per{"url": "https://pictures.example/b1.jpg", "alt": "The berth", "width": 600},
		"keeper":  per{"name": "Ada", "next": "b1", "pay": per{"amount": 1, "currency": "EUR"}},
		"notes":   []any{per{"block": "said", "words": "Mind the step"}, per{"block": "seen", "what": "Fog"}},
	}})
	got := string(n.get(t, "/content/"+n.Replica.Environment()+"/published/graphql?query="+url.QueryEscape(`{
		berths { nodes { asSheetShape {
			fee { c: currency } state { says: label __typename } place { type } text { plain } depth
			picture { width u: url } keeper { pay { amount } who: name next { name } __typename } notes { block w: words }
			says { revision } id
		} } } }`), false).Body)
	want := `{"berths":{"nodes":[{"asSheetShape":{"fee":{"c":"EUR"},` +
		`"state":{"says":"Taken","__typename":"SheetState"},"place":{"type":"Point"},"text":{"plain":"Deep water."},` +
		`"depth":2.5,"picture":{"width":600,"u":"https://pictures.example/b1.jpg"},` +
		`"keeper":{"pay":{"amount":1},"who":"Ada","next":{"name":"One"},"__typename":"SheetKeeper"},` +
		`"notes":[{"block":"said","w":"Mind the step"},{"block":"seen","w":null}],"says":{"revision":1},"id":"b1"}}]}}`
	if !strings.Contains(got, want) {
		t.Errorf("%s\nwant %s", got, want)
	}
}
