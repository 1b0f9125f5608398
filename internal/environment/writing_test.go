package environment_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/authoring"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/environment"
	"ubiquon/internal/store"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

// isles has what the ferries do not: pages below each other, blocks, records.
const isles = `
locales: {en: {}, nb: {fallback: [en]}}
types:
  page:
    path: {en: "/{parent.path}/{slug}", nb: "/no/{slug}"}
    fields:
      title: {kind: text, translated: true, required: true, max: 30}
      slug: {kind: slug, madeFrom: title}
      parent: {kind: reference, types: [page], inverse: children}
      text: {kind: prose, translated: true}
      hours: {kind: record, several: true, fields: {day: {kind: text, required: true}, note: {kind: text, translated: true}}}
      blocks: {kind: blocks, blocks: {note: {fields: {text: {kind: text}}}, show: {fields: {page: {kind: reference, types: [page]}}}}}
  berth:
    approval: true
    fields: {name: {kind: text}, number: {kind: integer, unique: true}}
`

type per = map[string]any

// islesNode starts a node with that model.
func islesNode(t *testing.T) (node, *store.Store, string) {
	t.Helper()
	s := testkit.Store(t, testkit.Model(t, isles))
	secret := access.NewSecret()
	return open(t, s, secret), s, secret
}

func (n node) must(t *testing.T, edits ...api.Edit) api.EditOutcome {
	t.Helper()
	done, err := n.client.Entries().Edit(t.Context(), edits...)
	if err != nil {
		t.Fatal(err)
	}
	return done
}

