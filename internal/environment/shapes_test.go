package environment_test

import (
	"net/http"
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
	// An answer in a shape depends on nothing that the shape does not show.
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
	for _, path := range []string{"notices/fog?shape=teaser", "routes?shape=teaser"} {
		if !held(path) {
			t.Errorf("%s is computed again, and shows nothing that has changed", path)
		}
	}
	n.must(
		t,
		api.Edit{ID: "ring", Type: "route", Save: per{"name": per{"en": "Outer Ring"}, "number": 2}, Do: "publish"},
	)
	if held("notices/fog?shape=teaser") || !held("routes?shape=teaser") {
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
