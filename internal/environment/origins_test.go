package environment_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/settings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/environment"
	"ubiquon/internal/ingest"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store/events"
	"ubiquon/internal/testkit"
)

const quays = `
types:
  quay:
    path: "/quays/{slug}"
    fields: {name: {kind: text}, slug: {kind: slug}, next: {kind: reference, types: [quay]}}
`

// harbours are two origins of the same quays: keys of the old one are q1, q2 …, of the new
// one n1, n2 ….
type harbours struct {
	items map[string][]map[string]any // by origin
}

func (h *harbours) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/") // origin, berths, key
	if len(parts) == 2 {
		_ = json.NewEncoder(w).Encode(map[string]any{"berths": h.items[parts[0]]})
		return
	}
	for _, item := range h.items[parts[0]] {
		if item["ref"] == parts[2] {
			_ = json.NewEncoder(w).Encode(item)
			return
		}
	}
	http.NotFound(w, r)
}

func quaysOf(t *testing.T, web string) origin.Config {
	t.Helper()
	var c origin.Config
	if err := strictyaml.Decode("o.yaml", []byte(`
pull: {http: "`+web+`"}
prove: {standardWebhooks: ["`+hookSecret+`"]}
types:
  quay: {kind: berths, from: "$.berths[*]", id: $.ref, version: $.v, path: $.link, state: {path: $.status, values: {open: published}}, fields: {name: $.called, slug: $.slug, next: {ref: $.next}}}
`), &c); err != nil {
		t.Fatal(err)
	}
	return c
}