// read reads a path below the published edition of the store's environment.
func (n node) read(t *testing.T, path string) (status int, how, body string) {
	t.Helper()
	c := *n.client
	c.HTTP = &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	a, err := c.Do(t.Context(), http.MethodGet, "/content/"+n.Replica.Environment()+"/published"+path, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	return a.Status, a.Header.Get("Cache-Status"), strings.TrimSpace(string(a.Body))
}

func page(id string, fields per) api.Edit {
	return api.Edit{ID: id, Type: "page", Save: fields, Do: "publish"}
}

func TestBadWritesAreNamed(t *testing.T) {
	n, _, secret := islesNode(t)
	n.must(t, page("home", per{"title": per{"en": "Home"}}))
	n.must(t, page("below", per{"title": per{"en": "Below"}, "parent": "home"}))
	deep := strings.Repeat(`{"hours":[`, 2000)
	for name, c := range map[string]struct {
		method, path, body string
		status             int
		want               string
	}{
		"no JSON":           {"POST", "/edits", `{`, 400, "the body cannot be read"},
		"an unknown member": {"POST", "/edits", `{"edts": []}`, 400, "edts"},
		"no edits":          {"POST", "/edits", `{"edits": []}`, 400, "0 edits given"},
		"a bad id":          {"POST", "/edits", `{"edits": [{"id": "Not So", "do": "publish"}]}`, 400, "edits[0].id"},
		"nothing to do": {
			"POST", "/edits", `{"edits": [{"id": "home", "do": "publsh"}]}`, 400,
			`did you mean \"publish\"?`,
		},
		"an unknown type": {
			"POST", "/edits", `{"edits": [{"type": "pge", "save": {}}]}`, 400,
			`did you mean \"page\"?`,
		},
		"an unknown field": {
			"POST", "/edits",
			`{"edits": [{"id": "x", "type": "page", "save": {"titel": {"en": "x"}}}]}`, 422, `did you mean \"title\"?`,
		},
		"all problems": {
			"POST", "/edits",
			`{"edits": [{"id": "x", "type": "page", "save": {"title": {"en": 3, "xx": "y"}, "hours": [{"dy": "a"}], "blocks": [{"block": "nte"}]}}]}`, 422, "fields.hours[0].dy",
		},
		"too long": {
			"POST", "/edits",
			`{"edits": [{"id": "x", "type": "page", "save": {"title": {"en": "` + strings.Repeat("x", 31) +
				`"}}}]}`, 422, "31 characters long",
		},
		"a dangling link": {
			"POST", "/edits",
			`{"edits": [{"id": "x", "type": "page", "save": {"blocks": [{"block": "note"}, {"block": "show", "page": "nobody"}]}}]}`, 422, "fields.blocks[1].page",
		},
		"a cycle": {
			"POST", "/edits",
			`{"edits": [{"id": "home", "type": "page", "save": {"title": {"en": "Home"}, "parent": "below"}}]}`,
			422, "live below itself",
		},
		"a slug that is gone": {
			"POST", "/edits",
			`{"edits": [{"id": "x", "type": "page", "save": {"title": {"en": "Home"}}}]}`, 422, "has the slug",
		},
		"a NUL": {
			"POST", "/edits",
			`{"edits": [{"id": "x", "type": "page", "save": {"title": {"en": "a\u0000"}}}]}`, 400, "holds a NUL",
		},
		"not UTF-8": {"POST", "/edits", "{\"edits\": [{\"id\": \"x\xff\"}]}", 400, "not valid UTF-8"},
		"too large": {
			"POST", "/edits", `{"edits": [{"id": "` + strings.Repeat("x", 9<<20) + `"}]}`, 413,
			"bytes",
		},
		"nested too deep": {
			"POST", "/edits", `{"edits": [{"id": "x", "type": "page", "save": ` + deep, 400,
			"body",
		},
		"locales of a save": {
			"POST", "/edits", `{"edits": [{"id": "home", "locales": ["en"]}]}`, 400,
			"only publish and unpublish",
		},
		"no locale at all": {
			"POST", "/edits", `{"edits": [{"id": "home", "do": "publish", "locales": []}]}`,
			400, "name at least one",
		},
		"a locale unwritten": {
			"POST", "/edits", `{"edits": [{"id": "home", "do": "publish", "locales": ["nb"]}]}`,
			422, "nothing is written in nb",
		},
		"restore nothing": {
			"POST", "/edits", `{"edits": [{"id": "home", "do": "restore"}]}`, 400,
			"name the revision",
		},
		"restore a wrong one": {
			"POST", "/edits", `{"edits": [{"id": "home", "do": "restore", "revision": 99}]}`,
			404, "revision 99",
		},
		"nobody": {"POST", "/edits", `{"edits": [{"id": "nobody", "do": "publish"}]}`, 404, "nobody"},
		"referred to": {
			"POST", "/edits", `{"edits": [{"id": "home", "do": "delete"}]}`, 409,
			`"referredBy":[{"entry":"below"`,
		},
		"no such state":     {"GET", "/entries?state=drft", "", 400, `did you mean \"draft\"?`},
		"no such parameter": {"GET", "/entries?typ=page", "", 400, `did you mean \"type\"?`},
		"a past moment": {
			"POST", "/schedules",
			`{"entry": "home", "action": "unpublish", "at": "2001-01-01T00:00:00Z"}`, 422, "over already",
		},
		"no moment": {
			"POST", "/schedules", `{"entry": "home", "action": "unpublish", "at": "tomorrow"}`,
			422, "is no time",
		},
		"no time zone": {
			"POST", "/schedules",
			`{"entry": "home", "action": "unpublish", "at": "2030-01-01T00:00", "zone": "Skerry/Mella"}`, 422,
			"no time zone",
		},
		"no such action": {
			"POST", "/schedules",
			`{"entry": "home", "action": "hide", "at": "2030-01-01T00:00"}`, 422, "neither publish nor unpublish",
		},
		"no such schedule": {"DELETE", "/schedules/42", "", 404, "schedule 42"},
		"no model":         {"POST", "/model/plan", `{}`, 400, "there are no files"},
		"a bad model": {
			"POST", "/model/apply",
			`{"files": {"m.yaml": "types:\n  page: {fields: {title: {kind: txt}}}\n  page: {}\n"}}`, 422, `"line":3`,
		},
		"a losing model": {
			"POST", "/model/apply",
			`{"files": {"m.yaml": "types: {page: {fields: {title: {kind: text, translated: true}}}}"}}`, 409,
			`"severity":"loses data"`,
		},
		"a reserved plural": {
			"POST", "/model/plan",
			`{"files": {"m.yaml": "types: {at: {plural: at, fields: {}}}"}}`, 422, "cannot have the plural",
		},
		"fallbacks in a ring": {
			"POST", "/locales", `{"do": "change", "tag": "en", "fallback": ["nb"]}`, 422,
			"fall back to each other",
		},
		"a locale twice":     {"POST", "/locales", `{"do": "add", "tag": "nb"}`, 400, "already"},
		"no such locale":     {"POST", "/locales", `{"do": "retire", "tag": "ns"}`, 400, `did you mean`},
		"half an order":      {"POST", "/locales", `{"do": "order", "order": ["nb"]}`, 400, "every locale once"},
		"an unnamed session": {"POST", "/entries/home/open", `{"session": "x"}`, 400, "session"},
	} {
		req, err := http.NewRequestWithContext(
			t.Context(), c.method, n.client.Address+"/control/v1"+c.path, strings.NewReader(c.body),
		)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+secret)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode != c.status || !strings.Contains(string(body), c.want) ||
			resp.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d, want %d with %q: %s", name, resp.StatusCode, c.status, c.want, body)
		}
	}
	if items, total, err := n.client.Entries().List(t.Context(), api.EntryFilter{}); err != nil || total != 2 {
		t.Errorf("something was written all the same: %v %v", items, err)
	}
}

