package environment_test

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/cache"
	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/environment"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

func publish(t testing.TB, n node, id, typ string, fields content.Fields) writing.Applied {
	t.Helper()
	done, err := n.Authoring.Apply(
		t.Context(),
		[]writing.Edit{
			{ID: id, Type: typ, Origin: content.Local, Save: fields, Live: writing.PublishNewest, Loose: true},
		},
		"test",
		content.Cause{Kind: "user"},
	)
	if err != nil {
		t.Fatal(err)
	}
	return done
}

// asking reads with a request header.
func (n node) asking(t *testing.T, path, header, value string) *client.Answer {
	t.Helper()
	a, err := n.client.Do(t.Context(), http.MethodGet, path, http.Header{header: {value}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// anew reads what is computed for this request alone.
func (n node) anew(t *testing.T, path string) *client.Answer {
	t.Helper()
	a, err := n.client.Do(
		t.Context(), http.MethodGet, path, http.Header{"Prefer": {"recompute"}, "Cache-Control": {"no-store"}}, nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// TestCacheDirectives goes through the directives of RFC 9111.
func TestCacheDirectives(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	publish(t, n, "p1", "pier", content.Fields{"name": "Mella"})
	path := "/content/" + n.Replica.Environment() + "/published/piers?fields=name"
	for _, c := range []struct{ asks, how string }{
		{"only-if-cached", ""},
		{"no-store", "Ubiquon; fwd=miss; stored"},
		{"only-if-cached", "Ubiquon; hit"},
		{"x=y", "Ubiquon; hit; ttl"},
		{"max-age=0", "Ubiquon; hit; detail=verified-current"},
		{"no-cache", "Ubiquon; hit; detail=verified-current"},
		{"no-store", "Ubiquon; hit; detail=verified-current"},
	} {
		a := n.asking(t, path, "Cache-Control", c.asks)
		if c.how == "" && a.Status != http.StatusGatewayTimeout ||
			c.how != "" && (a.Status != 200 || !strings.HasPrefix(a.Header.Get("Cache-Status"), c.how)) {
			t.Errorf("%q: %d %q, want %q", c.asks, a.Status, a.Header.Get("Cache-Status"), c.how)
		}
	}
	if _, err := n.Keys.ChangePublicGrants(t.Context(), "test",
		access.Grants{{Verb: access.Read, Edition: content.Published, Type: "pier"}}, nil); err != nil {
		t.Fatal(err)
	}
	_, reading, err := n.Keys.CreateKey(
		t.Context(),
		access.Key{Name: "reads", Grants: access.Grants{{Verb: access.Read, Edition: access.Any, Type: access.Any}}},
		"test",
	)
	if err != nil {
		t.Fatal(err)
	}
	_, recomputing, err := n.Keys.CreateKey(
		t.Context(),
		access.Key{
			Name:   "recomputes",
			Grants: access.Grants{{Verb: access.Recompute, Edition: content.Published, Type: "pier"}},
		},
		"test",
	)
	if err != nil {
		t.Fatal(err)
	}
	anew := "Ubiquon; fwd=request; stored"
	for name, c := range map[string]struct{ key, how string }{
		"a stranger": {"", "Ubiquon; hit"},
		"a reader":   {reading, "Ubiquon; hit"}, "who has the grant": {recomputing, anew},
		"an admin": {n.client.Key, anew},
	} {
		who := node{n.Environment, &client.Client{Address: n.client.Address, Key: c.key}}
		a := who.asking(t, path, "Prefer", "recompute")
		if how := a.Header.Get("Cache-Status"); !strings.HasPrefix(how, c.how) ||
			(a.Header.Get("Preference-Applied") == "recompute") != (c.how == anew) {
			t.Errorf("%s has it computed anew: %s, %v", name, how, a.Header)
		}
		if how := who.asking(t, path, "Pragma",
			"no-cache").Header.Get("Cache-Status"); how != "Ubiquon; hit; detail=verified-current" {
			t.Errorf("%s takes nothing older than now: %s", name, how)
		}
	}
	if a := n.anew(t, path); a.Header.Get("Cache-Status") != "Ubiquon; fwd=request" {
		t.Errorf("computed anew and not kept: %v", a.Header)
	}
}

// TestModelChangeExpiresAffectedResponses changes the model in ways that readers see, and do
// not see.
func TestModelChangeExpiresAffectedResponses(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	publish(t, n, "p1", "pier", content.Fields{"name": "Mella"})
	publish(t, n, "r1", "route", content.Fields{"name": map[string]any{"en": "Ring"}, "season": "summer"})
	base := "/content/" + n.Replica.Environment() + "/published"
	paths := []string{
		base + "/piers?fields=name", base + "/routes?fields=name,season(label)", base + "/routes?fields=name",
		base + "/routes?fields=name&locale=ja", base + "/piers",
	}
	model := testkit.Ferries
	for _, c := range []struct {
		what, from, to string
		kept           []bool
	}{
		{"a bound", "max: 40", "max: 41", []bool{true, true, true, true, true}},
		{"a label that is delivered", "Summer time", "High summer", []bool{true, false, true, true, true}},
		{
			"a label of an option that nothing shows has", "Winter time", "Deep winter",
			[]bool{true, true, true, true, true},
		},
		{
			"an option", "summer: High summer", "spring: Spring, summer: High summer",
			[]bool{true, true, true, true, true},
		},
		{
			"a type", "types:\n", "types:\n  fare:\n    fields: {name: {kind: text}}\n",
			[]bool{true, true, true, true, true},
		},
		{"a field that nobody has", "      slug: {kind: slug, madeFrom: name, unique: true}", "      slug: {kind: " +
			"slug, madeFrom: name, unique: true}\n      depth: {kind: integer}", []bool{true, true, true, true, false}},
		{"a fallback", "ja: {}", "ja: {fallback: [en]}", []bool{true, true, true, false, true}},
		{
			"how long it may be kept", "  settings:", "    freshness: {shared: 9s}\n  settings:",
			[]bool{true, false, false, false, true},
		},
	} {
		for _, p := range paths {
			n.get(t, p, false)
		}
		if model = strings.Replace(model, c.from, c.to, 1); !strings.Contains(model, c.to) {
			t.Fatalf("%s: there is no %q", c.what, c.from)
		}
		if err := n.Authoring.ApplyModel(t.Context(), testkit.Model(t, model), "test",
			writing.ModelOptions{}); err != nil {
			t.Fatal(err)
		}
		for i, p := range paths {
			held, fresh := n.asking(t, p, "Cache-Control", "only-if-cached"), n.anew(t, p)
			if (held.Status == 200) != c.kept[i] {
				t.Errorf("%s: %s is kept is %t", c.what, p, held.Status == 200)
			}
			if held.Status == 200 && string(held.Body) != string(fresh.Body) {
				t.Errorf("%s: %s is\n%s, not\n%s", c.what, p, held.Body, fresh.Body)
			}
		}
	}
}

// TestHottestResponsesSurviveRestart reads on one node, and finds it held on the next.
func TestHottestResponsesSurviveRestart(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	secret := access.NewSecret()
	a := open(t, s, secret)
	publish(t, a, "p1", "pier", content.Fields{"name": "Mella"})
	path := "/content/" + a.Replica.Environment() + "/published/piers?fields=name"
	for range 8 {
		a.get(t, path, false)
	}
	a.Close()
	b := open(t, s, secret)
	testkit.Eventually(
		t, "the answer is held before anybody asks",
		func() bool { return b.asking(t, path, "Cache-Control", "only-if-cached").Status == 200 },
	)
}

// TestRefreshAhead publishes, and finds the new answer held.
func TestRefreshAhead(t *testing.T) {
	o := environment.Options{Store: testkit.Store(t, testkit.Model(t, testkit.Ferries))}
	renewed := make(chan string, 10)
	o.Cache.Refresh = func(r *cache.Response) { renewed <- r.Asked }
	n := start(t, o, access.NewSecret())
	path := "/content/" + n.Replica.Environment() + "/published/piers?fields=name"
	for range 4 {
		n.get(t, path, false)
	}
	n.get(t, path+"&limit=3", false) // once
	publish(t, n, "p1", "pier", content.Fields{"name": "Mella"})
	if got := <-renewed; got != path || len(renewed) != 0 {
		t.Errorf("renewed %s, and %d more", got, len(renewed))
	}
	if _, err := n.Delivery.Warm(t.Context(), path); err != nil {
		t.Fatal(err)
	}
	if a := n.asking(t, path, "Cache-Control", "only-if-cached"); !strings.Contains(string(a.Body), "Mella") {
		t.Errorf("%d %s", a.Status, a.Body)
	}
	held := n.Delivery.Entries(api.CacheQuery{Type: "pier"}, 10)
	if held.Total != 1 || held.Items[0].Asked != path || held.Items[0].Types[0] != "pier" ||
		held.ByType["pier"].Answers != 1 {
		t.Errorf("held: %+v", held)
	}
	if e, err := n.Delivery.ExplainEntry(t.Context(), held.Items[0].Key); err != nil ||
		len(e.Dependencies.Lists) != 1 ||
		e.Titles["p1"] != "Mella" {
		t.Errorf("%+v, %v", e, err)
	}
	would, err := n.Diagnosis.Simulate(t.Context(), "p1", "unpublish", 0)
	if err != nil || len(would.Expires) != 1 || would.Changes != 1 {
		t.Errorf("unpublishing would: %+v, %v", would, err)
	}
	if would, err = n.Diagnosis.Simulate(t.Context(), "p1", "publish", 0); err != nil || len(would.Expires) != 0 {
		t.Errorf("publishing what is published would: %+v, %v", would, err)
	}
	if purged := n.Delivery.Purge(api.CacheQuery{Type: "route"}); purged != 0 {
		t.Errorf("%d answers of another type are thrown away", purged)
	}
	if purged := n.Delivery.Purge(api.CacheQuery{Entry: "p1"}); purged != 1 {
		t.Errorf("%d answers are thrown away", purged)
	}
}

// TestPublishWaitsForAllNodes has one node follow, one that is gone, and one that
// is there and does not say that it knows.
func TestPublishWaitsForAllNodes(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	secret := access.NewSecret()
	a, b := open(t, s, secret), open(t, s, secret)
	done := publish(t, a, "p1", "pier", content.Fields{"name": "Mella"})
	if left, err := a.Replica.Confirm(t.Context(), done.Sequence, 10*time.Second); err != nil || len(left) != 0 {
		t.Errorf("not known by %v, %v", left, err)
	}
	if b.Replica.Applied() < done.Sequence {
		t.Error("confirmed before the other node knew")
	}
	nodes, err := a.Replica.Nodes(t.Context())
	if err != nil || len(nodes) != 2 ||
		!slices.ContainsFunc(nodes, func(n api.NodeState) bool { return n.Here && n.State == "leased" }) {
		t.Errorf("the nodes are %+v, %v", nodes, err)
	}
	mute := api.Node{ID: "00000000-0000-4000-8000-000000000001", Name: "mute"}
	if err := s.Changes.SeeNode(t.Context(), mute); err != nil {
		t.Fatal(err)
	}
	if left, err := a.Replica.Confirm(t.Context(), done.Sequence, 50*time.Millisecond); err != nil ||
		len(left) != 1 ||
		left[0] != "mute" {
		t.Errorf("not known by %v, %v", left, err)
	}
	begin := time.Now()
	if left, err := a.Replica.Confirm(t.Context(), done.Sequence, 10*time.Second); err != nil || len(left) != 0 ||
		time.Since(begin) > 5*time.Second {
		t.Errorf("after its lease has ended: %v, %v", left, err)
	}
	var out struct {
		Confirmed   *bool
		Unconfirmed []string
	}
	answer, err := a.client.Do(
		t.Context(),
		http.MethodPost,
		"/control/v1/edits",
		http.Header{"Prefer": {"wait=5"}},
		map[string]any{
			"edits": []any{
				map[string]any{
					"id":   "p1",
					"type": "pier",
					"save": map[string]any{"name": "Mella pier"},
					"do":   "publish",
				},
			},
		},
	)
	if err == nil {
		err = json.Unmarshal(answer.Body, &out)
	}
	if err != nil || out.Confirmed == nil || !*out.Confirmed {
		t.Errorf("%v %s", err, answer.Body)
	}
}

// TestLongIDIsFound looks for answers by an id that is longer than the index keeps.
func TestLongIDIsFound(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	const id = "a-pier-with-an-id-of-its-own"
	publish(t, n, id, "pier", content.Fields{"name": "Mella"})
	n.get(t, "/content/"+n.Replica.Environment()+"/published/entries/"+id+"?fields=id", false)
	for path, want := range map[string]string{
		"/control/v1/cache/answers?entry=" + id:                 "/entries/" + id,
		"/control/v1/cache/answers?entry=another-pier-with-one": `"items":[]`,
	} {
		if a := n.get(t, path, false); !strings.Contains(string(a.Body), want) {
			t.Errorf("%s: %d %s", path, a.Status, a.Body)
		}
	}
}

// TestChoiceHasLabel asks for values, labels, and both.
func TestChoiceHasLabel(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	publish(t, n, "r1", "route", content.Fields{"name": map[string]any{"en": "Ring"}, "season": "summer"})
	for fields, want := range map[string]string{
		"season":              `"season":"summer"`,
		"season(label)":       `"season":"Summer time"`,
		"season(value,label)": `"season":{"value":"summer","label":"Summer time"}`,
		"season(label,value)": `"season":{"value":"summer","label":"Summer time"}`,
		"season(value)":       `"season":"summer"`,
	} {
		if _, _, body := n.read(t, "/routes?fields="+fields); !strings.Contains(body, want) {
			t.Errorf("%s: %s", fields, body)
		}
	}
	if a := n.get(t, "/content/"+n.Replica.Environment()+"/published/routes?fields=published",
		false); a.Status != 400 ||
		!strings.Contains(string(a.Body), "about(published)") {
		t.Errorf("what is said about the entry: %d %s", a.Status, a.Body)
	}
}
