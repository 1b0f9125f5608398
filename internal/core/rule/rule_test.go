package rule

import (
	"strings"
	"testing"

	"ubiquon/internal/core/content"
)

func TestFires(t *testing.T) {
	r := Rule{Name: "site", On: []string{"published", "deleted"}, Types: []string{"notice"}}
	saved := Rule{Name: "preview", On: []string{"saved"}}
	change := func(edition, what, typ string) *content.Change {
		return &content.Change{Kind: content.ContentChange, Edition: edition, What: what, Type: typ}
	}
	for name, c := range map[string]struct {
		r    Rule
		c    *content.Change
		want string // "" for fires
	}{
		"published":        {r, change("published", "published", "notice"), ""},
		"moved":            {r, change("published", "moved", "notice"), ""},
		"moved in preview": {saved, change("preview", "moved", "notice"), "the other edition"},
		"deleted":          {r, change("published", "deleted", "notice"), ""},
		"another event": {r, change("published", "unpublished", "notice"), "it is on published, deleted, " +
			"this was unpublished"},
		"another type":        {r, change("published", "published", "pier"), "it is for notice, this is a pier"},
		"the preview's side":  {r, change("preview", "published", "notice"), "the other edition"},
		"off":                 {Rule{Off: true}, change("published", "published", "notice"), "the rule is off"},
		"no content":          {r, &content.Change{Kind: content.ModelChange}, "no content changed"},
		"saved":               {saved, change("preview", "saved", "notice"), ""},
		"saved, as a publish": {saved, change("published", "published", "notice"), "it is on saved"},
	} {
		fires, why := c.r.Fires(c.c)
		if fires != (c.want == "") || !strings.Contains(why, c.want) {
			t.Errorf("%s: fires %t, %q", name, fires, why)
		}
	}
}

func TestCheck(t *testing.T) {
	good := Rule{Name: "a", On: []string{"published"}, Do: []Step{{Rebuild: &Rebuild{Site: "web"}}}}
	if warnings, err := Check([]Rule{good}, []string{"notice"}, []string{"web"}); err != nil || len(warnings) != 1 ||
		!strings.Contains(warnings[0], "names no type") {
		t.Errorf("%v, %v", warnings, err)
	}
	bad := []Rule{
		{
			Name:  "a",
			On:    []string{"publishd"},
			Types: []string{"notic"},
			Do:    []Step{{Rebuild: &Rebuild{Site: "wb"}}, {}},
		},
		{Name: "a"},
		{},
	}
	_, err := Check(bad, []string{"notice"}, []string{"web"})
	if err == nil {
		t.Fatal("accepted")
	}
	for _, want := range []string{
		`did you mean "published"?`, `did you mean "notice"?`, `unknown site "wb"`,
		"no rebuild", "two rules are named", "has no name", "has no events", "does nothing",
	} {
		if !strings.Contains(err.Error(), want) {
			t.Errorf("%q lacks %q", err, want)
		}
	}
}