// TestOriginAdoptAndRetire replaces an origin by another, whose items are recognised
// by slug and by path, and lets go of what is left.
func TestOriginAdoptAndRetire(t *testing.T) {
	h := &harbours{items: map[string][]map[string]any{}}
	for i := range 4 {
		h.items["old"] = append(
			h.items["old"],
			map[string]any{
				"ref":    fmt.Sprint("q", i),
				"called": fmt.Sprint("Quay ", i),
				"slug":   fmt.Sprint("quay-", i),
				"status": "open",
				"v":      "1",
				"next":   fmt.Sprint("q", (i+1)%3),
			},
		)
	}
	web := httptest.NewServer(h)
	t.Cleanup(web.Close)
	s := testkit.Store(t, testkit.Model(t, quays))
	secret := access.NewSecret()
	options := environment.Options{
		Store:     s,
		Reconcile: time.Hour,
		Outbound:  outbound.Options{Private: true},
		Settings: settings.Seed{
			Origins: map[string]origin.Config{"old": quaysOf(t, web.URL+"/old")},
		},
	}
	n := start(t, options, secret)
	var base string
	last := ""
	defer func() { t.Log(last) }()
	shows := func(n node, slug, want string) {
		t.Helper()
		base = "/content/" + n.Replica.Environment() + "/published/quays/"
		testkit.Eventually(t, slug+" shows "+want, func() bool {
			last = string(n.get(t, base+slug+"?fields=id,name,about(path),next(name)", false).Body)
			return strings.Contains(last, want)
		})
	}
	shows(n, "quay-3", "Quay 3")
	id := content.MakeID("old", "quay", "q1")
	var refused *api.Problem
	if _, err := n.client.Origins().Retire(t.Context(), "old", ingest.DeleteAll, true,
		nil); !errors.As(err, &refused) ||
		!strings.Contains(refused.Detail, "still in the configuration") {
		t.Errorf("an origin that is read: %v", err)
	}
	n.Close()

	// The new origin has quay-0 and quay-1 by slug, quay-2 under another slug at its path,
	// and one of its own, but quay-3 is not there.
	h.items["new"] = []map[string]any{
		{"ref": "n0", "called": "New 0", "slug": "quay-0", "status": "open", "v": "1", "next": "n1"},
		{"ref": "n1", "called": "New 1", "slug": "quay-1", "status": "open", "v": "1", "next": "n9"},
		{
			"ref":    "n2",
			"called": "New 2",
			"slug":   "the-second",
			"link":   "https://skerry.example/quays/quay-2",
			"status": "open",
			"v":      "1",
			"next":   "n0",
		},
		{"ref": "n9", "called": "New 9", "slug": "quay-9", "status": "open", "v": "1"},
	}
	options.Settings.Origins = map[string]origin.Config{"new": quaysOf(t, web.URL+"/new")}
	n = start(t, options, secret)
	testkit.Eventually(t, "what cannot be taken over is kept", func() bool {
		untaken, err := n.client.Origins().Rejected(t.Context(), "new")
		return err == nil && len(untaken) == 2 && strings.Contains(untaken[0].Reason, "has the slug")
	})
	why, err := n.client.Why(t.Context(), api.WhyQuestion{Entry: "n0"})
	if err != nil || len(why.Reasons) < 2 || why.Reasons[1].Code != "not-taken" ||
		!strings.Contains(why.Reasons[1].Text, "has the slug") {
		t.Errorf("%+v %v", why, err)
	}
	st, err := n.client.Status(t.Context())
	told := fmt.Sprint(st.Problems)
	if err != nil || !strings.Contains(told, "2 items of origin new could not be taken over") ||
		!strings.Contains(told, "4 entries come from the origin old, which is not in the configuration") {
		t.Errorf("%v: %s", err, told)
	}
	would, err := n.client.Origins().Adopt(t.Context(), "old", "new", "", false, nil)
	if err != nil || would.Applied || would.Adopted != 3 || would.By["slug"] != 2 || would.By["path"] != 1 ||
		would.LeftAll != 1 ||
		would.NewAll != 1 ||
		would.Replaced != 1 {
		t.Errorf("%+v %v", would, err)
	}
	shows(n, "quay-1", `"id":"`+id+`"`)
	shows(n, "quay-1", "Quay 1")
	// The item that was imported under its own slug gives way to nobody: it is an entry.
	done, err := n.client.Origins().Adopt(t.Context(), "old", "new", "", true, nil)
	if err != nil || !done.Applied || done.Adopted != 3 || done.Compared == nil || done.Compared.BadItems != 0 {
		t.Fatalf("%+v %v", done, err)
	}
	shows(n, "quay-1", `"id":"`+id+`"`)
	shows(n, "quay-1", `"name":"New 1"`)
	shows(n, "quay-0", `"name":"New 1"}}`)
	shows(n, "quay-1", `"name":"New 9"}}`)
	if untaken, err := n.client.Origins().Rejected(t.Context(), "new"); err != nil || len(untaken) != 0 {
		t.Errorf("%+v %v", untaken, err)
	}

	if plan, err := n.client.Origins().Retire(t.Context(), "old", ingest.KeepLocal, false, nil); err != nil ||
		plan.Applied ||
		plan.Entries != 1 ||
		plan.Published != 1 {
		t.Errorf("%+v %v", plan, err)
	}
	shows(n, "quay-3", "Quay 3")
	if gone, err := n.client.Origins().Retire(t.Context(), "old", ingest.KeepLocal, true, nil); err != nil ||
		!gone.Applied ||
		gone.Entries != 1 {
		t.Errorf("%+v %v", gone, err)
	}
	if _, err := n.client.Entries().Edit(t.Context(), api.Edit{
		ID: content.MakeID("old", "quay", "q3"), Type: "quay",
		Save: map[string]any{"name": "Our own", "slug": "quay-3"}, Do: "publish",
	}); err != nil {
		t.Errorf("an entry that was kept: %v", err)
	}
	shows(n, "quay-3", "Our own")
	if _, err := n.client.Origins().Retire(t.Context(), "old", ingest.DeleteAll, true,
		nil); !errors.As(err, &refused) ||
		refused.Status != http.StatusNotFound {
		t.Errorf("nothing is left: %v", err)
	}
	n.Close()

	// The old one comes back: what is ours now it does not get again.
	options.Settings.Origins = map[string]origin.Config{"old": quaysOf(t, web.URL+"/old")}
	n = start(t, options, secret)
	testkit.Eventually(t, "it is refused", func() bool {
		untaken, err := n.client.Origins().Rejected(t.Context(), "old")
		return err == nil && len(untaken) == 4
	})
	shows(n, "quay-3", "Our own")
	shows(n, "quay-1", "New 1")
	n.Close()
	options.Settings.Origins, options.Settings.Apply = nil, true
	n = start(t, options, secret)
	if gone, err := n.client.Origins().Retire(t.Context(), "new", ingest.DeleteAll, true, nil); err != nil ||
		gone.Entries != 4 ||
		gone.LeftAll != 0 {
		t.Errorf("%+v %v", gone, err)
	}
	if a := n.get(t, base+"quay-1", false); a.Status != http.StatusNotFound {
		t.Errorf("%d %s", a.Status, a.Body)
	}
}

