package environment_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
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
	"ubiquon/internal/core/proof"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/environment"
	"ubiquon/internal/ingest"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store"
	"ubiquon/internal/store/builds"
	"ubiquon/internal/store/events"
	"ubiquon/internal/testkit"
)

const hookSecret = "whsec_c2tlcnJ5LWxpbmUtc2VjcmV0LW9uZQ=="

// outside is everything around a gateway: an origin of piers and a builder.
type outside struct {
	mu     sync.Mutex
	items  map[string]map[string]any // what the origin holds
	down   bool                      // the origin is away
	orders []automation.Order
	refuse bool // the builder takes no call
}

func (o *outside) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	o.mu.Lock()
	defer o.mu.Unlock()
	switch {
	case r.URL.Path == "/build":
		if o.refuse {
			http.Error(w, "the slip is taken", 503)
			return
		}
		var order automation.Order
		if err := json.NewDecoder(r.Body).Decode(&order); err != nil {
			http.Error(w, err.Error(), 400)
			return
		}
		o.orders = append(o.orders, order)
		w.WriteHeader(202)
	case o.down:
		http.Error(w, "gone fishing", 502)
	case r.URL.Path == "/api/berths":
		all := []any{}
		for _, i := range o.items {
			all = append(all, i)
		}
		json.NewEncoder(w).Encode(map[string]any{"berths": all})
	default:
		item := o.items[strings.TrimPrefix(r.URL.Path, "/api/berths/")]
		if item == nil {
			http.NotFound(w, r)
			return
		}
		json.NewEncoder(w).Encode(item)
	}
}

func (o *outside) set(ref, name, status string, version int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.items[ref] = map[string]any{"ref": ref, "called": name, "status": status, "v": fmt.Sprintf("%04d", version)}
}

func (o *outside) with(f func()) {
	o.mu.Lock()
	defer o.mu.Unlock()
	f()
}

func (o *outside) called() []automation.Order {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.orders)
}

// world is a gateway, or several on one database, with an outside.
type world struct {
	*outside
	store *store.Store
	nodes []node
}

func newWorld(t *testing.T, nodes int) *world {
	t.Helper()
	w := &world{
		outside: &outside{items: map[string]map[string]any{}},
		store:   testkit.Store(t, testkit.Model(t, testkit.Ferries)),
	}
	web := httptest.NewServer(w.outside)
	t.Cleanup(web.Close)
	var c origin.Config
	if err := strictyaml.Decode("o.yaml", []byte(`
pull: {http: "`+web.URL+`/api"}
prove: {standardWebhooks: ["`+hookSecret+`"]}
types:
  pier: {kind: berths, from: "$.berths[*]", id: $.ref, version: $.v, state: {path: $.status, values: {open: published, planned: saved}}, fields: {name: $.called}}
`), &c); err != nil {
		t.Fatal(err)
	}
	secret := access.NewSecret()
	for range nodes {
		w.nodes = append(
			w.nodes,
			start(
				t,
				environment.Options{
					Store:     w.store,
					Reconcile: time.Hour,
					Outbound:  outbound.Options{Private: true},
					Address:   "http://gateway.example",
					Settings: settings.Seed{
						Origins: map[string]origin.Config{"harbour": c},
						Sites: map[string]rebuild.Site{
							"web": {Address: web.URL, Build: &rebuild.Call{
								Call: web.URL + "/build", Secret: hookSecret,
								Quiet: strictyaml.Duration(
									20 * time.Millisecond,
								), AtMost: strictyaml.Duration(time.Second),
							}},
						},
						Rules: []rule.Rule{
							{
								Name:  "piers",
								On:    []string{"published", "unpublished", "deleted"},
								Types: []string{"pier"},
								Do:    []rule.Step{{Rebuild: &rule.Rebuild{Site: "web"}}},
							},
							{
								Name:  "routes",
								On:    []string{"published"},
								Types: []string{"route"},
								Do:    []rule.Step{{Rebuild: &rule.Rebuild{Site: "web", Now: true}}},
							},
						},
					},
				},
				secret,
			),
		)
	}
	return w
}

