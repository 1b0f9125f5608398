package environment_test

import (
	"bytes"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store"
	"ubiquon/internal/testkit"
)

// TestWhatExpiresWhat makes one change after another, and names the answers that it
// ends: those, and no others.
func TestWhatExpiresWhat(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	edit := func(id, typ string, fields content.Fields, live store.Live) store.Edit {
		return store.Edit{ID: id, Type: typ, Origin: content.Local, Save: fields, Live: live, Loose: true}
	}
	in := func(name string) map[string]any { return map[string]any{"en": name} }
	make := func(edits ...store.Edit) {
		t.Helper()
		if _, err := n.Authoring.Apply(t.Context(), edits, "test", content.Cause{Kind: "user"}); err != nil {
			t.Fatal(err)
		}
	}
	make(edit("p1", "pier", content.Fields{"name": "Mella", "slug": "mella"}, store.PublishNewest), edit("p2", "pier", content.Fields{"name": "Ostra", "slug": "ostra"}, store.PublishNewest),
		edit("p3", "pier", content.Fields{"name": "Tern Rock", "slug": "tern-rock"}, store.PublishNewest), edit("p4", "pier", content.Fields{"name": "Vik", "slug": "vik"}, store.PublishNewest))
	make(edit("r1", "route", content.Fields{"name": in("Ring"), "slug": "ring", "number": 1.0, "piers": []any{"p1", "p2"}, "start": "p1"}, store.PublishNewest),
		edit("r2", "route", content.Fields{"name": in("Line"), "slug": "line", "number": 2.0, "piers": []any{"p3", "gone"}, "start": "r1"}, store.PublishNewest))

	base := "/content/" + n.Replica.Environment() + "/published/"
	reads := map[string]func(directive string) *client.Answer{}
	rest := func(name, path string) {
		reads[name] = func(directive string) *client.Answer {
			if directive == "no-store" {
				return n.anew(t, base+path)
			}
			return n.asking(t, base+path, "Cache-Control", directive)
		}
	}
	graphql := func(name, query string) {
		body := map[string]string{"query": query}
		reads[name] = func(directive string) *client.Answer {
			a, err := n.client.Do(t.Context(), http.MethodPost, base+"graphql", http.Header{"Cache-Control": {directive}, "Prefer": {map[bool]string{true: "recompute"}[directive == "no-store"]}, "Content-Type": {"application/json"}}, body)
			if err != nil {
				t.Fatal(err)
			}
			return a
		}
	}
	rest("first two", "piers?fields=name&sort=name&limit=2")
	rest("by slug", "piers/mella?fields=name")
	rest("nobody", "piers/nobody?fields=name")
	rest("no entry", "entries/p9?fields=id")
	rest("nested", "routes?fields=name,piers(name)&sort=number")
	rest("filtered", "routes?fields=number&filter="+url.QueryEscape("piers.name = 'Mella'"))
	rest("not filtered", "routes?fields=number&filter="+url.QueryEscape("NOT piers.name = 'Mella'"))
	rest("updated", "routes?fields=slug,about(updated)")
	rest("second page", "piers?fields=slug&sort=name&limit=2&offset=2")
	rest("where", "at?path=/routes/ring&fields=id,about(path)")
	rest("paths", "paths?type=route")
	graphql("number", "{piers{totalCount}}")
	graphql("starts", "{routes(sort:[\"number\"]){nodes{start{__typename ...on Pier{name} ...on Route{slug}}}}}")

	for _, c := range []struct {
		what  string
		edits []store.Edit
		ends  string
	}{
		{"a name is corrected", []store.Edit{edit("p1", "pier", content.Fields{"name": "Mella Quay", "slug": "mella"}, store.PublishNewest)}, "by slug, filtered, first two, nested, not filtered, starts"},
		{"a slug that only a page shows", []store.Edit{edit("p3", "pier", content.Fields{"name": "Tern Rock", "slug": "terns"}, store.PublishNewest)}, "second page"},
		{"a draft", []store.Edit{edit("p1", "pier", content.Fields{"name": "Mella Pier", "slug": "mella"}, store.KeepLive)}, ""},
		{"the draft is published", []store.Edit{edit("p1", "pier", nil, store.PublishNewest)}, "by slug, first two, nested, starts"},
		{"one more, behind all pages", []store.Edit{edit("p9", "pier", content.Fields{"name": "Zander", "slug": "zander"}, store.PublishNewest)}, "no entry, number, second page"},
		{"one goes, one comes, in one commit", []store.Edit{edit("p9", "pier", nil, store.TakeBack), edit("p8", "pier", content.Fields{"name": "Ytre", "slug": "ytre"}, store.PublishNewest)}, "no entry"},
		{"piers change places", []store.Edit{edit("r1", "route", content.Fields{"name": in("Ring"), "slug": "ring", "number": 1.0, "piers": []any{"p2", "p1"}, "start": "p1"}, store.PublishNewest)}, "nested, paths, updated"},
		{"a route moves", []store.Edit{edit("r1", "route", content.Fields{"name": in("Ring"), "slug": "outer", "number": 1.0, "piers": []any{"p2", "p1"}, "start": "p1"}, store.PublishNewest)}, "paths, starts, updated, where"},
		{"who was looked for in vain comes", []store.Edit{edit("p7", "pier", content.Fields{"name": "Nobody", "slug": "nobody"}, store.PublishNewest)}, "first two, nobody, number, second page"},
		{"what a route led to in vain comes", []store.Edit{edit("gone", "pier", content.Fields{"name": "Aker", "slug": "aker"}, store.PublishNewest)}, "first two, nested, number, second page"},
	} {
		before := map[string][]byte{}
		for name, read := range reads {
			a := read("")
			if before[name] = a.Body; a.Status != 200 && a.Status != 404 && a.Status != 301 {
				t.Fatalf("%s: %d %s", name, a.Status, a.Body)
			}
		}
		make(c.edits...)
		var ended []string
		for name, read := range reads {
			held, fresh := read("only-if-cached"), read("no-store")
			switch {
			case held.Status == http.StatusGatewayTimeout:
				if ended = append(ended, name); bytes.Equal(before[name], fresh.Body) {
					t.Errorf("%s ends %s, which is as it was: %s", c.what, name, fresh.Body)
				}
			case !bytes.Equal(held.Body, fresh.Body):
				t.Errorf("%s: %s is\n%s, not\n%s", c.what, name, held.Body, fresh.Body)
			}
		}
		if slices.Sort(ended); strings.Join(ended, ", ") != c.ends {
			t.Errorf("%s: it ends %s\nwant %s", c.what, strings.Join(ended, ", "), c.ends)
		}
	}
}