// TestHTMLIsConverted takes over prose and texts that are HTML, and tells what of them is
// lost; and so it does where HTML is saved here.
func TestHTMLIsConverted(t *testing.T) {
	h := &harbours{
		items: map[string][]map[string]any{
			"office": {
				{
					"ref":    "a",
					"title":  "Caf&eacute; &amp; kiosk",
					"body":   `<h2>Open</h2><p>See <a href="/map">the map</a><script>x()</script></p>`,
					"status": "open",
					"v":      "1",
				},
			},
		},
	}
	web := httptest.NewServer(h)
	t.Cleanup(web.Close)
	var c origin.Config
	if err := strictyaml.Decode("o.yaml", []byte(`
pull: {http: "`+web.URL+`/office"}
prove: {standardWebhooks: ["`+hookSecret+`"]}
types:
  notice: {kind: berths, from: "$.berths[*]", id: $.ref, version: $.v, state: {path: $.status, values: {open: published}}, fields: {title: {html: $.title}, text: {html: $.body}, raw: {markdown: $.body}}}
`), &c); err != nil {
		t.Fatal(err)
	}
	s := testkit.Store(
		t,
		testkit.Model(t, "types: {notice: {fields: {title: {kind: text}, text: {kind: prose}, raw: {kind: prose}}}}"),
	)
	n := start(
		t,
		environment.Options{
			Store:     s,
			Reconcile: time.Hour,
			Outbound:  outbound.Options{Private: true},
			Settings: settings.Seed{
				Origins: map[string]origin.Config{"harbour": c},
			},
		},
		access.NewSecret(),
	)
	done, err := n.client.Origins().Reconcile(t.Context(), "harbour", false, nil)
	if err != nil || done.BadItems != 0 || done.LostAll != 1 || !strings.Contains(done.Lost[0], "text: <script>") ||
		!strings.Contains(done.Lost[0], "raw: <a>, <h2>, <p>, <script>") {
		t.Fatalf("%+v %v", done, err)
	}
	_, _, body := n.read(t, "/notices?fields=title,text(html,commonmark)")
	for _, want := range []string{
		`"title":"Café & kiosk"`, `<h2>Open</h2>`,
		`<a href=\"` + web.URL + `/map\" rel=\"nofollow\">the map</a>`, `"commonmark":"## Open\n\nSee [the map](`,
	} {
		if !strings.Contains(body, want) &&
			!strings.Contains(strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(body), want) {
			t.Errorf("%s is not in %s", want, body)
		}
	}
	w := &world{store: s, nodes: []node{n}}
	h.items["office"][0]["v"] = "2"
	if e := w.settled(t, w.announce(t, n, "published", "a"), events.EventDone); !strings.Contains(
		e.Detail, "text: <script>",
	) {
		t.Errorf("the event says %q", e.Detail)
	}
	saved, err := n.client.Entries().Edit(
		t.Context(),
		api.Edit{ID: "ours", Type: "notice", Save: map[string]any{"text": "<div>Pasted</div>\n\nand more"}},
	)
	if err != nil || len(saved.Warnings) != 1 || saved.Warnings[0].Path != "fields.text" ||
		!strings.Contains(saved.Warnings[0].Text, "<div>") {
		t.Errorf("%+v %v", saved, err)
	}
}
