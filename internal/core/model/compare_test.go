package model_test

import (
	"reflect"
	"strings"
	"testing"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/testkit"
)

// everything has every kind of field with its constraints.
const everything = `
locales:
  en: {name: English}
  nb: {name: Norsk bokmål, fallback: [en]}
  ja: {retired: true}
types:
  notice:
    plural: notices
    label: Service notice
    help: "What went wrong, and until when"
    path: {en: "/notices/{slug}", nb: "/varsler/{slug}"}
    title: title
    approval: true
    fields:
      title: {kind: text, required: true, translated: true, min: 3, max: 120, pattern: "[A-Z].*"}
      slug: {kind: slug, madeFrom: title}
      code: {kind: text, deprecated: use the slug, deprecatedSince: "2026-11-01", sunset: "2027-05-01", unique: true, indexed: true, max: 12}
      weight: {kind: decimal, default: 1.5}
      severity: {kind: choice, options: {delay: {en: Delay, nb: Forsinkelse}, "1": One}}
      above: {kind: reference, types: [notice], inverse: below}
      at: {kind: location}
      more: {kind: json, schema: {"required":["a"],"type":"object"}}
      text: {kind: prose, marks: [subscript]}
      address:
        kind: record
        several: true
        fields:
          street: {kind: text, required: true}
          hours: {kind: text, translated: true}
      blocks:
        kind: blocks
        blocks:
          heading:
            label: Heading
            fields:
              text: {kind: text, translated: true}
          banner:
            label: "A banner: shared"
            fields:
              banner: {kind: reference, types: [notice]}
    freshness: {shared: 60s}
  settings:
    label: settings
    title: claim
    singleton: true
    fields:
      claim: {kind: text, label: "yes"}
`

func TestYAMLIsReadBackAsItIsWritten(t *testing.T) {
	m := testkit.Model(t, everything)
	again := testkit.Model(t, string(m.YAML()))
	if string(again.YAML()) != string(m.YAML()) || len(model.Compare(m, again)) != 0 {
		t.Errorf("written\n%s\nread back\n%s\n%v", m.YAML(), again.YAML(), model.Compare(m, again))
	}
	if got, want := strings.TrimSpace(string(m.YAML())), strings.TrimSpace(everything); got != want {
		t.Errorf("written\n%s", got)
	}
}

