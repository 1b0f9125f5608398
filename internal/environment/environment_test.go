package environment_test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/cache"
	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/seal"
	"ubiquon/internal/environment"
	"ubiquon/internal/server"
	"ubiquon/internal/service"
	"ubiquon/internal/settings"
	"ubiquon/internal/store"
	"ubiquon/internal/store/cluster"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/conformity"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// node is one node of a service.
type node struct {
	*environment.Environment
	client *client.Client
}

// open starts a node on a store, without origins and sites.
func open(t testing.TB, s *store.Store, secret string) node {
	t.Helper()
	return start(t, environment.Options{Store: s}, secret)
}

// secretKeys are those of all nodes of the tests.
var secretKeys, _ = seal.ReadRing(seal.NewKey())

// start starts a node with a key that may do everything.
func start(t testing.TB, o environment.Options, secret string) node {
	t.Helper()
	o.Log = testkit.Log(t)
	o.SecretKeys = secretKeys
	o.Settings.Apply = o.Settings.Apply || !reflect.DeepEqual(o.Settings, settings.Seed{})
	if o.Cache.Refresh == nil {
		o.Cache.Refresh = func(*cache.Response) {} // tests tell what is held from what is computed
	}
	g, err := environment.Open(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	handler := server.New(server.Options{Environment: g})
	if err := g.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(g.Close)
	if _, err := g.Keys.Authenticate(t.Context(), secret, "", time.Now()); err != nil {
		if err := g.Keys.KeepKey(t.Context(), &access.Key{Name: "test", Grants: service.Everything()}, secret,
			"test"); err != nil {
			t.Fatal(err)
		}
	}
	web := conformity.Serve(t, handler)
	t.Cleanup(web.Close)
	return node{g, &client.Client{Address: web.URL, Key: secret}}
}

func (n node) get(t *testing.T, path string, fresh bool) *client.Answer {
	t.Helper()
	h := http.Header{}
	if fresh {
		h.Set("Prefer", "recompute")
	}
	a, err := n.client.Do(t.Context(), http.MethodGet, path, h, nil)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// TestSecondNodeFollowsChanges publishes on one node and reads on another.
func TestSecondNodeFollowsChanges(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	s := testkit.Store(t, m)
	secret := access.NewSecret()
	a := open(t, s, secret)
	b := open(t, s, secret)
	path := "/content/" + a.Replica.Environment() + "/published/piers?fields=name"
	b.get(t, path, false)
	if how := b.get(t, path, false).Header.Get("Cache-Status"); !testkit.Hit(how) {
		t.Fatalf("before: %s", how)
	}
	done, err := a.Authoring.Apply(
		t.Context(),
		[]writing.Edit{
			{
				ID:     "p1",
				Type:   "pier",
				Origin: content.Local,
				Save:   content.Fields{"name": "Mella"},
				Live:   writing.PublishNewest,
			},
		},
		"test",
		content.Cause{Kind: "user"},
	)
	if err != nil {
		t.Fatal(err)
	}
	begin := time.Now()
	testkit.Eventually(
		t, "the other node shows it",
		func() bool { return strings.Contains(string(b.get(t, path, false).Body), "Mella") },
	)
	if took := time.Since(begin); took > 2*time.Second {
		t.Errorf("after %v: that is longer than the lease", took)
	}
	h := http.Header{"Ubiquon-Min-Sequence": {fmt.Sprint(done.Sequence)}}
	if answer, err := b.client.Do(t.Context(), http.MethodGet, path, h, nil); err != nil || answer.Status != 200 {
		t.Errorf("at or after the publish: %v %s", err, answer.Body)
	}
	if err := s.Writer.ApplyModel(t.Context(),
		testkit.Model(t, strings.Replace(testkit.Ferries, "max: 40", "max: 41", 1)), content.Cause{Kind: "model"},
		writing.ModelOptions{}); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "both nodes have the new model", func() bool {
		return *a.Replica.Model().Type("pier").Field("name").Max == 41 &&
			*b.Replica.Model().Type("pier").Field("name").Max == 41
	})
	if a := b.get(t, path, false); a.Status != 200 || !strings.Contains(string(a.Body), "Mella") {
		t.Errorf("with the new model: %d %s", a.Status, a.Body)
	}
}

// TestRestoredDatabaseIsDetected winds the change log back, as restoring an
// older copy does, and lets it grow again.
func TestRestoredDatabaseIsDetected(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	ctx := t.Context()
	write := func(name string) {
		t.Helper()
		if _, err := n.Authoring.Apply(ctx,
			[]writing.Edit{{
				ID: "p1", Type: "pier", Origin: content.Local,
				Save: content.Fields{"name": name, "slug": "p"}, Live: writing.PublishNewest,
			}}, "test",
			content.Cause{Kind: "user"}); err != nil {
			t.Fatal(err)
		}
	}
	write("Before")
	path := "/content/" + n.Replica.Environment() + "/published/piers/p?fields=name"
	if a := n.get(t, path, false); !strings.Contains(string(a.Body), "Before") {
		t.Fatalf("%s", a.Body)
	}
	for _, sql := range []string{
		`update document set fields = jsonb_set(fields, '{name}', '"Restored"') where
		environment = $1`,
		`delete from change where environment = $1 and sequence > 2`,
	} {
		if _, err := s.DB.Pool.Exec(ctx, sql, s.Environment); err != nil {
			t.Fatal(err)
		}
	}
	testkit.Eventually(
		t, "the restored state is served",
		func() bool { return strings.Contains(string(n.get(t, path, false).Body), "Restored") },
	)
}

// TestStampede has many readers ask for the same thing at once.
func TestStampede(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	path := "/content/" + n.Replica.Environment() + "/published/routes?fields=name,piers(name)"
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
	if s := n.Delivery.CacheStats(); s.Misses != 1 || s.Hits+s.Joined != 199 {
		t.Errorf("%d computations for 200 readers: %+v", s.Misses, s)
	}
}

func TestTheSchemaFollowsTheModel(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	sdl := n.Delivery.Schema().SDL
	for _, want := range []string{"type Route implements Node", "enum RouteSeason", "union RouteStart = Pier | " +
		"Route", "routes(\n", "settings(\n", "type RouteConnection"} {
		if !strings.Contains(sdl, want) {
			t.Errorf("the schema lacks %q", want)
		}
	}
}

// TestWithoutTheDatabase takes the database away: what is held is served for as
// long as the lease lasts, and then nothing, rather than something old.
func TestWithoutTheDatabase(t *testing.T) {
	t.Parallel() // it waits for the most part
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
	s, err := store.Open(t.Context(), "main", db.Options{URL: c.URL})
	if err != nil {
		t.Fatal(err)
	}
	defer s.DB.Close()
	if err := s.Writer.ApplyModel(t.Context(), testkit.Model(t, testkit.Ferries), content.Cause{Kind: "model"},
		writing.ModelOptions{}); err != nil {
		t.Fatal(err)
	}
	n := open(t, s, access.NewSecret())
	const held, unheld = "/content/main/published/piers", "/content/main/published/routes"
	if a := n.get(t, held, false); a.Status != 200 {
		t.Fatalf("%d %s", a.Status, a.Body)
	}
	c.Stop()
	if a := n.get(t, held, false); a.Status != 200 || !testkit.Hit(a.Header.Get("Cache-Status")) {
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
