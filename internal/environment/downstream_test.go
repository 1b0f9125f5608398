package environment_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/settings"

	"ubiquon/internal/api"
	"ubiquon/internal/automation"
	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/environment"
	"ubiquon/internal/outbound"
	"ubiquon/internal/standin/breakwater"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

const toldSecret = "whsec_c2tlcnJ5LWxpbmUtYnJlYWt3YXRlcg=="

// TestDownstreamCachesArePurged reads through a shared cache before two nodes, which
// lets go of what changes, and of nothing else, though it does not take every call.
func TestDownstreamCachesArePurged(t *testing.T) {
	var edge http.Handler
	var mu sync.Mutex
	var calls []automation.Invalidation
	refuse := 0
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			body, _ := io.ReadAll(r.Body)
			r.Body = io.NopCloser(strings.NewReader(string(body)))
			mu.Lock()
			defer mu.Unlock()
			if refuse > 0 {
				refuse--
				http.Error(w, "the gate is shut", http.StatusServiceUnavailable)
				return
			}
			var event struct{ Data automation.Invalidation }
			if err := json.Unmarshal(body, &event); err != nil {
				t.Error(err)
			}
			calls = append(calls, event.Data)
		}
		edge.ServeHTTP(w, r)
	}))
	t.Cleanup(web.Close)
	shared := strings.NewReplacer("plural: piers", "plural: piers\n    freshness: {shared: 60s}", "plural: routes",
		"plural: routes\n    freshness: {shared: 60s}").
		Replace(testkit.Ferries)
	s := testkit.Store(t, testkit.Model(t, shared))
	o := environment.Options{
		Store:    s,
		Outbound: outbound.Options{Private: true},
		Settings: settings.Seed{
			Downstream: map[string]outbound.Target{"breakwater": {Call: web.URL + "/invalidations", Secret: toldSecret}},
		},
	}
	secret := access.NewSecret()
	a := start(t, o, secret)
	b := start(t, o, secret)
	edge = breakwater.New(breakwater.Options{Gateway: b.client.Address, Secret: toldSecret})
	publish(t, a, "p1", "pier", content.Fields{"name": "Mella"})
	publish(t, a, "r1", "route", content.Fields{"name": map[string]any{"en": "Ring"}})
	if _, err := a.Keys.ChangePublicGrants(t.Context(), "test",
		access.Grants{{Verb: access.Read, Edition: content.Published, Type: access.Any}}, nil); err != nil {
		t.Fatal(err)
	}
	known := func() bool {
		all, err := a.Automation.Downstream(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return len(all) == 1 && all[0].Behind == 0
	}
	testkit.Eventually(t, "the cache knows of all so far", known)
	stranger := node{b.Environment, &client.Client{Address: web.URL}}
	at := "/content/" + a.Replica.Environment() + "/published"
	read := func(path string) (how, body string) {
		answer := stranger.get(t, at+path, false)
		all := answer.Header.Values("Cache-Status")
		return all[len(all)-1], string(answer.Body)
	}
	for _, want := range []string{"Breakwater; fwd=uri-miss; stored", "Breakwater; hit"} {
		for _, path := range []string{"/piers?fields=name", "/routes?fields=name"} {
			if how, body := read(path); how != want {
				t.Fatalf("%s: %q, want %q: %s", path, how, want, body)
			}
		}
	}

	mu.Lock()
	refuse, calls = 1, nil
	mu.Unlock()
	done := publish(t, a, "p1", "pier", content.Fields{"name": "Mella pier"})
	testkit.Eventually(t, "a call is refused, and that is told", func() bool {
		all, _ := a.Automation.Downstream(t.Context())
		return len(all) == 1 && all[0].Attempts == 1 && strings.Contains(all[0].Failed, "the gate is shut") &&
			all[0].Next != nil
	})
	if how, _ := read("/piers?fields=name"); how != "Breakwater; hit" {
		t.Errorf("it was not told yet, and says %q", how)
	}
	testkit.Eventually(t, "the call is made again", known)
	if how, body := read("/piers?fields=name"); how != "Breakwater; fwd=uri-miss; stored" ||
		!strings.Contains(body, "Mella pier") {
		t.Errorf("%q %s", how, body)
	}
	if how, _ := read("/routes?fields=name"); how != "Breakwater; hit" {
		t.Errorf("another type's answer is gone too: %q", how)
	}
	mu.Lock()
	last := calls[len(calls)-1]
	mu.Unlock()
	if len(calls) != 1 || last.Sequence < done.Sequence || !slices.Equal(last.Groups, []string{"pier"}) ||
		!slices.Equal(last.Addresses, []string{at + "/piers?fields=name"}) {
		t.Errorf("told %+v", calls)
	}

	if _, err := s.DB.Pool.Exec(t.Context(), `update change set id = gen_random_uuid() where environment =
		$1`, s.Environment); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "when the log is another one, all of it is told of", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return slices.Equal(calls[len(calls)-1].Groups, []string{"file", "pier", "route", "settings"})
	})
	testkit.Eventually(
		t, "and it is let go of",
		func() bool { how, _ := read("/routes?fields=name"); return how != "Breakwater; hit" },
	)
	read("/routes?fields=name")
	resp, err := http.Post(
		web.URL+"/invalidations", "application/json",
		strings.NewReader(`{"specversion":"1.0","data":{"groups":["route"]}}`),
	)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if how, _ := read("/routes?fields=name"); resp.StatusCode != 400 || how != "Breakwater; hit" {
		t.Errorf("whoever comes is believed: %s, %q", resp.Status, how)
	}
}