var messages int

// announce sends an announcement to a node and returns the event's id.
func (w *world) announce(t *testing.T, n node, what, ref string) string {
	t.Helper()
	return w.announceAt(t, n, what, ref, time.Now())
}

func (w *world) announceAt(t *testing.T, n node, what, ref string, at time.Time) string {
	t.Helper()
	messages++
	body := fmt.Sprintf(
		`{"specversion":"1.0","id":"m%d","source":"/harbour","type":"x.%s","subject":"berths/%s","time":%q}`,
		messages, what, ref, at.UTC().Format(time.RFC3339Nano),
	)
	h := http.Header{"Content-Type": {"application/cloudevents+json"}}
	if err := outbound.Sign(h, hookSecret, fmt.Sprintf("m%d", messages), time.Now(), []byte(body)); err != nil {
		t.Fatal(err)
	}
	got, err := receive(t, n, "harbour", h, []byte(body))
	if err != nil {
		t.Fatal(err)
	}
	return got.Events[0]
}

// receive gives a node a call of a hook.
func receive(t *testing.T, n node, name string, h http.Header, body []byte) (ingest.Received, error) {
	t.Helper()
	return n.Ingest.Receive(t.Context(), name, &proof.Message{
		Method: http.MethodPost, URL: "http://gateway.example/hooks/" + name, Header: h, Body: body,
		Address: netip.MustParseAddr("203.0.113.7"),
	})
}

func (w *world) settled(t *testing.T, id, state string) api.EventDetail {
	t.Helper()
	var e api.EventDetail
	testkit.Eventually(t, "event "+id+" is "+state, func() bool {
		var err error
		e, err = w.nodes[0].Ingest.Event(t.Context(), id)
		return err == nil && e.State == state
	})
	return e
}

func (w *world) shows(t *testing.T, ref string) string {
	t.Helper()
	path := "/content/" + w.nodes[0].Replica.Environment() + "/published/entries/" +
		content.MakeID("harbour", "pier", ref) + "?fields=name"
	a := w.nodes[0].get(t, path, false)
	if a.Status >= 500 {
		// A machine that is busy enough answers no reader in time.
		testkit.Eventually(t, ref+" is answered", func() bool {
			a = w.nodes[0].get(t, path, false)
			return a.Status < 500
		})
	}
	if a.Status != 200 {
		return fmt.Sprint(a.Status)
	}
	var entry struct{ Name string }
	if err := json.Unmarshal(a.Body, &entry); err != nil {
		t.Fatal(err)
	}
	return entry.Name
}

func TestEventsApplyPresentState(t *testing.T) {
	w := newWorld(t, 1)
	n := w.nodes[0]
	w.set("a", "Kvalholm", "open", 5)
	published := w.announce(t, n, "published", "a")
	w.settled(t, published, events.EventDone)
	if got := w.shows(t, "a"); got != "Kvalholm" {
		t.Fatalf("shows %s", got)
	}
	// An answer that is older than what is held, as from a lagging replica.
	w.set("a", "Kvalholm of old", "open", 4)
	if e := w.settled(t, w.announce(t, n, "published", "a"), events.EventDone); e.Detail != "nothing that a "+
		"reader could see has changed" ||
		e.Trace.Stored != nil {
		t.Errorf("an older state: %+v", e)
	}
	if got := w.shows(t, "a"); got != "Kvalholm" {
		t.Errorf("after an older state: %s", got)
	}
	// The announcements of two changes, the first of them processed when both have
	// happened: the second one finds its change made, and its way is that one's.
	w.set("a", "Kvalholm Quay", "open", 7)
	at := time.Now()
	first := w.settled(t, w.announceAt(t, n, "saved", "a", at), events.EventDone)
	second := w.settled(t, w.announceAt(t, n, "published", "a", at), events.EventDone)
	if first.Sequence == nil || second.Sequence == nil || second.Trace.Stored == nil ||
		!second.Trace.Stored.Equal(*first.Trace.Stored) ||
		!second.Trace.Expired.Equal(*first.Trace.Expired) {
		t.Errorf("the ways of two events with one change:\n%+v\n%+v", first.Trace, second.Trace)
	}
	if second.Detail != "published, with the event before" {
		t.Errorf("the second one says %q", second.Detail)
	}
	w.set("a", "Kvalholm Quay", "planned", 8)
	w.settled(t, w.announce(t, n, "unpublished", "a"), events.EventDone)
	if got := w.shows(t, "a"); got != "404" {
		t.Errorf("taken back: %s", got)
	}
	w.with(func() { delete(w.items, "a") })
	w.settled(t, w.announce(t, n, "deleted", "a"), events.EventDone)
	if e := w.settled(t, w.announce(t, n, "deleted", "a"), events.EventDone); e.Detail != "it was not here" {
		t.Errorf("deleted twice: %s", e.Detail)
	}
}

