package model_test

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"ubiquon/internal/core/model"
	"ubiquon/internal/testkit"
)

func TestReadAndStoredForm(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	route := m.Type("route")
	if route == nil || m.ByPlural("routes") != route || m.ByPlural("settings") != nil ||
		!m.Type("settings").Singleton {
		t.Fatalf("types are not found by name and plural")
	}
	if got := route.FieldNames()[:3]; !reflect.DeepEqual(got, []string{"name", "slug", "number"}) {
		t.Errorf("fields are out of order: %v", got)
	}
	if !reflect.DeepEqual(m.Chain("nb"), []string{"nb", "en"}) || !reflect.DeepEqual(m.Chain("ja"), []string{"ja"}) ||
		m.Default() != "en" {
		t.Errorf("chains: nb %v, ja %v", m.Chain("nb"), m.Chain("ja"))
	}
	if l, ok := m.Locale("NB"); !ok || l.Tag != "nb" {
		t.Errorf("locale tags are compared by case")
	}
	if label, ok := route.Field("season").Option("winter"); !ok || label != "Winter time" {
		t.Errorf("label %q", label)
	}
	src, err := json.Marshal(m)
	if err != nil {
		t.Fatal(err)
	}
	again, err := model.FromJSON(src)
	if err != nil {
		t.Fatal(err)
	}
	if back, _ := json.Marshal(again); string(back) != string(src) || again.Type("route").Field("piers") == nil {
		t.Errorf("the stored form does not come back the same")
	}
}

func TestReadReportsErrors(t *testing.T) {
	one := func(fields string) string { return "types:\n  pier:\n    fields:\n      " + fields + "\n" }
	for name, c := range map[string]struct{ src, want string }{
		"unknown kind": {
			one("name: {kind: txt}"),
			`model.yaml:4:7: field pier.name has the unknown kind "txt"; did you mean "text"?`,
		},
		"unknown key":         {one("name: {kind: text, requird: true}"), `did you mean "required"?`},
		"taken name":          {one("about: {kind: text}"), "the name is taken by the entry itself"},
		"bad field name":      {one("My-Name: {kind: text}"), "use letters and digits"},
		"choice, no options":  {one("s: {kind: choice}"), "is a choice without options"},
		"options, no choice":  {one("s: {kind: text, options: {a: A}}"), "has options, but is of the kind text"},
		"reference, no types": {one("s: {kind: reference}"), "is a reference without types"},
		"unknown target": {
			one("s: {kind: reference, types: [pear]}"),
			`unknown type "pear"; did you mean "pier"?`,
		},
		"inverse of a text": {one("s: {kind: text, inverse: x}"), "has an inverse, but is of the kind text"},
		"slug from a number": {one("n: {kind: integer}\n      s: {kind: slug, madeFrom: n}"), "only from a text " +
			"field"},
		"unique prose": {one("s: {kind: prose, unique: true}"), "can be unique"},
		"since when": {one("s: {kind: text, deprecated: use n}"), "field pier.s is deprecated; say " +
			"since when, as in deprecatedSince: 2026-11-23"},
		"sunset of nothing": {one("s: {kind: text, sunset: 2027-01-01}"), "is not deprecated; say why"},
		"no day": {
			one("s: {kind: text, deprecated: use n, deprecatedSince: yesterday}"),
			`"yesterday" is no date`,
		},
		"prose in an index": {one("s: {kind: prose, indexed: true}"), "no list is filtered or sorted by it"},
		"long in an index":  {one("s: {kind: text, indexed: true}"), "bound its length with max: 600"},
		"two slugs":         {one("s: {kind: slug}\n      t: {kind: slug}"), "has the slug s already"},
		"min above max":     {one("n: {kind: integer, min: 3, max: 1}"), "min 3 above max 1"},
		"reserved plural": {
			"types:\n  pier:\n    plural: entries\n    fields: {}\n",
			`cannot have the plural "entries"`,
		},
		"same plural": {
			"types:\n  a: {plural: things, fields: {}}\n  b: {plural: things, fields: {}}\n",
			`the same plural "things"`,
		},
		"title of none": {"types:\n  pier: {title: nam, fields: {name: {kind: text}}}\n", `did you mean "name"?`},
		"path of none": {
			"types:\n  pier: {path: \"/p/{slag}\", fields: {slug: {kind: slug}}}\n",
			`did you mean "slug"?`,
		},
		"path without slash":  {"types:\n  pier: {path: p, fields: {}}\n", "must begin with a slash"},
		"fallback to nothing": {"locales:\n  en: {fallback: [nn]}\n", `falls back to "nn"`},
		"fallback in a circle": {"locales:\n  en: {fallback: [nb]}\n  nb: {fallback: [en]}\n", "fall back to each " +
			"other"},
		"no language tag": {"locales:\n  english-please: {}\n", "BCP 47"},
	} {
		_, err := model.Read(map[string][]byte{"model.yaml": []byte(c.src)})
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: got %v, want %q", name, err, c.want)
		}
	}
}

func TestReadReportsErrorsOfAllFiles(t *testing.T) {
	_, err := model.Read(map[string][]byte{
		"a.yaml": []byte("types:\n  pier: {fields: {name: {kind: txt}, when: {kind: dat}}}\n"),
		"b.yaml": []byte("types:\n  pier: {fields: {}}\n  route: {plurl: x}\n"),
	})
	if err == nil {
		t.Fatal("accepted")
	}
	for _, want := range []string{"b.yaml:3:", "plurl"} {
		if !strings.Contains(err.Error(), want) {
			t.Errorf("%q lacks %q", err, want)
		}
	}
}
