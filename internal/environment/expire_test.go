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
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

// TestExpiryMatrix makes one change after another, and names the answers that it
// ends: those, and no others.
func TestExpiryMatrix(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	edit := func(id, typ string, fields content.Fields, live writing.Live) writing.Edit {
		return writing.Edit{ID: id, Type: typ, Origin: content.Local, Save: fields, Live: live, Loose: true}
	}
	in := func(name string) map[string]any { return map[string]any{"en": name} }
	make := func(edits ...writing.Edit) {
		t.Helper()
		if _, err := n.Authoring.Apply(t.Context(), edits, "test", content.Cause{Kind: "user"}); err != nil {
			t.Fatal(err)
		}
	}
	make(
		edit("p1", "pier", content.Fields{"name": "Mella", "slug": "mella"}, writing.PublishNewest),
		edit("p2", "pier", content.Fields{"name": "Ostra", "slug": "ostra"}, writing.PublishNewest),
		edit(
			"p3", "pier", content.Fields{"name": "Tern Rock", "slug": "tern-rock"}, writing.PublishNewest,
		),
		edit("p4", "pier", content.Fields{"name": "Vik", "slug": "vik"}, writing.PublishNewest),
	)
	make(
		edit(
			"r1",
			"route",
			content.Fields{
				"name":   in("Ring"),
				"slug":   "ring",
				"number": 1.0,
				"piers":  []any{"p1", "p2"},
				"start":  "p1",
			},
			writing.PublishNewest,
		),
		edit(
			"r2",
			"route",
			content.Fields{
				"name":   in("Line"),
				"slug":   "line",
				"number": 2.0,
				"piers":  []any{"p3", "gone"},
				"start":  "r1",
			},
			writing.PublishNewest,
		),
	)

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
			a, err := n.client.Do(
				t.Context(),
				http.MethodPost,
				base+"graphql",
				http.Header{
					"Cache-Control": {directive},
					"Prefer":        {map[bool]string{true: "recompute"}[directive == "no-store"]},
					"Content-Type":  {"application/json"},
				},
				body,
			)
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
		edits []writing.Edit
		ends  string
	}{
		{
			"a name is corrected",
			[]writing.Edit{edit("p1", "pier", content.Fields{"name": "Mella Quay", "slug": "mella"},
				writing.PublishNewest)},
			"by slug, filtered, first two, nested, not filtered, starts",
		},
		{
			"a slug that only a page shows",
			[]writing.Edit{edit("p3", "pier", content.Fields{"name": "Tern Rock", "slug": "terns"},
				writing.PublishNewest)},
			"second page",
		},
		{"a draft", []writing.Edit{edit("p1", "pier", content.Fields{"name": "Mella Pier", "slug": "mella"},
			writing.KeepLive)}, ""},
		{
			"the draft is published",
			[]writing.Edit{edit("p1", "pier", nil, writing.PublishNewest)},
			"by slug, first two, nested, starts",
		},
		{
			"one more, behind all pages",
			[]writing.Edit{edit("p9", "pier", content.Fields{"name": "Zander", "slug": "zander"},
				writing.PublishNewest)},
			"no entry, number, second page",
		},
		{
			"one goes, one comes, in one commit",
			[]writing.Edit{
				edit("p9", "pier", nil, writing.TakeBack),
				edit("p8", "pier", content.Fields{"name": "Ytre", "slug": "ytre"}, writing.PublishNewest),
			},
			"no entry",
		},
		{
			"piers change places",
			[]writing.Edit{edit("r1", "route", content.Fields{
				"name": in("Ring"), "slug": "ring", "number": 1.0,
				"piers": []any{"p2", "p1"}, "start": "p1",
			}, writing.PublishNewest)},
			"nested, paths, updated",
		},
		{
			"a route moves",
			[]writing.Edit{edit("r1", "route", content.Fields{
				"name": in("Ring"), "slug": "outer",
				"number": 1.0, "piers": []any{"p2", "p1"}, "start": "p1",
			}, writing.PublishNewest)},
			"paths, starts, updated, where",
		},
		{
			"who was looked for in vain comes",
			[]writing.Edit{edit("p7", "pier", content.Fields{"name": "Nobody", "slug": "nobody"},
				writing.PublishNewest)},
			"first two, nobody, number, second page",
		},
		{
			"what a route led to in vain comes",
			[]writing.Edit{edit("gone", "pier", content.Fields{"name": "Aker", "slug": "aker"},
				writing.PublishNewest)},
			"first two, nested, number, second page",
		},
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