func TestContentThatDoesNotFitIsAFailedEvent(t *testing.T) {
	w := newWorld(t, 1)
	w.set("a", strings.Repeat("x", 50), "open", 1)
	e := w.settled(t, w.announce(t, w.nodes[0], "published", "a"), events.EventFailed)
	if !strings.Contains(e.Detail, "fields.name") || !strings.Contains(e.Detail, "at most 40 allowed") ||
		e.Attempts != 1 {
		t.Errorf("%+v", e)
	}
	w.set("b", "Mella", "sunk", 1)
	w.with(func() { w.down = true })
	id := w.announce(t, w.nodes[0], "published", "b")
	testkit.Eventually(t, "the first try has failed", func() bool {
		e, err := w.nodes[0].Ingest.Event(t.Context(), id)
		return err == nil && e.State == events.EventWaiting && strings.Contains(e.Detail, "502")
	})
	w.set("b", "Mella", "open", 2)
	w.with(func() { w.down = false })
	e = w.settled(t, id, events.EventDone)
	if got := w.shows(t, "b"); e.Attempts < 2 || got != "Mella" {
		t.Errorf("it shows %q: %+v", got, e)
	}
}

func TestReconcileFindsWhatNobodyAnnounced(t *testing.T) {
	w := newWorld(t, 1)
	n := w.nodes[0]
	w.set("a", "Kvalholm", "open", 1)
	w.set("b", "Mella", "open", 1)
	w.set("c", "Planned", "planned", 1)
	w.set("d", strings.Repeat("x", 50), "open", 1)
	cause := content.Cause{Kind: "reconcile", Name: "harbour"}
	var told int
	done, err := n.Ingest.Reconcile(t.Context(), "harbour", cause, false, func(string, int) { told++ })
	if err != nil || done.Seen != 4 || done.BadItems != 1 || told == 0 {
		t.Fatalf("%+v, %v", done, err)
	}
	if w.shows(t, "a") != "Kvalholm" || w.shows(t, "b") != "Mella" || w.shows(t, "c") != "404" {
		t.Error("not all of it is here")
	}
	w.with(func() { delete(w.items, "b"); delete(w.items, "d") })
	if done, err := n.Ingest.Reconcile(t.Context(), "harbour", cause, false, nil); err != nil || done.Deleted != 1 ||
		w.shows(t, "b") != "404" {
		t.Errorf("a deletion: %+v, %v", done, err)
	}
	if done, err := n.Ingest.Reconcile(t.Context(), "harbour", cause, false, nil); err != nil || done.Changed != 0 {
		t.Errorf("nothing has happened, and yet: %+v, %v", done, err)
	}
	w.with(func() { w.down = true })
	if _, err := n.Ingest.Reconcile(t.Context(), "harbour", cause, false, nil); err == nil ||
		w.shows(t, "a") != "Kvalholm" {
		t.Errorf("an origin that is away: %v, and shows %s", err, w.shows(t, "a"))
	}
	if _, err := n.Ingest.Reconcile(t.Context(), "nowhere", cause, false, nil); !errors.Is(
		err, ingest.ErrUnknownOrigin,
	) {
		t.Errorf("an unknown origin: %v", err)
	}
}

