package environment_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/automation"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/environment"
	"ubiquon/internal/outbound"
	"ubiquon/internal/settings"
	"ubiquon/internal/store/pages"
	"ubiquon/internal/testkit"
)

// toldSite is a site that is told of its stale pages, and may be built, too.
type toldSite struct {
	*builtSite
	mu     sync.Mutex
	told   []automation.StalePages
	refuse bool
}

func newToldSite(t *testing.T, site rebuild.Site) *toldSite {
	t.Helper()
	s := &toldSite{builtSite: &builtSite{t: t}}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/build" {
			var order automation.Order
			_ = json.NewDecoder(r.Body).Decode(&order)
			s.builtSite.mu.Lock()
			defer s.builtSite.mu.Unlock()
			s.orders = append(s.orders, order)
			return
		}
		var event struct{ Data automation.StalePages }
		_ = json.NewDecoder(r.Body).Decode(&event)
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.refuse {
			http.Error(w, "the tide is out", http.StatusServiceUnavailable)
			return
		}
		s.told = append(s.told, event.Data)
		done := []string{}
		for _, p := range event.Data.Pages {
			done = append(done, p.Path)
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"done": done})
	}))
	t.Cleanup(web.Close)
	site.Address, site.Refresh.Call = web.URL, web.URL+"/refresh"
	if site.Build != nil {
		site.Build.Call = web.URL + "/build"
	}
	s.node = start(t, environment.Options{
		Store: testkit.Store(t, testkit.Model(t, testkit.Ferries)), Outbound: outbound.Options{Private: true},
		Address: "http://gateway.example", Settings: settings.Seed{Sites: map[string]rebuild.Site{"web": site}},
	}, access.NewSecret())
	s.mayRead()
	return s
}

// heard waits until the site was told for the n-th time, and returns of what.
func (s *toldSite) heard(n int) automation.StalePages {
	s.t.Helper()
	testkit.Eventually(s.t, fmt.Sprintf("the site is told for the %d. time", n), func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return len(s.told) >= n
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.told[n-1]
}

func (s *toldSite) calls() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.told)
}

// TestFewPagesAreRefreshedAndManyBuilt has a site that is refreshed and built: each stale page is looked
// after in one way.
func TestFewPagesAreRefreshedAndManyBuilt(t *testing.T) {
	s := newToldSite(t, rebuild.Site{
		RefreshUpTo: 2, Refresh: &rebuild.Refresh{Secret: hookSecret},
		Build: &rebuild.Call{
			Secret: hookSecret,
			Quiet:  strictyaml.Duration(10 * time.Millisecond), AtMost: strictyaml.Duration(time.Second),
		},
	})
	s.publish("mella=Mella", "north=North Quay", "tern=Tern Rock", "west=West Pier")
	if _, err := s.Automation.Rebuild(t.Context(), "web", "ada", true); err != nil {
		t.Fatal(err)
	}
	s.build(s.ordered(0), "finished")
	testkit.Eventually(t, "the build is promoted", func() bool {
		all, err := s.Pages.List(t.Context(), api.PageFilter{Site: "web"})
		return err == nil && len(all.Items) == 5 && all.Ledger.Unjudged == 0
	})
	if got := s.stale(); len(got) > 0 {
		t.Fatalf("stale after the build: %v", got)
	}

	// Of two pages, the one that is asked for is told of first.
	for range 20 {
		s.node.read(t, "/piers/west?fields=name")
	}
	s.publish("tern=Tern Islet", "west=West Quay")
	first := s.heard(1)
	if len(first.Pages) != 2 || first.Pages[0].Path != "/piers/west" || first.Pages[1].Path != "/piers/tern" {
		t.Errorf("told %+v", first)
	}
	testkit.Eventually(t, "they are done", func() bool { return len(s.stale()) == 0 })

	// A page that is being refreshed is not built by what asks for a build besides.
	s.mu.Lock()
	s.refuse = true
	s.mu.Unlock()
	s.publish("tern=Tern Rock")
	if got := s.stale(); !slices.Equal(got, []string{"/piers/tern"}) {
		t.Errorf("stale: %v", got)
	}
	if _, err := s.Replica.Store().Builds.Request(t.Context(), "web", []rebuild.Cause{{What: "published"}},
		s.Replica.Applied(), true); err != nil {
		t.Fatal(err)
	}
	s.Automation.PagesJudged("web")
	if b := s.last(rebuild.Skipped); !strings.HasSuffix(b.Log[len(b.Log)-1].What, "refreshed instead: 1") {
		t.Errorf("skipped %+v", b)
	}

	// With two more there are too many to be refreshed: all three are built, and the site is told of none.
	s.publish("mella=Mella Quay")
	o := s.ordered(1)
	if want := []string{"/", "/piers/mella", "/piers/tern"}; !slices.Equal(o.Pages, want) {
		t.Errorf("ordered %v, not %v", o.Pages, want)
	}
	s.mu.Lock()
	s.refuse = false
	s.mu.Unlock()
	s.build(o, "finished")
	testkit.Eventually(t, "nothing is stale", func() bool { return len(s.stale()) == 0 })
	if n := s.calls(); n != 1 {
		t.Errorf("the site was told %d times", n)
	}
}

