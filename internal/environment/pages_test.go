package environment_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"ubiquon/internal/api"
	"ubiquon/internal/automation"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/pages"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/environment"
	"ubiquon/internal/outbound"
	"ubiquon/internal/settings"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

// builtSite is a site with a page for each pier and one that lists the first two, and says what it
// reads for which.
type builtSite struct {
	node
	t   *testing.T
	key string

	mu     sync.Mutex
	orders []automation.Order
}

func newBuiltSite(t *testing.T) *builtSite {
	t.Helper()
	y := &builtSite{t: t}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var order automation.Order
		if err := json.NewDecoder(r.Body).Decode(&order); err != nil {
			http.Error(w, err.Error(), 400)
			return
		}
		y.mu.Lock()
		defer y.mu.Unlock()
		y.orders = append(y.orders, order)
		w.WriteHeader(202)
	}))
	t.Cleanup(web.Close)
	y.node = start(t, environment.Options{
		Store: testkit.Store(t, testkit.Model(t, testkit.Ferries)), Outbound: outbound.Options{Private: true},
		Address: "http://gateway.example",
		Settings: settings.Seed{Sites: map[string]rebuild.Site{"web": {Address: web.URL, Build: &rebuild.Call{
			Call: web.URL, Secret: hookSecret,
			Quiet: strictyaml.Duration(10 * time.Millisecond), AtMost: strictyaml.Duration(time.Second),
		}}}},
	}, access.NewSecret())
	y.mayRead()
	return y
}

// mayRead gives the site its key.
func (y *builtSite) mayRead() {
	y.t.Helper()
	var err error
	if _, y.key, err = y.Keys.CreateKey(y.t.Context(), access.Key{
		Name: "web", Site: "web", Grants: access.Grants{{Verb: "read", Edition: "published", Type: "*"}},
	}, "test"); err != nil {
		y.t.Fatal(err)
	}
}

// ordered waits for the order of a number, from 0.
func (y *builtSite) ordered(n int) automation.Order {
	y.t.Helper()
	var out automation.Order
	testkit.Eventually(y.t, fmt.Sprintf("order %d", n), func() bool {
		y.mu.Lock()
		defer y.mu.Unlock()
		if len(y.orders) <= n {
			return false
		}
		out = y.orders[n]
		return true
	})
	return out
}

// read reads for a page.
func (y *builtSite) read(mark, path string) (int, string) {
	y.t.Helper()
	req, err := http.NewRequest("GET", y.client.Address+"/content/"+y.Replica.Environment()+"/published"+path, nil)
	if err != nil {
		y.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+y.key)
	req.Header.Set(pages.Header, mark)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		y.t.Fatal(err)
	}
	defer resp.Body.Close()
	body, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(body)
}

// build does what an order says, and reports it.
func (y *builtSite) build(o automation.Order, state string) {
	y.t.Helper()
	mark := func(page string) string { return fmt.Sprintf("%q; build=\"%d\"", page, o.Number) }
	asked := []string(o.Pages)
	if pages.Asked(o.Pages).IsAll() {
		_, list := y.read(mark(""), "/piers?fields=slug&sort=slug")
		var piers struct{ Items []struct{ Slug string } }
		if err := json.Unmarshal([]byte(list), &piers); err != nil {
			y.t.Fatal(err)
		}
		asked = []string{"/"}
		for _, p := range piers.Items {
			asked = append(asked, "/piers/"+p.Slug)
		}
	}
	for _, page := range asked {
		if page == "/" {
			y.read(mark(page), "/piers?fields=name&sort=name&limit=2")
		} else if status, body := y.read(mark(page), page+"?fields=name"); status != 200 && status != 404 {
			y.t.Fatal(status, body)
		}
	}
	a, err := (&clientOf{y.client.Address, y.key}).post(
		"/builds/"+o.Build+"/reports",
		map[string]string{"state": state},
	)
	if err != nil || a != 200 {
		y.t.Fatal(a, err)
	}
}

type clientOf struct{ address, key string }

func (c *clientOf) post(path string, body any) (int, error) {
	src, _ := json.Marshal(body)
	req, err := http.NewRequest("POST", c.address+"/control/v1"+path, strings.NewReader(string(src)))
	if err != nil {
		return 0, err
	}
	req.Header.Set("Authorization", "Bearer "+c.key)
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err
	}
	resp.Body.Close()
	return resp.StatusCode, nil
}

