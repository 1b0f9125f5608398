package content_test

import (
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/testkit"
)

type fields = content.Fields

func TestCheckNamesEntryFieldAndRule(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	route := m.Type("route")
	for name, c := range map[string]struct {
		in   fields
		want string // path and rule; "" for fine
	}{
		"fine": {fields{
			"name": map[string]any{"en": "Outer"}, "number": 3.0, "piers": []any{"a", "b"},
			"tags": []any{"x"},
		}, ""},
		"unknown field":     {fields{"nmae": "x"}, "fields.nmae unknown"},
		"not per locale":    {fields{"name": "Outer"}, "fields.name translated"},
		"no such locale":    {fields{"name": map[string]any{"xx": "Outer"}}, "fields.name.xx locale"},
		"not text":          {fields{"name": map[string]any{"en": 3.0}}, "fields.name.en kind"},
		"NUL":               {fields{"name": map[string]any{"en": "a\x00"}}, "fields.name.en utf-8"},
		"not whole":         {fields{"number": 3.5}, "fields.number kind"},
		"below min":         {fields{"number": 0.0}, "fields.number min"},
		"above max":         {fields{"number": 100.0}, "fields.number max"},
		"beyond 53 bits":    {fields{"number": 1e17}, "fields.number kind"},
		"no list":           {fields{"piers": "a"}, "fields.piers several"},
		"bad id":            {fields{"piers": []any{"a", "b", "No Id!"}}, "fields.piers[2] kind"},
		"too many":          {fields{"tags": []any{"a", "b", "c", "d"}}, "fields.tags max"},
		"no option":         {fields{"season": "autumn"}, "fields.season options"},
		"bad slug":          {fields{"slug": "Not A Slug"}, "fields.slug slug"},
		"bad money":         {fields{"price": map[string]any{"amount": 1.5, "currency": "NOK"}}, "fields.price kind"},
		"bad currency":      {fields{"price": map[string]any{"amount": 1.0, "currency": "kr"}}, "fields.price kind"},
		"bad time":          {fields{"since": "yesterday"}, "fields.since kind"},
		"bad day":           {fields{"day": "2026-02-30"}, "fields.day kind"},
		"bad boolean":       {fields{"open": "yes"}, "fields.open kind"},
		"bad file":          {fields{"photo": map[string]any{"url": "javascript:x"}}, "fields.photo kind"},
		"file of the site":  {fields{"photo": map[string]any{"url": "/files/boat.png"}}, ""},
		"file by host":      {fields{"photo": map[string]any{"url": "//evil.example/a.png"}}, "fields.photo kind"},
		"file by backslash": {fields{"photo": map[string]any{"url": `/\evil.example/a.png`}}, "fields.photo kind"},
		"file with a break": {fields{"photo": map[string]any{"url": "/a\nb"}}, "fields.photo kind"},
		"file by a tab":     {fields{"photo": map[string]any{"url": "/\t/evil.example"}}, "fields.photo kind"},
		"NUL in a file": {
			fields{"photo": map[string]any{"url": "http://a/b", "alt": "a\x00"}},
			"fields.photo utf-8",
		},
		"unknown file part": {
			fields{"photo": map[string]any{"url": "http://a/b", "size": 3.0}},
			"fields.photo.size unknown",
		},
	} {
		got := content.Check(m, route, "e1", c.in, content.For{})
		if c.want == "" {
			if len(got) > 0 {
				t.Errorf("%s: %v", name, got)
			}
			continue
		}
		if len(got) != 1 || got[0].Path+" "+got[0].Rule != c.want || got[0].Entry != "e1" {
			t.Errorf("%s: got %v, want %s", name, got, c.want)
		}
	}
	if got := content.Check(m, route, "e1", fields{}, content.For{Publish: true}); len(got) != 1 ||
		got[0].Rule != "required" {
		t.Errorf("publishing without a required field: %v", got)
	}
	if got := content.Check(m, route, "e1", fields{"number": 0.0, "season": "x", "nmae": 1.0},
		content.For{Publish: true}); len(
		got,
	) != 4 {
		t.Errorf("not all problems at once: %v", got)
	}
}

