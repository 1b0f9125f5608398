package environment_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"ubiquon/internal/testkit"
)

// TestSwappingOriginsChangesNothing moves notices from a system over HTTP to a folder of Markdown and back:
// answers stay the same, byte by byte, and out of the cache.
func TestSwappingOriginsChangesNothing(t *testing.T) {
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		const ramp = `{"no": "N-1", "head": "Ramp", "name": "ramp", "copy": "Use *stairs*."}`
		const lift = `{"no": "N-2", "head": "Lift", "name": "lift", "copy": "Out of order.", "about": "N-1"}`
		switch r.URL.Path {
		case "/notes":
			fmt.Fprintf(w, `{"notes": [%s, %s]}`, ramp, lift)
		case "/notes/N-1":
			fmt.Fprint(w, ramp)
		case "/notes/N-2":
			fmt.Fprint(w, lift)
		default:
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(web.Close)
	dir := t.TempDir()
	write(t, dir, "ramp.md", "---\ntitle: Ramp\n---\nUse *stairs*.")
	write(t, dir, "lift.md", "---\ntitle: Lift\nsee: ramp.md\n---\nOut of order today.")
	n := reading(t, []string{dir}, `
origins:
  office:
    pull: {http: "`+web.URL+`"}
    prove: {none: true}
    types:
      notice:
        kind: notes
        from: "$.notes[*]"
        id: $.no
        fields: {title: $.head, slug: $.name, text: {markdown: $.copy}, see: {ref: $.about}}
  shelf:
    standby: true
    pull: {folder: "`+dir+`"}
    types:
      notice:
        from: "*.md"
        fields: {title: $.front.title, slug: $.name, text: {markdown: $.body}, see: {ref: $.front.see}}
`)
	n.reads(t, "notices/lift?fields=see(title)", 200, "Ramp")
	paths := []string{"notices?fields=title,text(html),see(title)", "notices/lift?fields=title,see(title)"}
	answers := func() (all []string) {
		for _, p := range paths {
			a := n.get(t, "/content/"+n.Replica.Environment()+"/published/"+p, false)
			all = append(all, string(a.Body)+a.Header.Get("ETag"))
		}
		return all
	}
	before := answers()
	same := func(when string) {
		t.Helper()
		for i, after := range answers() {
			if after != before[i] {
				t.Errorf("%s, %s:\n%s\nand before:\n%s", when, paths[i], after, before[i])
			}
		}
		if a := n.get(t, "/content/"+n.Replica.Environment()+"/published/"+paths[1], false); !testkit.Hit(
			a.Header.Get("Cache-Status")) {
			t.Errorf("%s it is computed again: %s", when, a.Header.Get("Cache-Status"))
		}
	}
	os := n.client.Origins()
	for name, read := range map[string]string{"texts": "/notices?fields=text(html)", "titles": "/notices?fields=title"} {
		if _, err := n.Documents.SaveRead(t.Context(), name, []byte(`{"request": "`+read+`"}`), "ines"); err != nil {
			t.Fatal(err)
		}
	}
	rehearsed, err := os.Swap(t.Context(), "office", "shelf", "", false, nil)
	if err != nil || rehearsed.Adoption.Adopted != 2 || rehearsed.Differences.DifferentAll != 1 ||
		rehearsed.Differences.Different[0].Fields[0] != "text" {
		t.Fatalf("rehearsed: %+v, %v", rehearsed, err)
	}
	impact := rehearsed.Readers
	if impact == nil || impact.Changes != 1 || !slices.Contains(impact.Saved, "texts") ||
		slices.Contains(impact.Saved, "titles") || impact.AnswersAll == 0 {
		t.Errorf("readers would get: %+v", impact)
	}
	same("after the rehearsal")
	write(t, dir, "lift.md", "---\ntitle: Lift\nsee: ramp.md\n---\nOut of order.")
	rehearsed, err = os.Swap(t.Context(), "office", "shelf", "", false, nil)
	if err != nil || rehearsed.Differences.DifferentAll+rehearsed.Differences.MissingAll != 0 {
		t.Fatalf("rehearsed again: %+v, %v", rehearsed, err)
	}
	if done, err := os.Swap(t.Context(), "office", "shelf", "", true, nil); err != nil || done.Adoption.Adopted != 2 {
		t.Fatalf("swapped: %+v, %v", done, err)
	}
	same("after the swap")
	all, err := os.List(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, o := range all {
		if want := map[string]int{"office": 0, "shelf": 2}[o.Name]; o.Entries != want ||
			o.Standby != (o.Name == "office") {
			t.Errorf("after the swap: %+v", o)
		}
	}
	write(t, dir, "new.md", "---\ntitle: New\n---\nWritten in the folder.")
	n.reads(t, "notices/new?fields=title", 200, "New")
	// A link to a file leads to the entry that the file has become.
	write(t, dir, "lift.md", "---\ntitle: Lift\nsee: ramp.md\n---\nTake [the ramp](./ramp.md#top) or [a](new.md).")
	n.reads(t, "notices/lift?fields=text(html)", 200, `href=\"/notices/ramp\"|href=\"/notices/new\"`)
	write(t, dir, "lift.md", "---\ntitle: Lift\nsee: ramp.md\n---\nOut of order.")
	n.reads(t, "notices/lift?fields=text(html)", 200, "Out of order.")
	back, err := os.Swap(t.Context(), "shelf", "office", "", false, nil)
	if err != nil || back.Restores == 0 || strings.Join(back.Types, "") != "notice" || back.Adoption.Adopted != 2 ||
		back.Adoption.LeftAll != 1 || back.Differences.DifferentAll != 0 {
		t.Fatalf("the way back, rehearsed: %+v, %v", back, err)
	}
	if back, err = os.Swap(t.Context(), "shelf", "office", "", true, nil); err != nil || back.Adoption.Adopted != 2 ||
		back.Adoption.LeftAll != 1 {
		t.Fatalf("taken back: %+v, %v", back, err)
	}
	n.reads(t, "notices/lift?fields=see(title)", 200, "Ramp")
	if a := n.get(t, "/content/"+n.Replica.Environment()+"/published/"+paths[1], false); string(a.Body)+
		a.Header.Get("ETag") != before[1] {
		t.Errorf("after the way back: %s", a.Body)
	}
	if _, err := os.Swap(t.Context(), "office", "nobody", "", false, nil); err == nil {
		t.Error("an origin that is not there")
	}
}
