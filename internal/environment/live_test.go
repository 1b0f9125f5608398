package environment_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/automation"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/environment"
	"ubiquon/internal/outbound"
	"ubiquon/internal/settings"
	"ubiquon/internal/testkit"
)

// shown is a site that renders on a server, and shows its visitors what it wants.
type shown struct {
	*builtSite
	mu    sync.Mutex
	calls int
	all   int // calls that said that all pages are stale
	show  func(w http.ResponseWriter, r *http.Request)
	agent string
}

func (s *shown) shows(f func(w http.ResponseWriter, r *http.Request)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.show = f
}

func newShown(t *testing.T, live rebuild.Live) *shown {
	t.Helper()
	s := &shown{builtSite: &builtSite{t: t}}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			var told struct{ Data automation.StalePages }
			_ = json.NewDecoder(r.Body).Decode(&told)
			s.mu.Lock()
			defer s.mu.Unlock()
			if told.Data.All {
				s.all++
			}
			var done []string
			for _, p := range told.Data.Pages {
				done = append(done, p.Path)
			}
			_ = json.NewEncoder(w).Encode(map[string]any{"done": done})
			return
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.calls, s.agent = s.calls+1, r.UserAgent()
		if s.show == nil {
			http.NotFound(w, r)
			return
		}
		s.show(w, r)
	}))
	t.Cleanup(web.Close)
	s.node = start(t, environment.Options{
		Store: testkit.Store(t, testkit.Model(t, testkit.Ferries)), Outbound: outbound.Options{Private: true},
		Settings: settings.Seed{
			Sites: map[string]rebuild.Site{
				"web": {
					Address: web.URL + "/",
					Refresh: &rebuild.Refresh{Call: web.URL + "/refresh", Secret: hookSecret},
					Live:    &live,
				},
			},
		},
	}, access.NewSecret())
	s.mayRead()
	s.publish("mella=Mella")
	s.read(`"/piers/mella"; render="1"`, "/piers/mella?fields=name")
	s.stale()
	return s
}

// liveness is that of the site, once it is as wanted.
func (s *shown) liveness(what string, is func(l *api.Liveness) bool) {
	s.t.Helper()
	var last *api.Liveness
	defer func() {
		if s.t.Failed() {
			s.t.Logf("%+v", last)
		}
	}()
	testkit.Eventually(s.t, what, func() bool {
		all, err := s.Automation.Sites(s.t.Context())
		if err != nil {
			s.t.Fatal(err)
		}
		last = all[0].Liveness
		return is(last)
	})
}

// TestVisitorsAreAskedWhatTheySee changes what a page shows and looks when visitors get it: told by an
// element of the page, by a header, and by the page being gone.
func TestVisitorsAreAskedWhatTheySee(t *testing.T) {
	s := newShown(t, rebuild.Live{Probe: "pages"})
	at := s.Replica.Applied()
	s.shows(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, `<html><head><META content='%d' name=ubiquon-sequence></head>`, at)
	})
	s.publish("mella=Mella Pier")
	s.liveness("it waits for visitors", func(l *api.Liveness) bool {
		return l.Waiting == 1 && l.Pages == 0 && strings.Contains(l.Trouble, fmt.Sprintf("it shows sequence %d", at))
	})
	s.shows(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, `<html><head><META content='%d' name=ubiquon-sequence></head>`, s.Replica.Applied())
	})
	s.liveness("it was seen", func(l *api.Liveness) bool { return l.Waiting == 0 && l.Pages == 1 && l.Worst > 0 })
	s.shows(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Ubiquon-Sequence", fmt.Sprint(s.Replica.Applied()))
	})
	s.publish("mella=Mella")
	s.liveness("it was seen by its header", func(l *api.Liveness) bool { return l.Waiting == 0 && l.Pages == 2 })
	s.shows(nil)
	s.publish("mella=")
	s.liveness("it is gone", func(l *api.Liveness) bool { return l.Waiting == 0 && l.Pages == 3 })
	if !strings.HasPrefix(s.agent, "Ubiquon-Probe/") {
		t.Error(s.agent)
	}
	last := s.Replica.Applied() // of the same commit, in preview
	all, err := s.Replica.Store().Live.LiveOf(t.Context(), []int64{last})
	if err != nil || all[last].Seen != 1 || all[last].Last == nil {
		t.Errorf("%+v, %v", all, err)
	}
	if l, err := s.Replica.Store().Live.Liveness(t.Context(), "web", 3); err != nil || len(l.Days) != 3 ||
		l.Days[2].Pages != 3 || l.Days[1].Pages != 0 {
		t.Errorf("%+v, %v", l, err)
	}
	if err := s.Replica.Store().Live.Trim(t.Context(), []string{}); err != nil {
		t.Fatal(err)
	}
	s.liveness(
		"of a site that is not there any more nothing is known",
		func(l *api.Liveness) bool { return l.Pages == 0 },
	)
}