// publish publishes piers, by name; the slug is the id.
func (y *builtSite) publish(piers ...string) {
	y.t.Helper()
	var edits []writing.Edit
	for _, p := range piers {
		id, name, _ := strings.Cut(p, "=")
		e := writing.Edit{
			ID: content.MakeID(content.Local, "pier", id), Type: "pier", Origin: content.Local, Loose: true,
			Live: writing.PublishNewest, Save: content.Fields{"name": name, "slug": id},
		}
		if name == "" {
			e.Save, e.Live, e.Delete, e.EvenIfReferred = nil, 0, true, true
		}
		edits = append(edits, e)
	}
	if _, err := y.Authoring.Apply(y.t.Context(), edits, "test", content.Cause{Kind: "user"}); err != nil {
		y.t.Fatal(err)
	}
}

// stale are the pages that are, once the ledger has come as far as the content.
func (y *builtSite) stale() []string {
	y.t.Helper()
	out := []string{}
	testkit.Eventually(y.t, "the ledger knows", func() bool {
		all, err := y.Pages.List(y.t.Context(), api.PageFilter{Site: "web", Limit: 1000})
		if err != nil {
			y.t.Fatal(err)
		}
		out = out[:0]
		for _, p := range all.Items {
			if p.StaleSince != nil {
				out = append(out, p.Page)
			}
		}
		if all.Ledger.Structure {
			out = append(out, "structure")
		}
		return all.Ledger.Position >= y.Replica.Applied()
	})
	return out
}

// last is the build that was asked for last, once it is in a state.
func (y *builtSite) last(state rebuild.State) rebuild.Build {
	y.t.Helper()
	var b rebuild.Build
	testkit.Eventually(y.t, "the last build is "+string(state), func() bool {
		all, err := y.Automation.Builds(y.t.Context(), api.BuildFilter{Site: "web"})
		if err != nil || len(all) == 0 {
			return false
		}
		b = all[0]
		return b.State == state
	})
	return b
}

// TestABuildRendersWhatIsStale builds a site whose pages say what they read, whole, in part, and
// not at all.
func TestABuildRendersWhatIsStale(t *testing.T) {
	y := newBuiltSite(t)
	y.publish("mella=Mella", "north=North Quay", "tern=Tern Rock")
	if _, err := y.Automation.Rebuild(t.Context(), "web", "ada", true); err != nil {
		t.Fatal(err)
	}
	o := y.ordered(0)
	if !pages.Asked(o.Pages).IsAll() {
		t.Errorf("the first build is of %v", o.Pages)
	}
	y.build(o, "finished")
	testkit.Eventually(t, "the build is promoted", func() bool {
		all, err := y.Pages.List(t.Context(), api.PageFilter{Site: "web"})
		return err == nil && len(all.Items) == 4 && all.Ledger.Position > 0 && all.Ledger.Reads == 5
	})
	if got := y.stale(); len(got) > 0 {
		t.Errorf("stale after the build: %v", got)
	}

	y.publish("tern=Tern Islet") // on its own page alone: the list shows the first two by name
	o = y.ordered(1)
	if !slices.Equal(o.Pages, []string{"/piers/tern"}) || len(o.Causes) != 1 || o.Causes[0].Type != "pier" {
		t.Errorf("ordered %+v", o)
	}
	if b := y.last(rebuild.Running); !slices.Equal(b.Pages, []string{"/piers/tern"}) {
		t.Errorf("the build is of %v", b.Pages)
	}
	// While it runs there is another change; and what it reads comes before the one after that.
	y.publish("mella=Mella Quay")
	y.build(o, "finished")
	o = y.ordered(2)
	if !slices.Equal(o.Pages, []string{"/", "/piers/mella"}) {
		t.Errorf("ordered %+v", o)
	}
	y.build(o, "failed")
	if got := y.stale(); !slices.Equal(got, []string{"/", "/piers/mella"}) {
		t.Errorf("stale after a failure: %v", got)
	}
	o = y.ordered(3) // it is tried again
	if !slices.Equal(o.Pages, []string{"/", "/piers/mella"}) {
		t.Errorf("ordered again %+v", o)
	}
	y.build(o, "finished")
	testkit.Eventually(t, "nothing is stale", func() bool { return len(y.stale()) == 0 })

	y.publish("ostra=Østra") // is seen by the structure, and is in no list of two
	o = y.ordered(4)
	if !pages.Asked(o.Pages).IsAll() {
		t.Errorf("a new pier: ordered %v", o.Pages)
	}
	y.build(o, "finished")
	testkit.Eventually(t, "there are five pages", func() bool {
		all, err := y.Pages.List(t.Context(), api.PageFilter{Site: "web"})
		return err == nil && len(all.Items) == 5 && all.Ledger.Stale == 0
	})

	// A node dies that held what pages have read: nobody knows what that was.
	if err := y.Replica.Store().Pages.Hold(t.Context(), "web", uuid.NewString()); err != nil {
		t.Fatal(err)
	}
	o = y.ordered(5)
	if !pages.Asked(o.Pages).IsAll() || len(o.Causes) != 1 || o.Causes[0].What != "registrations lost" {
		t.Errorf("after a death: ordered %+v", o)
	}
	y.build(o, "finished")
	testkit.Eventually(t, "nothing is missing any more", func() bool {
		all, err := y.Pages.List(t.Context(), api.PageFilter{Site: "web"})
		return err == nil && all.Ledger.Lost == nil && all.Ledger.Unjudged == 0
	})
	// A change of nothing that the site shows builds nothing, and says so.
	if _, err := y.Replica.Store().Builds.Request(t.Context(), "web", []rebuild.Cause{{What: "published"}},
		y.Replica.Applied(), true); err != nil {
		t.Fatal(err)
	}
	y.Automation.PagesJudged("web")
	if b := y.last(rebuild.Skipped); len(b.Pages) != 0 ||
		!strings.Contains(b.Log[len(b.Log)-1].What, "no page of the site") {
		t.Errorf("skipped %+v", b)
	}
}