func TestNormaliseMakesSlugsAndTidies(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	got := content.Normalise(
		m,
		m.Type("route"),
		"id1",
		fields{
			"name":  map[string]any{"en": "Baker's Ferry — Ærø", "nb": "  "},
			"since": "2026-11-23T09:30:00+01:00",
			"tags":  []any{},
		},
	)
	want := fields{
		"name":  map[string]any{"en": "Baker's Ferry — Ærø"},
		"slug":  "bakers-ferry-aero",
		"since": "2026-11-23T08:30:00.000000Z",
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got %v", got)
	}
	if got := content.Normalise(m, m.Type("pier"), "id1", fields{"name": "!!!"}); got["slug"] != "id1" {
		t.Errorf("a title without letters gives the slug %v", got["slug"])
	}
	if got := content.Normalise(m, m.Type("pier"), "id1", fields{
		"name": "Mella",
		"slug": "school-island",
	}); got["slug"] != "school-island" {
		t.Errorf("a given slug is overwritten: %v", got["slug"])
	}
}

func TestDocumentsFillInFallbacks(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	docs := content.Documents(m, m.Type("route"), content.Published, "r1", fields{
		"name": map[string]any{
			"en": "Outer Ring",
			"nb": "Ytre ring",
		}, "text": map[string]any{"en": "*Clockwise*"}, "slug": "outer-ring", "number": 1.0,
	}, content.About{Revision: 2}, &nowhere)
	if len(docs) != 2 {
		t.Fatalf("documents in %d locales, want en and nb (ja falls back to nothing)", len(docs))
	}
	nb := docs["nb"]
	if nb.Fields["name"] != "Ytre ring" || nb.Slug != "outer-ring" || *nb.About.Path != "/routes/outer-ring" {
		t.Errorf("nb: %+v", nb)
	}
	if !reflect.DeepEqual(nb.About.FilledIn, []string{"text"}) ||
		!reflect.DeepEqual(nb.About.Locales, []string{"en", "nb"}) {
		t.Errorf("filled in %v, locales %v", nb.About.FilledIn, nb.About.Locales)
	}
	if forms := nb.Fields["text"].(map[string]any); forms["html"] != "<p><em>Clockwise</em></p>" ||
		forms["inline"] != "<em>Clockwise</em>" ||
		forms["plain"] != "Clockwise" {
		t.Errorf("prose %v", forms)
	}
	if docs := content.Documents(m, m.Type("pier"), content.Published, "p1", fields{"name": "Mella"},
		content.About{}, &nowhere); len(
		docs,
	) != 3 {
		t.Errorf("an entry without translated fields is in %d locales, want all 3", len(docs))
	}
}

func TestDifferencesAreByLocaleAndField(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	route := m.Type("route")
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	make := func(f fields, revision int) map[string]content.Document {
		return content.Documents(
			m, route, content.Published, "r1", f, content.About{Revision: revision, Updated: at}, &nowhere,
		)
	}
	before := make(fields{"name": map[string]any{"en": "A", "nb": "B"}}, 1)
	if got := content.Differences(route, before, make(fields{"name": map[string]any{"en": "A", "nb": "B"}}, 1)); len(
		got,
	) != 0 {
		t.Errorf("the same differs in %v", got)
	}
	if got := content.Differences(route, before,
		make(fields{"name": map[string]any{"en": "A", "nb": "C"}}, 1)); !reflect.DeepEqual(
		got, map[string][]string{"nb": {"name"}},
	) {
		t.Errorf("one translation: %v", got)
	}
	if got := content.Differences(route, before,
		make(fields{"name": map[string]any{"en": "A", "nb": "B"}}, 2)); !reflect.DeepEqual(
		got["en"], []string{"about.revision"},
	) {
		t.Errorf("the revision alone: %v", got)
	}
	got := content.Differences(route, before, make(fields{"name": map[string]any{"en": "A"}}, 1))
	if !reflect.DeepEqual(got["nb"], []string{"about.filledIn", "about.locales", "name"}) ||
		!reflect.DeepEqual(got["en"], []string{"about.locales"}) {
		t.Errorf("a translation taken away: %v", got)
	}
	if got := content.Differences(route, before, nil); len(got) != 2 ||
		len(got["en"]) != len(route.Fields)+len(content.AboutNames) {
		t.Errorf("gone: %v", got)
	}
}