// TestALargeSiteIsStaleAsAWhole has more pages than are known one by one: a change of what the others read
// makes all of the site stale, one of something else does not.
func TestALargeSiteIsStaleAsAWhole(t *testing.T) {
	s := newToldSite(t, rebuild.Site{KnownUpTo: 1, Refresh: &rebuild.Refresh{Secret: hookSecret}})
	s.publish("mella=Mella", "north=North Quay", "tern=Tern Rock", "west=West Pier", "ostra=Østra")
	reads := func(page, pier string) {
		s.read(fmt.Sprintf(`"/%s"; render="1"`, page), "/piers/"+pier+"?fields=name")
	}
	ledger := func() api.PageLedger {
		all, err := s.Pages.List(t.Context(), api.PageFilter{Site: "web"})
		if err != nil {
			t.Fatal(err)
		}
		return all.Ledger
	}
	for _, p := range []string{"mella", "north", "tern", "west"} {
		reads(p, p)
	}
	n := 0
	testkit.Eventually(t, "what comes now has no place", func() bool {
		n++
		reads(fmt.Sprintf("more-%d", n), "ostra")
		return slices.Equal(ledger().WholeTypes, []string{"pier"})
	})
	all := func(what string, n int) {
		t.Helper()
		testkit.Eventually(t, what, func() bool {
			s.mu.Lock()
			defer s.mu.Unlock()
			found := 0
			for _, d := range s.told {
				if d.All {
					found++
				}
			}
			return found == n && ledger().Lost == nil
		})
	}
	all("it is told of when it becomes so", 1)
	s.publish("ostra=Østra Quay")
	all("a change of what has no place is", 2)
	s.publish("mella=Mella Quay")
	all("a change of a page that is known is, too", 3)
	testkit.Eventually(t, "and the page is told of", func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return slices.ContainsFunc(s.told, func(d automation.StalePages) bool {
			return slices.ContainsFunc(d.Pages, func(p automation.StalePage) bool { return p.Path == "/mella" })
		})
	})
	if _, err := s.client.Entries().Edit(t.Context(), api.Edit{
		ID: "line", Type: "settings", Save: map[string]any{"claim": map[string]any{"en": "All year"}}, Do: "publish",
	}); err != nil {
		t.Fatal(err)
	}
	if got := s.stale(); len(got) > 0 {
		t.Errorf("after a change of what nobody reads: %v", got)
	}
	all("nobody reads notices", 3)
	// With a place for all of them they are to say again what they read.
	pages := s.Replica.Store().Pages
	if _, err := pages.Sweep(t.Context(), "web", s.Replica.Node.ID, time.Hour, 100); err != nil {
		t.Fatal(err)
	}
	s.Automation.PagesJudged("web")
	all("they are told that there is a place for all", 4)
	if l := ledger(); len(l.WholeTypes) > 0 {
		t.Errorf("with a place for all: %+v", l)
	}
	known := ledger().Pages
	reads("another", "ostra")
	testkit.Eventually(t, "the page is known", func() bool { return ledger().Pages == known+1 })
}

// TestPagesOfANodeThatIsGone takes stale pages and does not come back: another node takes them soon, and none
// while the first says that it tells the site of them.
func TestPagesOfANodeThatIsGone(t *testing.T) {
	s := newToldSite(t, rebuild.Site{Refresh: &rebuild.Refresh{Secret: hookSecret}})
	s.publish("mella=Mella")
	s.read(`"/mella"; render="1"`, "/piers/mella?fields=name")
	s.mu.Lock()
	s.refuse = true
	s.mu.Unlock()
	s.publish("mella=Mella Quay")
	st := s.Replica.Store()
	later := func(by time.Duration) {
		t.Helper()
		if _, err := st.DB.Pool.Exec(t.Context(), `update page set not_before = not_before - $1::interval
			where site = 'web'`, by); err != nil {
			t.Fatal(err)
		}
	}
	take := func() *pages.Taken {
		t.Helper()
		taken, err := st.Pages.TakeStale(t.Context(), "web", 10, rebuild.AnyNumber)
		if err != nil {
			t.Fatal(err)
		}
		return taken
	}
	var taken *pages.Taken
	testkit.Eventually(t, "the page is taken", func() bool {
		taken = take()
		return len(taken.Pages) == 1
	})
	later(pages.TakenFor / 2)
	if again := take(); len(again.Pages) > 0 {
		t.Errorf("taken twice: %+v", again.Pages)
	}
	if err := taken.Renew(t.Context()); err != nil {
		t.Fatal(err)
	}
	later(pages.TakenFor * 2 / 3)
	if again := take(); len(again.Pages) > 0 {
		t.Errorf("taken although it was renewed: %+v", again.Pages)
	}
	s.mu.Lock()
	s.refuse = false
	s.mu.Unlock()
	later(pages.TakenFor / 2)
	s.Automation.PagesJudged("web")
	if again := s.heard(1); len(again.Pages) != 1 || again.Pages[0].Path != "/mella" {
		t.Errorf("told %+v", again)
	}
}