// TestStandardSharedCache reads open content through a shared cache that goes by RFC
// 9111 alone: nearly everything is answered by it, whatever readers send, and nothing is
// older after a publish that it was told of by a plain request.
func TestStandardSharedCache(t *testing.T) {
	shared := strings.NewReplacer("plural: piers", "plural: piers\n    freshness: {shared: 60s, "+
		"staleWhileRevalidate: 5m}", "plural: routes", "plural: routes\n    freshness: {shared: 60s}").
		Replace(testkit.Ferries)
	var edge *breakwater.Standard
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { edge.ServeHTTP(w, r) }))
	t.Cleanup(web.Close)
	s := testkit.Store(t, testkit.Model(t, shared))
	n := start(t, environment.Options{
		Store: s, Outbound: outbound.Options{Private: true},
		Settings: settings.Seed{
			Downstream: map[string]outbound.Target{
				"edge": {Call: web.URL + "{address}", Method: "PURGE", Everything: web.URL + "/*"},
			},
		},
	}, access.NewSecret())
	edge = breakwater.NewStandard(n.client.Address)
	publish(t, n, "p1", "pier", content.Fields{"name": "Mella", "slug": "mella"})
	publish(
		t, n, "r1", "route",
		content.Fields{"name": map[string]any{"en": "Ring"}, "slug": "ring", "piers": []any{"p1"}},
	)
	if _, err := n.Keys.ChangePublicGrants(t.Context(), "test",
		access.Grants{{Verb: access.Read, Edition: content.Published, Type: access.Any}}, nil); err != nil {
		t.Fatal(err)
	}
	_, key, err := n.Keys.CreateKey(
		t.Context(),
		access.Key{
			Name:   "site",
			Grants: access.Grants{{Verb: access.Read, Edition: content.Published, Type: access.Any}},
		},
		"test",
	)
	if err != nil {
		t.Fatal(err)
	}
	known := func() bool {
		all, err := n.Automation.Downstream(t.Context())
		return err == nil && len(all) == 1 && all[0].Behind == 0
	}
	testkit.Eventually(t, "it knows of all so far", known)
	base := "/content/" + n.Replica.Environment() + "/published"
	paths := []string{
		base + "/piers?locale=en&fields=name",
		base + "/piers/mella?locale=en",
		base + "/routes?locale=en&fields=name,piers(name)",
		base + "/graphql?query=" + url.QueryEscape(
			`{piers(locale:"en"){nodes{name}}}`,
		),
		base + "/piers?fields=name&locale=en",
	}
	read := func(path, language, encoding, key string) (*http.Response, string) {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, web.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Accept-Language", language)
		req.Header.Set("Accept-Encoding", encoding)
		if key != "" {
			req.Header.Set("Authorization", "Bearer "+key)
		}
		resp, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		return resp, string(body)
	}
	for language := range 20 {
		for i, encoding := range []string{"identity", "gzip", "br", "zstd"} {
			for _, path := range paths {
				if resp, body := read(path, fmt.Sprintf("x-%d, en;q=0.%d", language, i+1), encoding,
					map[bool]string{true: key}[language%2 == 1]); resp.StatusCode != 200 ||
					!strings.Contains(resp.Header.Get("Cache-Control"), "public") ||
					strings.Contains(resp.Header.Get("Vary"), "Authorization") {
					t.Fatalf("%s: %d %v %s", path, resp.StatusCode, resp.Header, body)
				}
			}
		}
	}
	all := edge.Hits + edge.Misses + edge.Revalidated
	t.Logf("%d of %d reads were answered by the cache", edge.Hits, all)
	if float64(edge.Hits)/float64(all) < 0.95 {
		t.Errorf("too few: %d missed, %d asked again", edge.Misses, edge.Revalidated)
	}
	for i := range 3 {
		name := fmt.Sprint("Mella ", i)
		publish(t, n, "p1", "pier", content.Fields{"name": name, "slug": "mella"})
		testkit.Eventually(t, "it is told", known)
		for _, encoding := range []string{"identity", "identity"} {
			for _, path := range paths {
				if _, body := read(path, "en", encoding, ""); !strings.Contains(body, name) {
					t.Errorf("%s: after %s was published: %s", path, name, body)
				}
			}
		}
	}
	if _, err := n.Keys.ChangePublicGrants(t.Context(), "test", nil,
		access.Grants{{Verb: access.Read, Edition: content.Published, Type: access.Any}}); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "it is told that nothing is open any more", known)
	for _, path := range paths[:3] {
		if resp, body := read(path, "en", "identity", ""); resp.StatusCode != http.StatusUnauthorized {
			t.Errorf("%s, which is not open any more: %d %s", path, resp.StatusCode, body)
		}
		if resp, _ := read(path, "en", "identity", key); resp.StatusCode != 200 ||
			!strings.Contains(resp.Header.Get("Cache-Control"), "private") ||
			!strings.Contains(resp.Header.Get("Vary"), "Authorization") {
			t.Errorf("%s with a key: %d %v", path, resp.StatusCode, resp.Header)
		}
	}
}

