package content_test

import (
	"reflect"
	"testing"

	"ubiquon/internal/core/content"
	"ubiquon/internal/testkit"
)

const harbour = `
locales: {en: {}, nb: {fallback: [en]}, ja: {}, sv: {retired: true}}
types:
  quay:
    path: {en: "/quays/{slug}", nb: "/kaier/{slug}"}
    title: name
    fields:
      name:   {kind: text, translated: true, required: true, pattern: "[A-ZÅ].*"}
      slug:   {kind: slug, madeFrom: name}
      depth:  {kind: decimal, min: 0.5, max: 40, default: 3}
      at:     {kind: location}
      more:   {kind: json, schema: {type: object, required: [crane], properties: {crane: {type: boolean}}}}
      berth:  {kind: record, several: true, max: 2, fields: {name: {kind: text, required: true}, note: {kind: text, translated: true}}}
      blocks:
        kind: blocks
        blocks:
          heading: {fields: {text: {kind: text, translated: true, required: true}}}
          link:    {fields: {to: {kind: reference, types: [quay]}}}
`

func TestCheckOfNestedKinds(t *testing.T) {
	m := testkit.Model(t, harbour)
	quay := m.Type("quay")
	for name, c := range map[string]struct {
		in   fields
		want string
	}{
		"fine": {fields{
			"name": fields2{"en": "Mella", "sv": "Mälla"}, "depth": 12.25,
			"at": fields2{"type": "Point", "coordinates": []any{5.1, 60.9}}, "more": fields2{"crane": true},
			"berth": []any{fields2{"name": "A", "note": fields2{"nb": "Lun"}}},
			"blocks": []any{
				fields2{"block": "heading", "text": fields2{"en": "Hi"}},
				fields2{"block": "link", "to": "q2"},
			},
		}, ""},
		"pattern":         {fields{"name": fields2{"en": "mella"}}, "fields.name.en pattern"},
		"above max":       {fields{"depth": 41.0}, "fields.depth max"},
		"too many digits": {fields{"depth": 1.2345678901234567}, "fields.depth digits"},
		"off the globe": {
			fields{"at": fields2{"type": "Point", "coordinates": []any{5.1, 99.0}}},
			"fields.at kind",
		},
		"no point": {
			fields{"at": fields2{"type": "Line", "coordinates": []any{5.1, 60.0}}},
			"fields.at kind",
		},
		"not by its schema": {fields{"more": fields2{"crane": "yes"}}, "fields.more schema"},
		"schema, missing":   {fields{"more": fields2{}}, "fields.more schema"},
		"too many records": {fields{"berth": []any{
			fields2{"name": "A"},
			fields2{"name": "B"},
			fields2{"name": "C"},
		}}, "fields.berth max"},
		"within a record": {fields{"berth": []any{fields2{"nmae": "A"}}}, "fields.berth[0].nmae unknown"},
		"locale in a record": {
			fields{"berth": []any{fields2{"name": "A", "note": fields2{"xx": "y"}}}},
			"fields.berth[0].note.xx locale",
		},
		"an unknown block": {fields{"blocks": []any{fields2{"block": "headnig"}}}, "fields.blocks[0] block"},
		"no block at all":  {fields{"blocks": []any{"heading"}}, "fields.blocks[0] block"},
		"within a block": {
			fields{"blocks": []any{fields2{"block": "link", "to": "Not An Id"}}},
			"fields.blocks[0].to kind",
		},
		"a block's own field": {
			fields{"blocks": []any{fields2{"block": "link", "text": "x"}}},
			"fields.blocks[0].text unknown",
		},
	} {
		got := content.Check(m, quay, "q1", c.in, content.For{})
		if c.want == "" && len(got) > 0 || c.want != "" && (len(got) != 1 || got[0].Path+" "+got[0].Rule != c.want) {
			t.Errorf("%s: got %v, want %s", name, got, c.want)
		}
	}
	in := fields{
		"name":   fields2{"en": "Mella"},
		"berth":  []any{fields2{}},
		"blocks": []any{fields2{"block": "heading", "text": fields2{"nb": "Hei"}}},
	}
	got := content.Check(m, quay, "q1", in, content.For{Publish: true, Locales: []string{"nb", "ja"}})
	want := []string{"fields.berth[0].name", "fields.blocks[0].text.ja", "fields.name.ja"}
	for i, p := range got {
		if i >= len(want) || p.Path != want[i] || p.Rule != "required" {
			t.Errorf("publishing nb and ja: %v, want %v", got, want)
			break
		}
	}
}

type fields2 = map[string]any