// TestAStalePageIsRefreshed has pages rendered on demand, and tells the site of those that are
// stale: of those alone, again until it takes the call, and no more once they are rendered.
func TestAStalePageIsRefreshed(t *testing.T) {
	var mu sync.Mutex
	var told []automation.StalePages
	refuse, done := 0, false
	y := &builtSite{t: t}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		var event struct {
			Type string
			Data automation.StalePages
		}
		if err := json.NewDecoder(r.Body).Decode(&event); err != nil || event.Type != "pages-stale" {
			http.Error(w, "no event", 400)
			return
		}
		if refuse > 0 {
			refuse--
			http.Error(w, "the tide is out", 503)
			return
		}
		told = append(told, event.Data)
		answer := map[string]any{}
		if done {
			answer["done"] = []string{event.Data.Pages[0].Path}
		}
		_ = json.NewEncoder(w).Encode(answer)
	}))
	t.Cleanup(web.Close)
	y.node = start(t, environment.Options{
		Store: testkit.Store(t, testkit.Model(t, testkit.Ferries)), Outbound: outbound.Options{Private: true},
		Settings: settings.Seed{Sites: map[string]rebuild.Site{
			"web": {Address: web.URL, Refresh: &rebuild.Refresh{Call: web.URL, Secret: hookSecret}},
		}},
	}, access.NewSecret())
	y.mayRead()
	heard := func(n int) automation.StalePages {
		t.Helper()
		testkit.Eventually(t, fmt.Sprintf("the site is told for the %d. time", n), func() bool {
			mu.Lock()
			defer mu.Unlock()
			return len(told) >= n
		})
		mu.Lock()
		defer mu.Unlock()
		return told[n-1]
	}
	y.publish("mella=Mella", "ostra=Østra")
	for _, p := range []string{"mella", "ostra"} {
		y.read(fmt.Sprintf("\"/%s\"; render=\"1\"", p), "/piers/"+p+"?fields=name")
		y.read(fmt.Sprintf("\"/%s\"; render=\"1\"", p), "/piers?count=true&limit=0")
	}
	if got := y.stale(); len(got) > 0 {
		t.Errorf("stale at once: %v", got)
	}
	y.publish("mella=Mella Quay")
	first := heard(1)
	if len(first.Pages) != 1 || first.Pages[0].Path != "/mella" || first.Pages[0].Since == 0 || first.All ||
		len(first.Pages[0].Causes) != 1 || !slices.Equal(first.Reads, []string{"/piers/mella?fields=name"}) {
		t.Errorf("told %+v", first)
	}
	if got := y.stale(); !slices.Equal(got, []string{"/mella"}) {
		t.Errorf("told, and not rendered: %v", got)
	}
	y.read(`"/mella"; render="2"`, "/piers/mella?fields=name")
	testkit.Eventually(t, "it is rendered", func() bool { return len(y.stale()) == 0 })

	mu.Lock()
	refuse, done = 1, true
	mu.Unlock()
	y.publish("ostra=Østra Quay")
	if second := heard(2); len(second.Pages) != 1 || second.Pages[0].Path != "/ostra" {
		t.Errorf("told %+v", second)
	}
	testkit.Eventually(t, "what is said to be done counts", func() bool { return len(y.stale()) == 0 })

	// What it did not take, and would be told of much later, it is told of once it takes another call.
	mu.Lock()
	refuse = 1
	mu.Unlock()
	y.publish("ostra=Østra Pier")
	testkit.Eventually(t, "it is not taken", func() bool {
		all, err := y.Pages.List(t.Context(), api.PageFilter{Site: "web", Page: "/ostra"})
		return err == nil && all.Items[0].Failed != ""
	})
	if _, err := y.Replica.Store().DB.Pool.Exec(t.Context(), `update page set not_before = clock_timestamp() +
		interval '1 hour' where site = 'web' and path = '/ostra'`); err != nil {
		t.Fatal(err)
	}
	y.publish("mella=Mella Pier")
	if a, b := heard(3), heard(4); a.Pages[0].Path != "/mella" || b.Pages[0].Path != "/ostra" {
		t.Errorf("told %+v, then %+v", a, b)
	}
	testkit.Eventually(t, "both are done", func() bool { return len(y.stale()) == 0 })

	// A pier less: both pages count them, and one shows it no more.
	mu.Lock()
	done = false
	mu.Unlock()
	y.publish("mella=")
	third := heard(5)
	if len(third.Pages) != 2 || !third.Pages[0].Gone || third.Pages[1].Gone {
		t.Errorf("told %+v", third)
	}
}

