package model_test

import (
	"reflect"
	"strings"
	"testing"

	"ubiquon/internal/core/model"
	"ubiquon/internal/testkit"
)

// TestModelChangeAffectedParts holds what answers may differ in against the words
// of a change.
func TestModelChangeAffectedParts(t *testing.T) {
	const route = "season: {kind: choice, options: {summer: Summer time, winter: Winter time}}"
	everything := []string{model.Everything}
	for name, c := range map[string]struct {
		was, is           string
		touches, restates map[string][]string
	}{
		"nothing": {"", "", map[string][]string{}, map[string][]string{"*": nil}},
		"a label": {
			route, strings.Replace(route, "Summer time", "High season", 1),
			map[string][]string{
				"en": {"route.season=summer"}, "nb": {"route.season=summer"},
				"ja": {"route.season=summer"},
			},
			map[string][]string{
				"*": nil, "en": {"route.season=summer"}, "nb": {"route.season=summer"},
				"ja": {"route.season=summer"},
			},
		},
		"a label in one locale": {
			route, strings.Replace(route, "Summer time", "{en: Summer time, nb: Sommer}", 1),
			map[string][]string{"nb": {"route.season=summer"}},
			map[string][]string{"*": nil, "nb": {"route.season=summer"}},
		},
		"another option": {
			route, strings.Replace(route, "winter: Winter time", "winter: Winter time, spring: "+
				"Spring time", 1),
			map[string][]string{
				"en": {"route.season=spring"}, "nb": {"route.season=spring"},
				"ja": {"route.season=spring"},
			},
			map[string][]string{
				"*": nil, "en": {"route.season=spring"}, "nb": {"route.season=spring"},
				"ja": {"route.season=spring"},
			},
		},
		"a field more": {
			"open:   {kind: boolean}", "open:   {kind: boolean}\n      quay:   {kind: text}",
			map[string][]string{"*": {"route.*"}},
			map[string][]string{"*": {"route.*"}},
		},
		"translated from now on": {
			"tags:   {kind: text, several: true, max: 3}", "tags:   {kind: text, several: " +
				"true, max: 3, translated: true}",
			map[string][]string{"*": {"route", "route.tags"}},
			map[string][]string{"*": nil},
		},
		"another kind": {
			"day:    {kind: date}", "day:    {kind: text}",
			map[string][]string{"*": {"route.*", "route.day"}},
			map[string][]string{"*": {"route.*"}},
		},
		"a fallback": {
			"  ja: {}", "  ja: {fallback: [en]}",
			map[string][]string{"ja": {"file", "route", "settings"}},
			map[string][]string{"*": nil},
		},
		"a locale": {
			"  ja: {}\n", "  ja: {}\n  de: {fallback: [en]}\n",
			map[string][]string{
				"de": everything,
				"*": {
					"file.about.locales", "file.about.path", "pier.about.locales", "pier.about.path",
					"route.about.locales", "route.about.path", "route.text", "settings.about.locales", "settings.about.path",
				},
			},
			map[string][]string{"*": nil},
		},
		"another path": {
			"path: /routes/{slug}", "path: /lines/{slug}",
			map[string][]string{"*": {
				"file.about.path", "pier.about.path", "route.about.path", "route.text", "settings.about.path",
			}},
			map[string][]string{"*": nil},
		},
	} {
		to := strings.Replace(testkit.Ferries, c.was, c.is, 1)
		if c.was != "" && to == testkit.Ferries {
			t.Fatalf("%s: nothing changes", name)
		}
		conversion := model.Convert(testkit.Model(t, testkit.Ferries), testkit.Model(t, to))
		touches, restates := conversion.AffectedFields(), conversion.AffectedResponses()
		if touches[model.Everything] == nil {
			delete(touches, model.Everything)
		}
		if !reflect.DeepEqual(touches, c.touches) {
			t.Errorf("%s touches %v, want %v", name, touches, c.touches)
		}
		if !reflect.DeepEqual(restates, c.restates) {
			t.Errorf("%s restates %v, want %v", name, restates, c.restates)
		}
	}
}

// TestLabelsWithinRecordsAreOne tells of all labels of choices within a field at once.
func TestLabelsWithinRecordsAreOne(t *testing.T) {
	const src = `
locales: {en: {}, nb: {}}
types:
  pier:
    fields:
      office:
        kind: record
        fields:
          open: {kind: choice, options: {always: Always, never: {en: Never, nb: Aldri}}}
          town: {kind: text}
      boards:
        kind: blocks
        blocks:
          notice: {fields: {tone: {kind: choice, options: {calm: Calm}}}}
`
	from := testkit.Model(t, src)
	for was, want := range map[string]map[string][]string{
		"always: Always": {"*": nil, "en": {"pier.office=*"}, "nb": {"pier.office=*"}},
		"nb: Aldri":      {"*": nil, "nb": {"pier.office=*"}},
		"calm: Calm":     {"*": nil, "en": {"pier.boards=*"}, "nb": {"pier.boards=*"}},
		"town:":          {"*": {"pier.*"}, "en": {"pier.office=*"}, "nb": {"pier.office=*"}},
	} {
		to := testkit.Model(
			t, strings.Replace(src, was, strings.TrimSuffix(was, ":")+"x"+was[len(strings.TrimSuffix(was, ":")):], 1),
		)
		if got := model.Convert(from, to).AffectedResponses(); !reflect.DeepEqual(got, want) {
			t.Errorf("%q restates %v, want %v", was, got, want)
		}
	}
}