func TestEditConflictShowsBothSides(t *testing.T) {
	n, _, secret := islesNode(t)
	n.must(t, page("a", per{"title": per{"en": "One"}}))
	put := func(match, title string) (int, string, []byte) {
		body, _ := json.Marshal(per{"type": "page", "save": per{"title": per{"en": title}}})
		req, err := http.NewRequestWithContext(
			t.Context(), http.MethodPut, n.client.Address+"/control/v1/entries/a", bytes.NewReader(body),
		)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+secret)
		req.Header.Set("If-Match", match)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		out, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, resp.Header.Get("ETag"), out
	}
	a, err := n.client.Do(t.Context(), http.MethodGet, "/control/v1/entries/a", nil, nil)
	if err != nil || a.Header.Get("ETag") != `"1"` {
		t.Fatalf("the entity tag is %s, %v", a.Header.Get("ETag"), err)
	}
	if status, _, out := put(`"1"`, "Two"); status != 200 {
		t.Fatalf("%d %s", status, out)
	}
	status, _, out := put(`"1"`, "Three")
	var p struct {
		Conflict api.Conflict
	}
	if err := json.Unmarshal(out, &p); err != nil || status != 412 {
		t.Fatalf("%d %s", status, out)
	}
	c := p.Conflict
	if c.Present.Number != 2 || c.Present.By != "test" || c.Present.Fields["title"].(per)["en"] != "Two" ||
		c.Yours["title"].(per)["en"] != "Three" ||
		len(c.Differences) != 2 ||
		c.Differences[0].Locale != "en" {
		t.Errorf("both sides: %+v", c)
	}
	if status, _, _ := put(`"x"`, "Three"); status != 400 {
		t.Errorf("no revision at all: %d", status)
	}
}