// TestABuilderHandsInAManifest reads everything once, and says afterwards which page is made of what.
func TestABuilderHandsInAManifest(t *testing.T) {
	y := newBuiltSite(t)
	y.publish("mella=Mella", "north=North Quay", "tern=Tern Rock")
	if _, err := y.Automation.Rebuild(t.Context(), "web", "ada", true); err != nil {
		t.Fatal(err)
	}
	o := y.ordered(0)
	mark := fmt.Sprintf("\"\"; build=\"%d\"", o.Number)
	y.read(mark, "/piers?fields=name&sort=name")
	mella := content.MakeID(content.Local, "pier", "mella")
	hand := func(build, body string) (int, string) {
		t.Helper()
		req, err := http.NewRequest("POST", y.client.Address+"/content/"+y.Replica.Environment()+
			"/published/pages?build="+build, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+y.key)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		out, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(out)
	}
	for _, c := range []struct{ build, body, want string }{
		{"", `{"page": "/"}`, "say of which build"},
		{"7", `{"page": "/"}`, "build 7 of web"},
		{o.Build, "{\"page\": \"/\"}\nnonsense\n", "line 2: it is no JSON"},
		{o.Build, `{"page": "here"}`, "does not begin with a slash"},
	} {
		if status, out := hand(c.build, c.body); status != 400 || !strings.Contains(out, c.want) {
			t.Errorf("%q: %d %s", c.body, status, out)
		}
	}
	status, out := hand(o.Build, `{"page": "/", "reads": ["/piers?fields=name&sort=name"]}
{"page": "/mella", "entries": ["`+mella+`"]}

{"page": "", "reads": ["/piers?fields=slug&sort=slug"]}
`)
	if status != 200 || out != `{"pages":3,"reads":3,"unknown":0}`+"\n" {
		t.Errorf("%d %s", status, out)
	}
	if a, err := (&clientOf{y.client.Address, y.key}).post("/builds/"+o.Build+"/reports",
		map[string]string{"state": "finished"}); err != nil || a != 200 {
		t.Fatal(a, err)
	}
	if got := y.stale(); len(got) > 0 {
		t.Errorf("stale: %v", got)
	}
	for _, c := range []struct {
		publish string
		stale   []string
	}{
		{"tern=Tern Islet", []string{"/"}},
		{"mella=Mella Quay", []string{"/", "/mella"}},
		{"ostra=Østra", []string{"/", "/mella", "structure"}},
	} {
		y.publish(c.publish)
		if got := y.stale(); !slices.Equal(got, c.stale) {
			t.Errorf("after %s: %v", c.publish, got)
		}
	}
	// What was changed since the build was called, and not said to be read, is not known.
	if status, out := hand(o.Build, `{"page": "/", "reads": ["/piers?fields=name&limit=1"]}`); status != 200 ||
		out != `{"pages":1,"reads":1,"unknown":1}`+"\n" {
		t.Errorf("%d %s", status, out)
	}
}
