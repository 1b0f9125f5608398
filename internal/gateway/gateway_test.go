package gateway_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/gateway"
	"ubiquon/internal/server"
	"ubiquon/internal/service"
	"ubiquon/internal/store"
	"ubiquon/internal/store/cluster"
	"ubiquon/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// node is one node of a service.
type node struct {
	*gateway.Gateway
	client *client.Client
}

// open starts a node on a store, without origins and sites.
func open(t *testing.T, s *store.Store, secret string) node {
	t.Helper()
	return start(t, gateway.Options{Store: s}, secret)
}

// start starts a node with a key that may do everything.
func start(t *testing.T, o gateway.Options, secret string) node {
	t.Helper()
	o.Log = testkit.Log(t)
	g, err := gateway.Open(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	if err := g.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(g.Close)
	if _, err := g.Authenticate(t.Context(), secret); err != nil {
		if err := g.KeepKey(t.Context(), &access.Key{Name: "test", Grants: service.Everything()}, secret, "test"); err != nil {
			t.Fatal(err)
		}
	}
	web := httptest.NewServer(server.New(server.Options{Gateway: g}))
	t.Cleanup(web.Close)
	return node{g, &client.Client{Address: web.URL, Key: secret}}
}

func (n node) get(t *testing.T, path string, fresh bool) *client.Answer {
	t.Helper()
	h := http.Header{}
	if fresh {
		h.Set("Cache-Control", "no-cache")
	}
	a, err := n.client.Do(t.Context(), http.MethodGet, path, h, nil)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// TestWhatIsServedIsWhatIs makes random edits, and after each one holds what is
// served against what is computed anew: never older, byte for byte.
func TestWhatIsServedIsWhatIs(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	n := open(t, testkit.Store(t, m), access.NewSecret())
	var paths []string
	for _, edition := range content.Editions {
		base := "/content/main/" + edition
		base = strings.Replace(base, "main", n.Environment(), 1)
		for i := range 4 {
			paths = append(paths, fmt.Sprintf("%s/piers/p%d", base, i), fmt.Sprintf("%s/entries/r%d?fields=name,piers(name)&locale=nb", base, i), fmt.Sprintf("%s/routes/r%d?locale=ja&fields=text(plain)", base, i))
		}
		paths = append(paths, base+"/piers?fields=name&sort=name", base+"/piers", base+"/piers?limit=1&sort=-updated&fields=slug&count=true", base+"/routes?sort=number&limit=2&fields=number",
			base+"/routes?locale=nb&fields=name,start(name,piers(slug)),about(filledIn)", base+"/settings?fields=claim",
			base+"/routes?fields=number&sort=number&filter="+url.QueryEscape("number BETWEEN 2 AND 4 AND NOT name = 'Ring'"), base+"/piers?fields=name&limit=2&filter="+url.QueryEscape("CASEI(name) LIKE '%e%' OR slug = 'p1'"),
			base+"/routes?locale=nb&fields=number&filter="+url.QueryEscape("piers.name = 'Mella' OR start.slug = 'p1'"), base+"/routes?count=true&limit=0&filter="+url.QueryEscape("A_CONTAINS(piers, ('p0')) OR updated > now()"),
			base+"/graphql?query="+url.QueryEscape(`{routes(filter:{or:[{piers:{name:{eq:"Tern Rock"}}},{number:{isNull:true}}]}){totalCount,nodes{id}}}`),
			base+"/graphql?query="+`{routes(sort:["-number"],first:2){totalCount,nodes{name,start{__typename...on%20Pier{name}...on%20Route{number}},piers{about{revision}}}}}`)
	}
	r := rand.New(rand.NewPCG(8400, 2))
	pick := func(from ...any) any { return from[r.IntN(len(from))] }
	edit := func() store.Edit {
		switch r.IntN(4) {
		case 0:
			e := store.Edit{ID: fmt.Sprintf("p%d", r.IntN(4)), Type: "pier", Origin: content.Local, Save: content.Fields{"name": pick("Mella", "Østra", "Tern Rock"), "slug": fmt.Sprintf("p%d", r.IntN(4))}}
			e.Live = pick(store.KeepLive, store.PublishNewest, store.PublishNewest).(store.Live)
			return e
		case 1:
			names := map[string]any{"en": pick("Ring", "Line")}
			if r.IntN(2) == 0 {
				names[pick("nb", "ja").(string)] = pick("Ringen", "Linja")
			}
			id := fmt.Sprintf("r%d", r.IntN(4))
			e := store.Edit{ID: id, Type: "route", Origin: content.Local, Save: content.Fields{"name": names, "slug": id, "number": float64(r.IntN(5) + 1),
				"piers": []any{pick("p0", "p1", "p9"), pick("p2", "p3")}, "start": pick("p1", "r1", "r2")}}
			e.Live = pick(store.KeepLive, store.PublishNewest, store.PublishNewest).(store.Live)
			return e
		case 2:
			return store.Edit{ID: pick("p0", "p1", "p2", "p3", "r0", "r1", "r2", "r3").(string), Live: pick(store.TakeBack, store.PublishNewest).(store.Live)}
		default:
			if r.IntN(3) > 0 {
				return store.Edit{ID: "s", Type: "settings", Origin: content.Local, Save: content.Fields{"claim": map[string]any{"en": pick("a", "b")}}, Live: store.PublishNewest}
			}
			return store.Edit{ID: pick("p0", "p1", "r0", "r1").(string), Delete: true}
		}
	}
	stale, kept, expired, needless := 0, 0, 0, 0
	before := map[string]*client.Answer{}
	for step := range 250 {
		for _, p := range paths {
			before[p] = n.get(t, p, false)
		}
		done, err := n.Apply(t.Context(), []store.Edit{edit()}, "test", content.Cause{Kind: "user"})
		if err != nil {
			continue // refused: nothing there to publish, or the slug is taken
		}
		for _, p := range paths {
			served := n.get(t, p, false)
			fresh := n.get(t, p, true)
			if served.Status == 400 {
				t.Fatalf("%s: %s", p, served.Body)
			}
			if served.Status != fresh.Status || !bytes.Equal(served.Body, fresh.Body) {
				stale++
				t.Errorf("step %d, %s, after %+v:\nserved %d %s\nis     %d %s", step, p, done.Changes, served.Status, served.Body, fresh.Status, fresh.Body)
			}
			switch hit := served.Header.Get("Cache-Status") == "Ubiquon; hit"; {
			case hit:
				kept++
			default:
				expired++
				if bytes.Equal(served.Body, before[p].Body) && served.Status == before[p].Status {
					needless++
				}
			}
		}
		if stale > 3 {
			t.FailNow()
		}
	}
	t.Logf("%d answers kept, %d expired, of these %d although unchanged", kept, expired, needless)
	if kept == 0 || expired == 0 {
		t.Error("nothing was kept, or nothing expired: the test tests nothing")
	}
}

// TestAnotherNodeFollows publishes on one node and reads on another.
func TestAnotherNodeFollows(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	s := testkit.Store(t, m)
	secret := access.NewSecret()
	a := open(t, s, secret)
	b := open(t, s, secret)
	path := "/content/" + a.Environment() + "/published/piers?fields=name"
	b.get(t, path, false)
	if how := b.get(t, path, false).Header.Get("Cache-Status"); how != "Ubiquon; hit" {
		t.Fatalf("before: %s", how)
	}
	done, err := a.Apply(t.Context(), []store.Edit{{ID: "p1", Type: "pier", Origin: content.Local, Save: content.Fields{"name": "Mella"}, Live: store.PublishNewest}}, "test", content.Cause{Kind: "user"})
	if err != nil {
		t.Fatal(err)
	}
	begin := time.Now()
	testkit.Eventually(t, "the other node shows it", func() bool { return strings.Contains(string(b.get(t, path, false).Body), "Mella") })
	if took := time.Since(begin); took > 2*time.Second {
		t.Errorf("after %v: that is longer than the lease", took)
	}
	h := http.Header{"Ubiquon-Min-Sequence": {fmt.Sprint(done.Sequence)}}
	if answer, err := b.client.Do(t.Context(), http.MethodGet, path, h, nil); err != nil || answer.Status != 200 {
		t.Errorf("at or after the publish: %v %s", err, answer.Body)
	}
	if err := s.ApplyModel(t.Context(), testkit.Model(t, strings.Replace(testkit.Ferries, "max: 40", "max: 41", 1)), content.Cause{Kind: "model"}, store.ModelOptions{}); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "both nodes have the new model", func() bool {
		return *a.Model().Type("pier").Field("name").Max == 41 && *b.Model().Type("pier").Field("name").Max == 41
	})
	if a := b.get(t, path, false); a.Status != 200 || !strings.Contains(string(a.Body), "Mella") {
		t.Errorf("with the new model: %d %s", a.Status, a.Body)
	}
}

// TestARestoredDatabaseIsNoticed winds the change log back, as restoring an
// older copy does, and lets it grow again.
func TestARestoredDatabaseIsNoticed(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	ctx := t.Context()
	write := func(name string) {
		t.Helper()
		if _, err := n.Apply(ctx, []store.Edit{{ID: "p1", Type: "pier", Origin: content.Local, Save: content.Fields{"name": name, "slug": "p"}, Live: store.PublishNewest}}, "test", content.Cause{Kind: "user"}); err != nil {
			t.Fatal(err)
		}
	}
	write("Before")
	path := "/content/" + n.Environment() + "/published/piers/p?fields=name"
	if a := n.get(t, path, false); !strings.Contains(string(a.Body), "Before") {
		t.Fatalf("%s", a.Body)
	}
	for _, sql := range []string{`update document set fields = jsonb_set(fields, '{name}', '"Restored"') where environment = $1`,
		`delete from change where environment = $1 and sequence > 2`} {
		if _, err := s.Pool.Exec(ctx, sql, s.Environment); err != nil {
			t.Fatal(err)
		}
	}
	testkit.Eventually(t, "the restored state is served", func() bool { return strings.Contains(string(n.get(t, path, false).Body), "Restored") })
}

// TestStampede has many readers ask for the same thing at once.
func TestStampede(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	path := "/content/" + n.Environment() + "/published/routes?fields=name,piers(name)"
	var wg sync.WaitGroup
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	for range 200 {
		wg.Go(func() {
			if a, err := n.client.Do(ctx, http.MethodGet, path, nil, nil); err != nil || a.Status != 200 {
				t.Errorf("%v %+v", err, a)
			}
		})
	}
	wg.Wait()
	if s := n.CacheStats(); s.Misses != 1 || s.Hits+s.Joined != 199 {
		t.Errorf("%d computations for 200 readers: %+v", s.Misses, s)
	}
}

func TestTheSchemaFollowsTheModel(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	sdl := n.Schema().SDL
	for _, want := range []string{"type Route implements Node", "enum RouteSeason", "union RouteStart = Pier | Route", "routes(\n", "settings(\n", "type RouteConnection"} {
		if !strings.Contains(sdl, want) {
			t.Errorf("the schema lacks %q", want)
		}
	}
}

// TestWithoutTheDatabase takes the database away: what is held is served for as
// long as the lease lasts, and then nothing, rather than something old.
func TestWithoutTheDatabase(t *testing.T) {
	dir, err := os.MkdirTemp("/tmp", "ubiquon-away-")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	c, err := cluster.Start(t.Context(), cluster.Options{Dir: dir, Scratch: true})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Stop()
	s, err := store.Open(t.Context(), store.Options{URL: c.URL, Environment: "main"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.ApplyModel(t.Context(), testkit.Model(t, testkit.Ferries), content.Cause{Kind: "model"}, store.ModelOptions{}); err != nil {
		t.Fatal(err)
	}
	n := open(t, s, access.NewSecret())
	const held, unheld = "/content/main/published/piers", "/content/main/published/routes"
	if a := n.get(t, held, false); a.Status != 200 {
		t.Fatalf("%d %s", a.Status, a.Body)
	}
	c.Stop()
	if a := n.get(t, held, false); a.Status != 200 || a.Header.Get("Cache-Status") != "Ubiquon; hit" {
		t.Errorf("within the lease: %d %s", a.Status, a.Body)
	}
	if a := n.get(t, unheld, false); a.Status != 503 || strings.Contains(string(a.Body), "127.0.0.1") {
		t.Errorf("what is not held: %d %s", a.Status, a.Body)
	}
	testkit.Eventually(t, "the lease ends", func() bool {
		a := n.get(t, held, false)
		return a.Status == 503 && a.Header.Get("Retry-After") != ""
	})
	if a := n.get(t, "/health/ready", false); a.Status != 503 {
		t.Errorf("ready: %d", a.Status)
	}
	if a := n.get(t, "/health/live", false); a.Status != 200 {
		t.Errorf("live: %d", a.Status)
	}
}