func TestCompareSaysWhatAChangeDoes(t *testing.T) {
	for name, c := range map[string]struct {
		was, is  string // replaced in everything
		where    string
		severity model.Severity
		text     string
	}{
		"a label": {"label: Heading", "label: Head", "", "", ""},
		"an optional field": {
			"      at: {kind", "      note: {kind: text}\n      at: {kind", "notice.note",
			model.Safe, "new field",
		},
		"a required field": {
			"      at: {kind", "      note: {kind: text, required: true}\n      at: {kind",
			"notice.note", model.NeedsDefault, "give it a default",
		},
		"required with a default": {"      at: {kind", "      note: {kind: text, required: true, default: " +
			"None}\n      at: {kind", "notice.note", model.Safe, "new field"},
		"a field goes": {"      at: {kind: location}\n", "", "notice.at", model.Loses, "values go"},
		"a field is renamed": {"      at: {kind: location}", "      place: {kind: location, was: " +
			"at}", "notice.place", model.BreaksReads, "it was at"},
		"required from now on": {"at: {kind: location}", "at: {kind: location, required: " +
			"true}", "notice.at", model.NeedsDefault, "required from now on"},
		"decimal to text": {"weight: {kind: decimal, default: 1.5}", "weight: {kind: " +
			"text}", "notice.weight", model.Safe, "converted"},
		"text to integer": {
			"code: {kind: text", "code: {kind: integer", "notice.code", model.Loses,
			"no such form",
		},
		"not translated any more": {
			"required: true, translated: true, min: 3", "required: true, min: 3",
			"notice.title", model.Loses, "no longer translated",
		},
		"translated from now on": {"text: {kind: prose,", "text: {kind: prose, translated: " +
			"true,", "notice.text", model.Safe, "stay as those of en"},
		"several to one": {"        several: true\n", "", "notice.address", model.Loses, "the first is kept"},
		"an option goes": {`, "1": One`, "", "notice.severity", model.Loses, "option 1 goes"},
		"an option is added": {
			`"1": One`, `"1": One, two: Two`, "notice.severity", model.Safe,
			"options are added",
		},
		"a field within a record": {
			"          hours: {kind: text, translated: true}\n", "", "notice.address.hours",
			model.Loses, "values go",
		},
		"a kind of block goes": {
			"          banner:\n            label: \"A banner: shared\"\n            " +
				"fields:\n              banner: {kind: reference, types: [notice]}\n", "", "notice.blocks.banner",
			model.Loses, "all blocks of it",
		},
		"a type is renamed": {
			"  settings:\n", "  harbour:\n    was: settings\n", "settings", model.BreaksReads,
			"it is harbour from now on",
		},
		"a type goes": {
			everything[strings.Index(everything, "  settings:"):], "", "settings", model.Loses,
			"all of its entries",
		},
		"a locale goes": {"  ja: {retired: true}\n", "", "locale ja", model.Loses, "retire it"},
		"a locale is retired": {"nb: {name: Norsk bokmål, fallback: [en]}", "nb: {name: Norsk bokmål, " +
			"fallback: [en], retired: true}", "locale nb", model.Safe, "what was written is kept"},
		"a locale falls elsewhere": {", fallback: [en]", "", "locale nb", model.Safe, "falls back to nothing"},
		"paths": {
			"/varsler/{slug}", "/meldinger/{slug}", "notice", model.Safe,
			"former ones lead to the new",
		},
		"a pattern": {`"[A-Z].*"`, `"[A-Z]+"`, "notice.title", model.Safe, "saved next"},
	} {
		if !strings.Contains(everything, c.was) {
			t.Fatalf("%s: %q is not in the model", name, c.was)
		}
		got := model.Compare(
			testkit.Model(t, everything), testkit.Model(t, strings.Replace(everything, c.was, c.is, 1)),
		)
		if c.where == "" {
			if len(got) != 0 {
				t.Errorf("%s: %v", name, got)
			}
			continue
		}
		found := false
		for _, d := range got {
			found = found || d.Where == c.where && d.Severity == c.severity && strings.Contains(d.Text, c.text)
		}
		if !found {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

func TestConvertKeepsWhatItCan(t *testing.T) {
	fields := func() map[string]any {
		return map[string]any{
			"title":    map[string]any{"en": "Fog", "nb": "Tåke"},
			"slug":     "fog",
			"weight":   2.5,
			"severity": "1",
			"code":     "7",
			"address":  []any{map[string]any{"street": "Quay 1"}, map[string]any{"street": "Quay 2"}},
			"blocks": []any{
				map[string]any{"block": "heading", "text": map[string]any{"en": "Hi"}},
				map[string]any{"block": "banner", "banner": "b1"},
			},
		}
	}
	for name, c := range map[string]struct {
		was, is string
		field   string
		want    any
		losing  []string
	}{
		"renamed": {"      code: {kind: text,", "      number: {kind: text, was: " +
			"code,", "number", "7", nil},
		"text to integer": {"code: {kind: text,", "code: {kind: integer,", "code", 7.0, nil},
		"decimal to integer": {"weight: {kind: decimal, default: 1.5}", "weight: {kind: " +
			"integer}", "weight", nil, []string{"weight"}},
		"decimal to text": {"weight: {kind: decimal, default: 1.5}", "weight: {kind: text}", "weight", "2.5", nil},
		"untranslated": {"required: true, translated: true, min", "required: true, " +
			"min", "title", "Fog", []string{"title"}},
		"translated": {
			"code: {kind: text,", "code: {kind: text, translated: true,", "code",
			map[string]any{"en": "7"},
			nil,
		},
		"one of several": {
			"        several: true\n", "", "address",
			map[string]any{"street": "Quay 1"},
			[]string{"address"},
		},
		"an option goes": {`, "1": One`, "", "severity", nil, []string{"severity"}},
		"inside a record": {"street: {kind: text, required: true}", "road: {kind: text, was: " +
			"street}", "address", []any{map[string]any{"road": "Quay 1"}, map[string]any{"road": "Quay 2"}}, nil},
		"a block goes": {
			"          banner:\n            label: \"A banner: shared\"\n            " +
				"fields:\n              banner: {kind: reference, types: [notice]}\n", "", "blocks",
			[]any{map[string]any{"block": "heading", "text": map[string]any{"en": "Hi"}}},
			[]string{"blocks"},
		},
		"a locale goes": {
			"  nb: {name: Norsk bokmål, fallback: [en]}\n", "", "title",
			map[string]any{"en": "Fog"},
			[]string{"title"},
		},
		"nothing of interest": {"label: Heading", "label: Head", "slug", "fog", nil},
	} {
		src := strings.Replace(everything, c.was, c.is, 1)
		if name == "a locale goes" {
			src = strings.Replace(
				src, `path: {en: "/notices/{slug}", nb: "/varsler/{slug}"}`, "path: /notices/{slug}", 1,
			)
			src = strings.Replace(src, "{en: Delay, nb: Forsinkelse}", "Delay", 1)
		}
		conversion := model.Convert(testkit.Model(t, everything), testkit.Model(t, src))
		if got := conversion.Fields("notice", fields())[c.field]; !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %s is %v, want %v", name, c.field, got, c.want)
		}
		if got := conversion.Losing("notice", fields()); !reflect.DeepEqual(got, c.losing) {
			t.Errorf("%s: loses %v, want %v", name, got, c.losing)
		}
	}
}

func TestAffectedTypesAreThoseRenderedDifferently(t *testing.T) {
	touched := func(was, is string) []string {
		return model.Convert(testkit.Model(t, everything), testkit.Model(t, strings.Replace(everything, was, is, 1))).
			AffectedTypes()
	}
	if got := touched("label: Service notice", "label: Notice"); got != nil {
		t.Errorf("a label touches %v", got)
	}
	if got := touched("[subscript]", "[superscript]"); !reflect.DeepEqual(got, []string{"notice"}) {
		t.Errorf("marks touch %v", got)
	}
	if got := touched(", fallback: [en]", ""); len(got) != 3 { // files, too
		t.Errorf("fallbacks touch %v", got)
	}
}

// TestWhatOnlyAddsTouchesNothing adds to a model what no entry has yet, and holds the documents before and after
// against each other.
func TestWhatOnlyAddsTouchesNothing(t *testing.T) {
	fields := content.Fields{
		"title": map[string]any{"en": "Fog", "nb": "Tåke"}, "slug": "fog", "weight": 2.5, "severity": "1", "code": "7",
		"above": "n2", "address": []any{map[string]any{"street": "Quay 1", "hours": map[string]any{"en": "all day"}}},
		"blocks": []any{map[string]any{"block": "heading", "text": map[string]any{"en": "Hi"}}},
	}
	documents := func(m *model.Model) map[string]content.Document {
		around := content.RenderContext{
			Find:  func(string, string, string) (string, bool) { return "", false },
			File:  func(string, string, string) map[string]any { return nil },
			Prose: content.Renderings{},
		}
		return content.Documents(m, m.Type("notice"), content.Published, "n1", fields, content.About{}, &around)
	}
	old := testkit.Model(t, everything)
	const (
		weight, street, banner, claim = "      weight:", "          street:", "          banner:\n", "      claim:"
		refers                        = "above: {kind: reference, types: [notice"
	)
	for name, c := range map[string]struct {
		was, is string
		touches bool
	}{
		"a field":                  {weight, "      note: {kind: text, translated: true}\n" + weight, false},
		"a unique field":           {weight, "      number: {kind: text, unique: true}\n" + weight, false},
		"a field with a default":   {weight, "      note: {kind: text, default: x}\n" + weight, true},
		"a field that was another": {weight + " {", "      load: {was: weight, ", true},
		"a field less":             {"      at: {kind: location}\n", "", true},
		"a slug":                   {claim, "      slug: {kind: slug, madeFrom: claim}\n" + claim, true},
		"translations":             {claim, "      more: {kind: text, translated: true}\n" + claim, true},
		"a field of a record":      {street, "          town: {kind: text}\n" + street, false},
		"a default in a record":    {street, "          town: {kind: text, default: Mella}\n" + street, true},
		"a kind of block":          {banner, "          rule: {fields: {width: {kind: integer}}}\n" + banner, false},
		"a field of a block": {
			"              text: {", "              size: {kind: integer}\n              text: {", false,
		},
		"an option":                      {`, "1": One`, `, "0": None, "1": One`, false},
		"an option less":                 {`, "1": One`, "", true},
		"a type to refer to":             {refers, refers + ", settings", false},
		"a title":                        {"    title: title\n", "    title: code\n", true},
		"a text that is unique now":      {claim + " {", claim + " {unique: true, ", true},
		"a field that has bounds now":    {claim + " {", claim + " {max: 80, ", false},
		"a field that is required now":   {"at: {kind: location}", "at: {kind: location, required: true}", false},
		"a field whose label is another": {"at: {kind: location}", "at: {kind: location, label: Where}", false},
		"a path":                         {`nb: "/varsler/{slug}"`, `nb: "/meldinger/{slug}"`, true},
	} {
		now := testkit.Model(t, strings.Replace(everything, c.was, c.is, 1))
		if !strings.Contains(everything, c.was) {
			t.Fatalf("%s: the model has no %q", name, c.was)
		}
		touched := model.Convert(old, now).AffectedTypes()
		if (touched != nil) != c.touches {
			t.Errorf("%s touches %v", name, touched)
		}
		if before, after := documents(old), documents(now); touched == nil && !reflect.DeepEqual(before, after) {
			t.Errorf("%s touches nothing, but documents are others: %v\n%v", name, before, after)
		}
	}
}

// TestOptionsAreCalledAsInTheDefaultLocale has labels in several locales, of which the
// default one does not come first.
func TestOptionsAreCalledAsInTheDefaultLocale(t *testing.T) {
	m := testkit.Model(
		t,
		`{locales: {en: {}, de: {}}, types: {notice: {fields: {severity: {kind: choice, options: {information: {de: Hinweis, en: Information}, delay: {de: Nur hier}, cancelled: Cancelled}}}}}}`,
	)
	for value, want := range map[string]string{
		"information": "Information", "delay": "Nur hier",
		"cancelled": "Cancelled",
	} {
		if got, _ := m.Type("notice").Field("severity").Option(value); got != want {
			t.Errorf("%s is called %q, not %q", value, got, want)
		}
	}
}