func TestDocumentsOfNestedKinds(t *testing.T) {
	m := testkit.Model(t, harbour)
	docs := content.Documents(
		m,
		m.Type("quay"),
		content.Published,
		"q1",
		fields{
			"name": fields2{"en": "Mella"}, "slug": "mella",
			"berth": []any{fields2{"name": "A", "note": fields2{"en": "Calm", "nb": "Lun"}}},
			"blocks": []any{
				fields2{"block": "heading", "text": fields2{"nb": "Hei"}},
				fields2{"block": "gone"},
				fields2{"block": "link", "to": "q2"},
			},
		},
		content.About{},
		&nowhere,
	)
	if len(docs) != 2 {
		t.Fatalf("documents in %d locales, want en and nb; sv is retired, ja has nothing", len(docs))
	}
	en, nb := docs["en"], docs["nb"]
	if *en.About.Path != "/quays/mella" || *nb.About.Path != "/kaier/mella" {
		t.Errorf("paths %s and %s", *en.About.Path, *nb.About.Path)
	}
	if !reflect.DeepEqual(nb.About.FilledIn, []string{"name"}) ||
		!reflect.DeepEqual(nb.About.Locales, []string{"en", "nb"}) {
		t.Errorf("nb: filled in %v, locales %v", nb.About.FilledIn, nb.About.Locales)
	}
	if en.Fields["depth"] != 3.0 {
		t.Errorf("the default: %v", en.Fields["depth"])
	}
	if want := []any{
		fields2{"block": "heading", "text": "Hei"},
		fields2{"block": "link", "to": "q2"},
	}; !reflect.DeepEqual(
		nb.Fields["blocks"], want,
	) {
		t.Errorf("blocks in nb: %v", nb.Fields["blocks"])
	}
	if want := []any{fields2{"name": "A", "note": "Calm"}}; !reflect.DeepEqual(en.Fields["berth"], want) {
		t.Errorf("records in en: %v", en.Fields["berth"])
	}
	if got := nb.Links(m.Type("quay")); !reflect.DeepEqual(got, []string{"blocks/q2"}) {
		t.Errorf("links %v", got)
	}
}

func TestPublishByLocale(t *testing.T) {
	m := testkit.Model(t, harbour)
	quay := m.Type("quay")
	live := fields{
		"name":  fields2{"en": "Old", "nb": "Gammel"},
		"depth": 1.0,
		"blocks": []any{
			fields2{"block": "heading", "text": fields2{"en": "One", "nb": "En"}},
			fields2{"block": "link", "to": "q2"},
		},
	}
	newest := fields{
		"name":  fields2{"en": "New", "nb": "Ny", "ja": "新"},
		"depth": 2.0,
		"blocks": []any{
			fields2{"block": "heading", "text": fields2{"en": "Two", "nb": "To"}},
			fields2{"block": "heading", "text": fields2{"en": "More", "nb": "Mer"}},
		},
	}
	got := content.Publish(quay, live, newest, []string{"nb"})
	want := fields{
		"name":  fields2{"en": "Old", "nb": "Ny"},
		"depth": 2.0,
		"blocks": []any{
			fields2{"block": "heading", "text": fields2{"en": "One", "nb": "To"}},
			fields2{"block": "heading", "text": fields2{"nb": "Mer"}},
		},
	}
	if !reflect.DeepEqual(plain(got), plain(want)) {
		t.Errorf("got %v", got)
	}
	if got := content.Publish(quay, live, newest, nil); !reflect.DeepEqual(got, newest) {
		t.Errorf("all locales: %v", got)
	}
	if got := content.TakeBack(quay, live, []string{"en"}); !reflect.DeepEqual(
		content.WrittenIn(quay, got), []string{"nb"},
	) {
		t.Errorf("en taken back: %v", got)
	}
	if got := content.TakeBack(quay, live, []string{"en", "nb"}); got != nil {
		t.Errorf("all taken back: %v", got)
	}
	differ := content.Compare(m, quay, live, newest)
	if len(differ) != 5 || differ[0].Field != "name" || differ[0].Locale != "en" || differ[0].Before != "Old" ||
		differ[4].Field != "blocks" {
		t.Errorf("differences %+v", differ)
	}
}

// plain gives nested maps one type.
func plain(v any) any {
	switch x := v.(type) {
	case content.Fields:
		return plain(map[string]any(x))
	case map[string]any:
		out := map[string]any{}
		for name, one := range x {
			out[name] = plain(one)
		}
		return out
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = plain(x[i])
		}
		return out
	}
	return v
}