func TestSchedulesHappenOnceOnWhicheverNode(t *testing.T) {
	a, s, secret := islesNode(t)
	b := open(t, again(t, s), secret)
	a.must(t, api.Edit{ID: "p", Type: "page", Save: per{"title": per{"en": "Soon", "nb": "Snart"}}})
	at := time.Now().Add(1500 * time.Millisecond).UTC()
	sch, err := a.client.Entries().Schedule(t.Context(), "p", "publish", at.Format(time.RFC3339Nano), "",
		[]string{"nb"})
	if err != nil {
		t.Fatal(err)
	}
	// What is saved after the schedule was made does not go out with it.
	a.must(
		t, api.Edit{ID: "p", Type: "page", Save: per{"title": per{"en": "Soon", "nb": "Uferdig"}, "slug": "soon"}},
	)
	later, err := b.client.Entries().Schedule(t.Context(), "p", "unpublish", "2030-01-01T08:00", "Europe/Oslo", nil)
	if err != nil || later.At.UTC().Hour() != 7 || later.Zone != "Europe/Oslo" {
		t.Fatalf("%+v %v", later, err)
	}
	testkit.Eventually(t, "it is published on both nodes", func() bool {
		_, _, one := a.read(t, "/pages?locale=nb&fields=title")
		_, _, two := b.read(t, "/pages?locale=nb&fields=title")
		return strings.Contains(one, "Snart") && strings.Contains(two, "Snart")
	})
	e, err := b.client.Entries().Get(t.Context(), "p")
	if err != nil || e.State != content.Scheduled || e.EntryInfo.Entry.Published.Sub(at) > time.Second ||
		e.EntryInfo.Entry.Published.Before(at) {
		t.Errorf("state %s, published %s, due %s, %v", e.State, e.EntryInfo.Entry.Published, at, err)
	}
	published := 0
	for _, c := range e.Changes {
		if c.Edition == content.Published {
			published++
			if c.Cause.Kind != "schedule" {
				t.Errorf("the cause is %+v", c.Cause)
			}
		}
	}
	if published != 1 {
		t.Errorf("published %d times", published)
	}
	if _, err := b.client.Entries().MoveSchedule(t.Context(), sch.ID, "2031-01-01T00:00:00Z", ""); err == nil {
		t.Error("what is done was moved")
	}
	if err := b.client.Entries().CancelSchedule(t.Context(), later.ID); err != nil {
		t.Fatal(err)
	}
	// One that cannot be carried out says why.
	failing, err := a.client.Entries().Schedule(
		t.Context(), "p", "publish", time.Now().Add(400*time.Millisecond).UTC().Format(time.RFC3339Nano), "", nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	a.must(t, api.Edit{ID: "p", Do: "delete"}, page("q", per{"title": per{"en": "Soon"}}))
	testkit.Eventually(t, "nothing is left pending", func() bool {
		pending, err := a.client.Entries().Schedules(t.Context(), entries.SchedulePending)
		return err == nil && len(pending) == 0
	})
	if _, err := s.Schedules.Get(t.Context(), failing.ID); !errors.Is(err, db.ErrNotFound) {
		t.Errorf("a deleted entry leaves its schedule: %v", err)
	}
}

// again opens the same environment once more, as another node would.
func again(t *testing.T, s *store.Store) *store.Store {
	t.Helper()
	other, err := store.Open(t.Context(), s.Environment, db.Options{URL: testkit.URL(), Log: testkit.Log(t)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(other.DB.Close)
	return other
}

func TestModelTakesEffectOnRunningNodes(t *testing.T) {
	a, s, secret := islesNode(t)
	b := open(t, again(t, s), secret)
	a.must(t, page("one", per{"title": per{"en": "One"}}))
	if status, _, body := b.read(t, "/pages?fields=lead"); status != 400 {
		t.Fatalf("%d %s", status, body)
	}
	changed := strings.Replace(
		isles, "      text: {kind: prose", "      lead: {kind: text, default: Nothing new}\n      text: {kind: prose",
		1,
	)
	plan, err := a.client.Models().Plan(t.Context(), map[string]string{"m.yaml": changed})
	if err != nil || len(plan.Consequences) == 0 || plan.Loses || !strings.Contains(plan.YAML, "Nothing new") {
		t.Fatalf("%+v %v", plan, err)
	}
	told := 0
	if err := a.client.Models().Apply(t.Context(), map[string]string{"m.yaml": changed}, false, plan.Version,
		func(p api.ConversionProgress) { told++ }); err != nil ||
		told == 0 {
		t.Fatal(told, err)
	}
	testkit.Eventually(t, "the other node reads by it", func() bool {
		status, _, body := b.read(t, "/pages?fields=lead")
		return status == 200 && strings.Contains(body, "Nothing new")
	})
	var p *api.Problem
	if err := a.client.Models().Apply(t.Context(), map[string]string{"m.yaml": isles}, false, plan.Version,
		nil); !errors.As(
		err, &p,
	) ||
		p.Status != 409 ||
		!strings.Contains(p.Detail, "changed meanwhile") {
		t.Errorf("a plan that is out of date: %v", err)
	}
	if _, _, err := a.Keys.CreateKey(t.Context(), access.Key{
		Name: "board", Site: "skerry-board",
		Grants: access.Grants{{Verb: "read", Edition: "published", Type: "page"}},
	}, "test"); err != nil {
		t.Fatal(err)
	}
	plan, err = a.client.Models().Plan(
		t.Context(),
		map[string]string{
			"m.yaml": isles[:strings.Index(isles, "  page:")] + isles[strings.Index(isles, "  berth:"):],
		},
	)
	if err != nil || !plan.Loses || plan.Consequences[0].Entries != 1 ||
		fmt.Sprint(plan.Consequences[0].Readers) != "[site skerry-board]" {
		t.Errorf("who reads what would go: %+v %v", plan.Consequences, err)
	}
}

func TestConfiguredModelIsAppliedAtStart(t *testing.T) {
	a, s, _ := islesNode(t)
	a.must(t, page("one", per{"title": per{"en": "One"}}))
	other := testkit.Model(t, strings.Replace(isles, "max: 30", "max: 31", 1))
	title := func(o environment.Options) float64 {
		o.Store = again(t, s)
		g, err := environment.Open(t.Context(), o)
		if err != nil {
			t.Fatal(err)
		}
		return *g.Replica.Model().Type("page").Field("title").Max
	}
	if got := title(environment.Options{Model: other}); got != 30 {
		t.Errorf("the model in force gives way: %v", got)
	}
	if got := title(environment.Options{Model: other, ApplyModel: true}); got != 31 {
		t.Errorf("the configured model is not applied: %v", got)
	}
	losing := testkit.Model(
		t,
		strings.NewReplacer("      title: {kind: text, translated: true, required: true, max: 30}\n",
			"      title: {kind: integer}\n", ", madeFrom: title", "").
			Replace(isles),
	)
	var loss *writing.LossError
	if _, err := environment.Open(t.Context(), environment.Options{
		Store: again(t, s), Model: losing,
		ApplyModel: true,
	}); !errors.As(
		err, &loss,
	) {
		t.Errorf("a losing model at start: %v", err)
	}
}

func TestFormerPathsAndWaysBackAreExact(t *testing.T) {
	n, _, _ := islesNode(t)
	n.must(
		t, page("home", per{"title": per{"en": "Home", "nb": "Hjem"}}),
		page("a", per{"title": per{"en": "A"}, "parent": "home"}),
		page("b", per{"title": per{"en": "B"}, "parent": "a"}),
	)
	paths := []string{
		"/at?path=/home/a/b&fields=title", "/at?path=/no/home&fields=title,about(locale)",
		"/pages/home?fields=title,children[limit=5,sort=title](title,about(path))", "/pages/b?fields=children(title)",
		"/at?path=/x&fields=title",
	}
	for _, p := range paths {
		n.read(t, p)
	}
	expect := func(what string, hits ...bool) {
		t.Helper()
		for i, p := range paths {
			if _, how, body := n.read(t, p); testkit.Hit(how) != hits[i] {
				t.Errorf("%s: %s is %s: %s", what, p, how, body)
			}
		}
	}
	expect("nothing happened", true, true, true, true, true)
	n.must(t, page("c", per{"title": per{"en": "C"}, "parent": "b"}))
	expect("a page came below b", true, true, true, false, true)
	n.must(t, page("a", per{"title": per{"en": "A"}, "parent": "home", "text": per{"en": "New text"}}))
	expect("a's text changed", true, true, true, true, true)
	n.must(t, page("a", per{"title": per{"en": "A"}, "slug": "x", "parent": "home"}))
	if status, _, body := n.read(t, paths[0]); status != 301 || body != `{"moved":{"path":"/home/x/b"}}` {
		t.Errorf("the former path: %d %s", status, body)
	}
	if status, _, body := n.read(t, "/at?path=/home/x/b&fields=title"); status != 200 ||
		!strings.Contains(body, `"B"`) {
		t.Errorf("the present path: %d %s", status, body)
	}
	if _, how, body := n.read(t, paths[2]); testkit.Hit(how) || !strings.Contains(body, "/home/x") {
		t.Errorf("home's children: %s %s", how, body)
	}
	n.read(t, paths[4])
	n.must(t, page("d", per{"title": per{"en": "D"}, "slug": "free"}), api.Edit{ID: "c", Do: "unpublish"})
	if status, _, _ := n.read(t, "/at?path=/home/x/b/c"); status != 404 {
		t.Errorf("an unpublished page is at its path: %d", status)
	}
	for _, bad := range []string{"/at", "/at?path=home", "/at?path=/home&limit=2"} {
		if status, _, body := n.read(t, bad); status != 400 {
			t.Errorf("%s: %d %s", bad, status, body)
		}
	}
}

func TestDraftsThatAreLinkedAreOffered(t *testing.T) {
	n, _, _ := islesNode(t)
	draft := func(id string, fields per) api.Edit { return api.Edit{ID: id, Type: "page", Save: fields} }
	n.must(
		t, draft("a", per{"title": per{"en": "A"}, "parent": "b"}),
		draft("b", per{"title": per{"en": "B"}, "blocks": []any{per{"block": "show", "page": "c"}}}),
		page("c", per{"title": per{"en": "C"}}),
	)
	drafts, err := n.client.Entries().LinkedDrafts(t.Context(), "a")
	if err != nil || len(drafts) != 1 || drafts[0].ID != "b" {
		t.Errorf("%+v %v", drafts, err)
	}
	n.must(t, api.Edit{ID: "a", Do: "publish"}, api.Edit{ID: "b", Do: "publish"})
	if drafts, _ := n.client.Entries().LinkedDrafts(t.Context(), "a"); len(drafts) != 0 {
		t.Errorf("still %+v", drafts)
	}
	var p *api.Problem
	_, err = n.client.Entries().Edit(
		t.Context(), api.Edit{Type: "page", Save: per{"title": per{"en": "Fine"}}, Do: "publish"},
		api.Edit{Type: "page", Save: per{"lead": "x"}, Do: "publish"},
	)
	if !errors.As(err, &p) || len(p.Problems) != 2 {
		t.Errorf("all or none: %v", err)
	}
	if _, total, _ := n.client.Entries().List(t.Context(), api.EntryFilter{Search: "Fine"}); total != 0 {
		t.Error("half of a write is there")
	}
	copied, err := n.client.Entries().Duplicate(t.Context(), "b")
	if err != nil {
		t.Fatal(err)
	}
	e, err := n.client.Entries().Get(t.Context(), copied.Entries[0].ID)
	if err != nil || e.Title != "B (copy)" || e.State != content.Draft || e.Newest["slug"] != "b-copy" {
		t.Errorf("the copy: %+v %v", e, err)
	}
}

func TestParseMoment(t *testing.T) {
	for text, c := range map[string][2]string{
		"2026-12-01T08:00":          {"Europe/Oslo", "2026-12-01T07:00:00Z"},
		"2026-07-01 08:00:30":       {"Europe/Oslo", "2026-07-01T06:00:30Z"},
		"2026-12-01T08:00:00+09:00": {"", "2026-11-30T23:00:00Z"},
		"2026-12-01T08:01":          {"", "2026-12-01T08:01:00Z"},
		"2026-03-29T02:30":          {"Europe/Oslo", ""}, // clocks are put forward
		"2026-10-25T02:30":          {"Europe/Oslo", ""}, // clocks are put back
		"2026-10-25T02:30:00+02:00": {"Europe/Oslo", "2026-10-25T00:30:00Z"},
		"2026-13-01T08:00":          {"", ""},
		"2026-12-01":                {"", ""},
		"2026-12-01T08:02":          {"Local", ""},
	} {
		at, _, err := authoring.ParseMoment(text, c[0])
		if got := at.UTC().Format(time.RFC3339); (err == nil) != (c[1] != "") || err == nil && got != c[1] ||
			err != nil && !errors.Is(err, authoring.ErrMoment) {
			t.Errorf("%s in %s: %s, %v", text, c[0], got, err)
		}
	}
}

func TestImportTellsWhatIsWrongByLine(t *testing.T) {
	n, _, _ := islesNode(t)
	run := func(text string,
		o api.ImportOptions,
	) (last api.ImportProgress, bad []api.BadLine, err error) {
		err = n.Authoring.Import(t.Context(), strings.NewReader(text), "test", o, func(p api.ImportProgress) {
			bad = append(bad, p.BadLines...)
			last = p
		})
		return last, bad, err
	}
	text := `{"id":"a","type":"page","fields":{"title":{"en":"A"},"parent":"b"},"published":"2026-01-02T03:04:05Z","firstPublished":"2025-01-02T03:04:05Z"}

{"id":"b","type":"page","fields":{"title":{"en":"B"}},"revisions":[{"number":1,"at":"2024-01-01T00:00:00Z","by":"ada","message":"first","fields":{"title":{"en":"Old B"}}}]}
{"id":"a","type":"page","fields":{}}
{"id":"c","type":"page","fields":{"title":{"en":"C"},"slug":"a"}}
not json
{"id":"d","type":"page","fields":{"title":{"en":"D"},"parent":"nobody"}}
`
	if last, bad, err := run(text, api.ImportOptions{Check: true}); err != nil || last.Written != 0 ||
		len(bad) != 3 {
		t.Errorf("checked: %+v %v %v", last, bad, err)
	}
	last, bad, err := run(text, api.ImportOptions{})
	lines := map[int]string{}
	for _, b := range bad {
		lines[b.Line] = b.Reason
	}
	if err != nil || last.Written != 3 || !last.Done || last.Line != 7 || len(bad) != 4 ||
		!strings.Contains(lines[4], "line 1 already") ||
		!strings.Contains(lines[5], "slug") ||
		!strings.Contains(lines[6], "no JSON") ||
		!strings.Contains(lines[7], "nobody") {
		t.Errorf("%+v %v %v", last, bad, err)
	}
	e, err := n.Diagnosis.Entry(t.Context(), "b")
	if err != nil || e.Revision != 2 || e.Revisions[1].By != "ada" || e.Revisions[1].Message != "first" ||
		e.State != content.Draft {
		t.Errorf("the history: %+v %v", e.Revisions, err)
	}
	if _, _, body := n.read(t, "/pages/a?fields=about(published,firstPublished,path)"); !strings.Contains(
		body, "2026-01-02T03:04:05",
	) ||
		!strings.Contains(body, "2025-01-02T03:04:05") {
		t.Errorf("times are not kept: %s", body)
	}
	if last, _, err := run(text, api.ImportOptions{After: 6}); err != nil || last.Written != 0 ||
		last.Same != 1 {
		t.Errorf("again from line 7: %+v %v", last, err)
	}
	var out bytes.Buffer
	if n, err := n.Authoring.Export(t.Context(), &out, nil, "", true); err != nil || n != 3 ||
		!strings.Contains(out.String(), `"message":"first"`) {
		t.Errorf("%d %v %s", n, err, out.String())
	}
	if last, bad, err := run("{\"id\":\"z\",\"type\":\"page\",\"fields\":{\"title\":{\"en\":\""+
		strings.Repeat("x", 5<<20)+"\"}}}\n", api.ImportOptions{}); err != nil ||
		last.Written != 0 ||
		len(bad) != 1 {
		t.Errorf("a line of five megabytes is taken: %+v %v %v", last, bad, err)
	}
}

// TestNothingIsStaleInReferenceCycles edits pages that live below each
// other, link to each other and show each other, at random but repeatably, and
// holds every cached answer against one that is recomputed.
func TestNothingIsStaleInReferenceCycles(t *testing.T) {
	n, _, _ := islesNode(t)
	random := rand.New(rand.NewPCG(7, 11))
	ids := []string{"a", "b", "c", "d", "e", "f"}
	any := func() string { return ids[random.IntN(len(ids))] }
	slugs := []string{"one", "two", "three", "four", "five", "six", "seven"}
	var reads []string
	for _, locale := range []string{"en", "nb"} {
		for _, id := range ids {
			reads = append(
				reads, "/entries/"+id+"?locale="+locale,
				"/entries/"+id+"?fields=about(path),text(html)&locale="+locale,
			)
		}
		for _, s := range slugs {
			reads = append(
				reads,
				"/pages/"+s+"?fields=title,children[limit=2,sort=title](title,about(path)),"+
					"blocks(show(page(title,about(path))))&locale="+locale,
				"/at?path=/"+s+"&fields=title", "/at?path=/one/"+s+"&fields=title,about(path)&locale="+locale,
			)
		}
		reads = append(
			reads, "/pages?fields=title,children(children(title))&sort=title&locale="+locale,
			"/pages?fields=about(path,locales)&translated=only&count=true&locale="+locale,
		)
	}
	moves, refused := 0, 0
	for range 400 {
		fields := per{"title": per{"en": fmt.Sprintf("T%d", random.IntN(4))}, "slug": slugs[random.IntN(len(slugs))]}
		if random.IntN(2) == 0 {
			fields["title"].(per)["nb"] = fmt.Sprintf("N%d", random.IntN(4))
		}
		if random.IntN(2) == 0 {
			fields["parent"] = any()
		}
		if random.IntN(2) == 0 {
			fields["text"] = per{"en": "See [it](ref:" + any() + ")."}
		}
		if random.IntN(3) == 0 {
			fields["blocks"] = []interface{}{per{"block": "show", "page": any()}}
		}
		edit := api.Edit{ID: any(), Type: "page", Save: fields}
		switch random.IntN(9) {
		case 0:
			edit = api.Edit{ID: edit.ID, Do: "unpublish"}
		case 1:
			edit = api.Edit{ID: edit.ID, Do: "delete", EvenIfReferred: true}
		case 2:
			edit = api.Edit{ID: edit.ID, Do: "retire", EvenIfReferred: true}
		case 3:
			edit = api.Edit{ID: edit.ID, Do: "discard"}
		case 4:
			edit.Do, edit.Locales = "publish", []string{"en"}
		default:
			edit.Do = "publish"
		}
		done, err := n.client.Entries().Edit(t.Context(), edit)
		var p *api.Problem
		if errors.As(err, &p) {
			refused++ // a slug that is taken, a reference to nothing, a page above itself
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		moves += done.Changes
		for range 12 {
			path := reads[random.IntN(len(reads))]
			_, how, cached := n.read(t, path)
			c := *n.client
			c.HTTP = &http.Client{
				CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
			}
			fresh, err := c.Do(
				t.Context(), http.MethodGet, "/content/"+n.Replica.Environment()+"/published"+path,
				http.Header{"Prefer": {"recompute"}}, nil,
			)
			if err != nil {
				t.Fatal(err)
			}
			if now := strings.TrimSpace(string(fresh.Body)); cached != now {
				t.Fatalf("%s was answered (%s) with\n%s\nbut it is\n%s\nafter %+v", path, how, cached, now, edit)
			}
		}
	}
	if moves < 150 || refused > 320 {
		t.Errorf("%d changes, %d refused: the test does not try much", moves, refused)
	}
	// What the documents say of paths is what their parents' say.
	for _, id := range ids {
		e, err := n.Diagnosis.Entry(t.Context(), id)
		if err != nil || e.PublishedRevision == 0 || e.Shown["parent"] == nil {
			continue
		}
		path := func(id string) string {
			_, _, body := n.read(t, "/entries/"+id+"?fields=about(path)")
			var out struct{ About struct{ Path *string } }
			if json.Unmarshal([]byte(body), &out) != nil || out.About.Path == nil {
				return ""
			}
			return *out.About.Path
		}
		if own, above := path(id), path(e.Shown["parent"].(string)); own != "" &&
			!strings.HasPrefix(own, strings.TrimSuffix(above, "/")+"/") {
			t.Errorf("%s lives at %s, its parent at %s", id, own, above)
		}
	}
}