// TestTheLogIsTrimmed lets go of changes that are old and that no node needs.
func TestTheLogIsTrimmed(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	secret := access.NewSecret()
	n := start(t, environment.Options{Store: s, KeepChanges: time.Nanosecond}, secret)
	var last writing.Applied
	for i := range 5 {
		last = publish(t, n, "p1", "pier", content.Fields{"name": "Mella " + strconv.Itoa(i)})
	}
	mute := api.Node{ID: "00000000-0000-4000-8000-000000000001", Name: "mute"}
	if err := s.Changes.SeeNode(t.Context(), mute); err != nil {
		t.Fatal(err)
	}
	if trimmed, err := n.Trim(t.Context()); err != nil || trimmed != 0 {
		t.Errorf("%d changes went that a node does not know of, %v", trimmed, err)
	}
	if err := s.Changes.ForgetNode(t.Context(), mute.ID); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "all but the newest goes", func() bool {
		if _, err := n.Trim(t.Context()); err != nil {
			t.Fatal(err)
		}
		left, err := s.Changes.ChangesFrom(t.Context(), 0, 2)
		return err == nil && len(left) == 1 && left[0].Sequence == last.Sequence
	})
	at := "/content/" + n.Replica.Environment() + "/published/changes"
	for _, ask := range [][2]string{{at + "?after=0", ""}, {at, "0"}, {at + "?after=100000", ""}} {
		a := n.asking(t, ask[0], "Last-Event-ID", ask[1])
		if a.Status != http.StatusGone || !strings.Contains(string(a.Body), "after=") {
			t.Errorf("%v: %d %s", ask, a.Status, a.Body)
		}
	}
	if a := n.get(t, at+"?after="+strconv.FormatInt(last.Sequence, 10), false); a.Status != 200 {
		t.Errorf("%d %s", a.Status, a.Body)
	}
	other := start(t, environment.Options{Store: s}, secret)
	publish(t, other, "p1", "pier", content.Fields{"name": "Mella pier"})
	if left, err := other.Replica.Confirm(t.Context(), last.Sequence+1, 10*time.Second); err != nil ||
		len(left) != 0 {
		t.Errorf("%v %v", left, err)
	}
	if _, _, body := n.read(t, "/piers?fields=name"); !strings.Contains(body, "Mella pier") {
		t.Errorf("after it was trimmed: %s", body)
	}
}