func TestHooksAreVerifiedBeforeDecoding(t *testing.T) {
	w := newWorld(t, 1)
	h := http.Header{
		"Content-Type": {"application/cloudevents+json"},
		"Webhook-Id":   {"x" + strings.Repeat("\xff", 900)},
	}
	if _, err := receive(t, w.nodes[0], "harbour", h, bytes.Repeat([]byte{0}, 100_000)); !errors.Is(
		err,
		proof.ErrNotProven,
	) {
		t.Fatalf("got %v", err)
	}
	events, err := w.nodes[0].Ingest.Events(t.Context(), api.EventFilter{State: events.EventRefused})
	if err != nil || len(events) != 1 || len(events[0].Body) > 4096 || len(events[0].MessageID) > 2000 {
		t.Errorf("what is kept of a stranger's announcement: %d bytes, %v", len(events[0].Body), err)
	}
}

// TestRulesAndBuildsHappenOnce has three nodes on one database: each change is
// judged by one of them, and each build is called for once.
func TestRulesAndBuildsHappenOnce(t *testing.T) {
	w := newWorld(t, 3)
	const entries = 12
	for i := range entries {
		w.set(fmt.Sprint(i), fmt.Sprintf("Pier %d", i), "open", 1)
		w.announce(t, w.nodes[i%3], "published", fmt.Sprint(i))
	}
	causes := func() (n int, numbers []int64) {
		for _, o := range w.called() {
			n += len(o.Causes)
			numbers = append(numbers, o.Number)
		}
		return n, numbers
	}
	testkit.Eventually(t, "all of them are ordered", func() bool {
		for _, o := range w.called() {
			// Ends what runs, so that what waits may start.
			if _, err := w.nodes[0].Automation.ReportBuild(t.Context(), o.Build,
				builds.Report{State: rebuild.Finished}); err != nil &&
				!errors.Is(err, builds.ErrNotRunning) {
				t.Fatal(err)
			}
		}
		n, _ := causes()
		return n >= entries
	})
	n, numbers := causes()
	if !slices.IsSorted(numbers) || len(slices.Compact(slices.Clone(numbers))) != len(numbers) || n != entries {
		t.Errorf("builds %v with %d causes, want each once and %d", numbers, n, entries)
	}
	events, err := w.nodes[1].Ingest.Events(t.Context(), api.EventFilter{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	e, err := w.nodes[1].Ingest.Event(t.Context(), events[0].ID)
	if err != nil || len(e.Rules) != 2 || !e.Rules[0].Fired || e.Rules[1].Fired ||
		e.Rules[1].Reason != "type: it is for route, this is a pier" {
		t.Errorf("what the rules made of it: %+v, %v", e.Rules, err)
	}
}

func TestUnreachableBuilderIsCalledAgain(t *testing.T) {
	w := newWorld(t, 1)
	w.with(func() { w.refuse = true })
	w.set("a", "Kvalholm", "open", 1)
	w.settled(t, w.announce(t, w.nodes[0], "published", "a"), events.EventDone)
	testkit.Eventually(t, "the refusal is noted", func() bool {
		builds, err := w.nodes[0].Automation.Builds(t.Context(), api.BuildFilter{})
		return err == nil && len(builds) == 1 && builds[0].State == rebuild.Running &&
			strings.Contains(builds[0].Error, "the slip is taken")
	})
	w.with(func() { w.refuse = false })
	testkit.Eventually(t, "the call is taken", func() bool { return len(w.called()) == 1 })
	order := w.called()[0]
	if order.Report != "http://gateway.example/control/v1/builds/"+order.Build+"/reports" || order.Sequence == 0 ||
		order.Site != "web" {
		t.Errorf("%+v", order)
	}
	report := func(key, state string) int {
		t.Helper()
		a, err := (&client.Client{Address: w.nodes[0].client.Address, Key: key}).Do(
			t.Context(), http.MethodPost, "/control/v1/builds/"+order.Build+"/reports", nil,
			map[string]string{"state": state, "error": "leaky"},
		)
		if err != nil {
			t.Fatal(err)
		}
		return a.Status
	}
	_, site, err := w.nodes[0].Keys.CreateKey(
		t.Context(),
		access.Key{Name: "web", Site: "web", Grants: access.Grants{{Verb: "read", Edition: "published", Type: "*"}}},
		"test",
	)
	if err != nil {
		t.Fatal(err)
	}
	_, other, err := w.nodes[0].Keys.CreateKey(
		t.Context(),
		access.Key{
			Name:   "other",
			Site:   "other",
			Grants: access.Grants{{Verb: "read", Edition: "published", Type: "*"}},
		},
		"test",
	)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		key, state string
		want       int
	}{
		{"", "finished", 401},
		{other, "finished", 403},
		{site, "sunk", 400},
		{site, "started", 200},
		{site, "failed", 200},
		{site, "finished", 409},
	} {
		if got := report(c.key, c.state); got != c.want {
			t.Errorf("reporting %s: %d, want %d", c.state, got, c.want)
		}
	}
	builds, err := w.nodes[0].Automation.Builds(t.Context(), api.BuildFilter{Site: "web"})
	if err != nil || len(builds) != 2 || builds[0].State != rebuild.Waiting || builds[1].State != rebuild.Failed ||
		builds[1].Error != "leaky" {
		t.Errorf("after a failure: %+v, %v", builds, err)
	}
}

func TestNewsIsBroadcast(t *testing.T) {
	w := newWorld(t, 1)
	req, err := http.NewRequestWithContext(
		t.Context(), http.MethodGet, w.nodes[0].client.Address+"/control/v1/news", nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+w.nodes[0].client.Key)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	resp, err := http.DefaultClient.Do(req.WithContext(ctx))
	if err != nil || resp.Header.Get("Content-Type") != "text/event-stream" {
		t.Fatalf("%v %v", resp, err)
	}
	defer resp.Body.Close()
	w.set("a", "Kvalholm", "open", 1)
	w.announce(t, w.nodes[0], "published", "a")
	heard := ""
	for part := make([]byte, 500); !strings.Contains(heard, "data: events") ||
		!strings.Contains(heard, "data: changes") || !strings.Contains(heard, "data: builds"); {
		n, err := resp.Body.Read(part)
		heard += string(part[:n])
		if err != nil && !errors.Is(err, io.EOF) {
			t.Fatalf("%v after %q", err, heard)
		}
	}
}

func TestConfigurationIsCheckedAgainstModel(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	_, err := environment.Open(
		t.Context(),
		environment.Options{
			Store: s,
			Settings: settings.Seed{
				Origins: map[string]origin.Config{"o": {}},
				Sites:   map[string]rebuild.Site{"web": {Address: "nowhere"}},
				Rules: []rule.Rule{
					{
						Name:  "x",
						On:    []string{"published"},
						Types: []string{"peir"},
						Do:    []rule.Step{{Rebuild: &rule.Rebuild{Site: "wbe"}}},
					},
				},
			},
		},
	)
	if err == nil {
		t.Fatal("accepted")
	}
	for _, want := range []string{
		`did you mean "pier"?`, `there is no site "wbe"`, `site web: address: "nowhere"`, "origin o: prove is missing",
	} {
		if !strings.Contains(err.Error(), want) {
			t.Errorf("%q lacks %q", err, want)
		}
	}
}