// TestAPageThatIsLateIsAnEvent has a page show nothing new for too long.
func TestAPageThatIsLateIsAnEvent(t *testing.T) {
	s := newShown(t, rebuild.Live{ExpectLive: strictyaml.Duration(300 * time.Millisecond)})
	if _, err := s.client.Settings().Put(t.Context(), "rule", "late", []byte(`{"on": ["page-late"], "do": [{"wait": {"for": "1s"}}]}`),
		0, false); err != nil {
		t.Fatal(err)
	}
	s.shows(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<p>no mark") })
	s.publish("mella=Mella Pier")
	s.liveness("it is late", func(l *api.Liveness) bool { return l.Late == 1 && l.Waiting == 1 })
	testkit.Eventually(t, "a rule is run for it", func() bool {
		at, err := s.Replica.Store().Runs.LastSignal(t.Context(), rule.PageLate, "web")
		return err == nil && !at.IsZero()
	})
	s.shows(func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Ubiquon-Sequence", "1000000") })
	s.liveness(
		"it comes after all",
		func(l *api.Liveness) bool { return l.Late == 1 && l.Waiting == 0 && l.Pages == 1 },
	)
	if _, err := s.client.Settings().Put(context.Background(), "site", "other",
		[]byte(`{"address": "http://x.example", "live": {"probe": "everything"}}`), 0, false); err == nil ||
		!strings.Contains(err.Error(), "live.probe") {
		t.Errorf("another probe: %v", err)
	}
}

// TestARuleDoesNotRefreshWhatIsNotStale has a rule refresh all pages of a site that says what they read.
func TestARuleDoesNotRefreshWhatIsNotStale(t *testing.T) {
	s := newShown(t, rebuild.Live{})
	if _, err := s.client.Settings().Put(t.Context(), "rule", "all", []byte(
		`{"on": ["published"], "do": [{"refresh": {"site": "web", "pages": ["*"]}}]}`), 0, false); err != nil {
		t.Fatal(err)
	}
	s.publish("hollow=Hollow Bay") // on no page
	testkit.Eventually(t, "the rule has run", func() bool {
		all, err := s.client.Settings().Runs(t.Context(), api.RuleRunFilter{Rule: "all"})
		return err == nil && len(all) == 1 && len(all[0].Steps) == 1 &&
			strings.Contains(all[0].Steps[0].Result, "it is told of those that are stale, not of all")
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all > 0 {
		t.Errorf("it was told %d times that all pages are stale", s.all)
	}
}

// TestAWaitingPublishNamesThePages publishes and is told on which pages it shows.
func TestAWaitingPublishNamesThePages(t *testing.T) {
	s := newShown(t, rebuild.Live{})
	answer, err := s.client.Do(t.Context(), http.MethodPost, "/control/v1/edits", http.Header{"Prefer": {"wait=5"}},
		map[string]any{"edits": []any{map[string]any{
			"id": content.MakeID(content.Local, "pier", "mella"), "type": "pier", "do": "publish",
			"save": map[string]any{"name": "Mella Pier", "slug": "mella"},
		}}})
	var out api.EditOutcome
	if err == nil {
		err = json.Unmarshal(answer.Body, &out)
	}
	if err != nil || len(out.Pages) != 1 || out.Pages[0].Site != "web" || len(out.Pages[0].Pages) != 1 ||
		out.Pages[0].Pages[0] != "/piers/mella" {
		t.Errorf("%s, %v", answer.Body, err)
	}
}