// nowhere is where entries live that have no path.
var nowhere = content.RenderContext{Find: func(string, string, string) (string, bool) { return "", true }}

func TestMakeIDIsStable(t *testing.T) {
	a, b := content.MakeID("office", "dispatch", "R-1"), content.MakeID("office", "dispatch", "R-2")
	if a == b || len(a) != 16 || !content.ValidID(a) || a != content.MakeID("office", "dispatch", "R-1") {
		t.Errorf("ids %s and %s", a, b)
	}
	if content.MakeID("office", "a", "bc") == content.MakeID("office", "ab", "c") {
		t.Error("parts run into each other")
	}
	for _, bad := range []string{"", "A", "-a", "a b", strings.Repeat("a", 65)} {
		if content.ValidID(bad) {
			t.Errorf("%q is taken for an id", bad)
		}
	}
}

// TestDifferencesNameParts tells of values that have parts which of these differ, so
// that whoever reads one is not told of another.
func TestDifferencesNameParts(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	route := m.Type("route")
	document := func(f fields) map[string]content.Document {
		f["name"] = map[string]any{"en": "A"}
		return content.Documents(m, route, content.Published, "r1", f, content.About{Revision: 1}, &nowhere)
	}
	price := func(amount float64, currency string) fields {
		return fields{"price": map[string]any{"amount": amount, "currency": currency}}
	}
	for name, c := range map[string]struct {
		before, after fields
		want          []string
	}{
		"nothing":    {price(100, "NOK"), price(100, "NOK"), nil},
		"an amount":  {price(100, "NOK"), price(90, "NOK"), []string{"price", "price.amount"}},
		"a currency": {price(100, "NOK"), price(100, "EUR"), []string{"price", "price.currency"}},
		"both": {
			price(100, "NOK"), price(1, "EUR"),
			[]string{"price", "price.amount", "price.currency"},
		},
		"a price comes": {fields{}, price(100, "NOK"), []string{"price", "price.*"}},
		"a price goes":  {price(100, "NOK"), fields{}, []string{"price", "price.*"}},
		"what a picture shows": {
			fields{"photo": map[string]any{"url": "/a.png", "alt": "Fog"}},
			fields{"photo": map[string]any{"url": "/a.png", "alt": "Sea"}},
			[]string{"photo", "photo.alt"},
		},
		"a picture": {
			fields{"photo": map[string]any{"url": "/a.png", "alt": "Fog"}},
			fields{"photo": map[string]any{"url": "/b.png", "alt": "Fog"}},
			[]string{"photo", "photo.url"},
		},
		"a list has no parts":  {fields{"tags": []any{"fog"}}, fields{"tags": []any{"ice"}}, []string{"tags"}},
		"neither have numbers": {fields{"number": 1.0}, fields{"number": 2.0}, []string{"number"}},
		"how prose is written": {
			fields{"text": map[string]any{"en": "a *b*"}},
			fields{"text": map[string]any{"en": "a _b_"}},
			[]string{"text", "text.commonmark"},
		},
		"what prose emphasises": {
			fields{"text": map[string]any{"en": "a *b*"}},
			fields{"text": map[string]any{"en": "*a* b"}},
			[]string{"text", "text.commonmark", "text.html", "text.inline", "text.tree"},
		},
	} {
		got := content.Differences(route, document(c.before), document(c.after))["en"]
		if slices.Sort(got); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", name, got, c.want)
		}
	}
}
