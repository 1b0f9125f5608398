package environment_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/environment"
	"ubiquon/internal/server"
	"ubiquon/internal/store/events"
	"ubiquon/internal/testkit"
)

// within starts a node with limits of its own on the line's store.
func (l *line) within(t *testing.T, o limits.Limits) node {
	t.Helper()
	n := start(t, environment.Options{Store: l.store, Limits: o}, access.NewSecret())
	l.nodes = append(l.nodes, n)
	return n
}

// heap is what is in use after everything that can go has gone.
func heap() int64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// TestRequestsLeakNoMemory sends many requests that nobody repeats.
func TestRequestsLeakNoMemory(t *testing.T) {
	l := newLine(t, 1)
	n := l.within(t, limits.Limits{Plans: 1 << 20})
	_, key := l.key(t, "read published *")
	testkit.Eventually(
		t, "the node knows the key",
		func() bool { return n.ask(t, key, "published/notices?fields=title").Status == 200 },
	)
	handler := server.New(server.Options{Environment: n.Environment})
	send := func(i int, method, path, secret string, body string) int {
		r := httptest.NewRequest(method, path, strings.NewReader(body))
		r.Header.Set("Content-Type", "application/json")
		r.RemoteAddr = fmt.Sprintf("10.%d.%d.%d:1000", i>>16&255, i>>8&255, i&255)
		if secret != "" {
			r.Header.Set("Authorization", "Bearer "+secret)
		}
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, r)
		return w.Code
	}
	base := "/content/" + n.Replica.Environment() + "/published/"
	long := strings.Repeat("x", 8000)
	for name, c := range map[string]struct {
		many   int
		send   func(i int) int
		status int
	}{
		"reads of nobody": {20_000, func(i int) int {
			return send(i, "GET", fmt.Sprintf("%snotices?limit=%d&x=%s", base, i%100, long), "", "")
		}, 401},
		"GraphQL of nobody": {5_000, func(i int) int {
			return send(i, "POST", base+"graphql", "",
				fmt.Sprintf(`{"query": "{ a%d: notices { totalCount } } #%s"}`, i, long))
		}, 401},
		"plans of a key": {20_000, func(i int) int {
			return send(i, "GET", fmt.Sprintf("%snotices?fields=title&limit=0&offset=%d", base, i%10_000), key, "")
		}, 200},
		"sign-ins": {5_000, func(i int) int {
			return send(i, "POST", "/control/v1/session", "",
				fmt.Sprintf(`{"email": "%d%s", "password": "x"}`, i, long[:3000]))
		}, 401},
		"keys that are none": {
			20_000,
			func(i int) int { return send(i, "GET", base+"notices", fmt.Sprint("ubq_", i), "") }, 401,
		},
		"submissions": {5_000, func(i int) int {
			return send(i, "POST", "/content/"+n.Replica.Environment()+"/submissions/remarks", "", `{"subject": "x"}`)
		}, 401},
	} {
		t.Run(name, func(t *testing.T) {
			c.send(0)
			before := heap()
			for i := range c.many {
				if got := c.send(i + 1); got != c.status && got != http.StatusTooManyRequests {
					t.Fatalf("request %d: %d", i, got)
				}
			}
			grown := heap() - before
			t.Logf("%d requests leave %d KiB", c.many, grown>>10)
			if most := int64(24 << 20); grown > most {
				t.Errorf("%d requests leave %d MiB", c.many, grown>>20)
			}
		})
	}
}

// TestBodiesAreBounded sends more than each route takes.
func TestBodiesAreBounded(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	for path, size := range map[string]int{
		"/control/v1/session": 5 << 10, "/control/v1/welcome": 5 << 10,
		"/control/v1/keys": 65 << 10, "/control/v1/edits": 9 << 20, "/control/v1/model/plan": 9 << 20,
		"/control/v1/why": 65 << 10, "/hooks/none": 2 << 20,
		"/content/" + n.Replica.Environment() + "/published/graphql": 257 << 10,
	} {
		a, err := n.client.Do(
			t.Context(), http.MethodPost, path, http.Header{"Content-Type": {"application/json"}},
			json.RawMessage(`{"email": "`+strings.Repeat("x", size)+`"}`),
		)
		if err == nil && a.Status != http.StatusRequestEntityTooLarge {
			t.Errorf("%s takes %d bytes: %d %.100s", path, size, a.Status, a.Body)
		}
	}
}

// TestAnswersAreBounded asks for more than an answer may have.
func TestAnswersAreBounded(t *testing.T) {
	l := newLine(t, 1)
	n := l.within(t, limits.Limits{Answer: 64 << 10})
	n.must(
		t,
		api.Edit{
			ID:   "scarf",
			Type: "remark",
			Save: per{"subject": "Scarf", "text": per{"en": strings.Repeat("Woollen. ", 3000)}},
			Do:   "publish",
		},
	)
	many := "{ remarks { nodes { "
	for i := range 100 {
		many += fmt.Sprintf("a%d: text { html } ", i)
	}
	for _, path := range []string{
		graphqlOf("published", many+"} } }"),
		"published/remarks?fields=text(html,inline,tree,commonmark,plain)",
	} {
		a := n.ask(t, n.client.Key, path)
		if a.Status != http.StatusRequestEntityTooLarge || !strings.Contains(string(a.Body), "64KB") {
			t.Errorf("%.60s: %d %.200s", path, a.Status, a.Body)
		}
	}
	if a := n.ask(t, n.client.Key, "published/remarks?fields=text(plain)"); a.Status != 200 {
		t.Errorf("what is small enough: %d %.200s", a.Status, a.Body)
	}
}

// TestSlowReadsSlowNobodyElse holds the table of content, so that reads of it wait, and
// has one reader ask for very many.
func TestSlowReadsSlowNobodyElse(t *testing.T) {
	l := newLine(t, 1)
	n := l.within(t, limits.Limits{Computing: 4, ComputingPerPrincipal: 2, Patience: 1, WaitingPerPrincipal: 10})
	_, flood := l.key(t, "read published *")
	testkit.Eventually(
		t, "the node knows the key",
		func() bool { return n.ask(t, flood, "published/notices?fields=title").Status == 200 },
	)
	tx, err := l.store.DB.Pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback(context.WithoutCancel(t.Context()))
	if _, err := tx.Exec(t.Context(), `lock table document in access exclusive mode`); err != nil {
		t.Fatal(err)
	}
	leaving, leave := context.WithCancel(t.Context())
	var wg sync.WaitGroup
	refused := make(chan int, 100)
	for i := range 40 {
		wg.Go(func() {
			a, err := (&client.Client{Address: n.client.Address, Key: flood}).Do(
				leaving, http.MethodGet,
				fmt.Sprintf("/content/%s/published/notices?fields=title&offset=%d", n.Replica.Environment(), i+1),
				nil, nil,
			)
			if err == nil {
				refused <- a.Status
			}
		})
	}
	waiting := func() (n int) {
		if err := l.store.DB.Pool.QueryRow(t.Context(), `select count(*) from pg_stat_activity where wait_event_type
			= 'Lock' and query like '%document%'`).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	testkit.Eventually(t, "two reads wait for the table", func() bool { return waiting() == 2 })
	if s := n.Delivery.Admission(); s.Running != 2 {
		t.Errorf("%+v are under way", s)
	}
	testkit.Eventually(t, "reads beyond are refused", func() bool { return len(refused) >= 20 })
	for range len(refused) {
		if status := <-refused; status != http.StatusServiceUnavailable {
			t.Errorf("a read beyond is refused with %d", status)
		}
	}
	for path, status := range map[string]int{
		"/health/ready": 200, "/health/live": 200, "/control/v1/keys": 200,
		"/control/v1/status": 200, "/content/" + n.Replica.Environment() + "/published/notices?fields=title": 200,
	} {
		begin := time.Now()
		a, err := n.client.Do(t.Context(), http.MethodGet, path, nil, nil)
		if err != nil || a.Status != status {
			if path != "/control/v1/status" { // it counts entries, which has to wait
				t.Errorf("%s beside slow reads: %v %+v", path, err, a)
			}
		}
		if took := time.Since(begin); took > 5*time.Second {
			t.Errorf("%s took %v", path, took)
		}
	}
	leave()
	wg.Wait()
	testkit.Eventually(
		t, "the statements of those who left have ended",
		func() bool { return waiting() == 0 && n.Delivery.Admission().Running == 0 },
	)
}

// TestRefusedHooksFillNothing announces what proves nothing.
func TestRefusedHooksFillNothing(t *testing.T) {
	w := newWorld(t, 1)
	n := w.nodes[0]
	statuses := map[int]int{}
	for range 400 {
		resp, err := http.Post(
			n.client.Address+"/hooks/harbour", "application/json",
			strings.NewReader(`{"x": "`+strings.Repeat("y", 5000)+`"}`),
		)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		statuses[resp.StatusCode]++
	}
	if statuses[401] == 0 || statuses[429] < 300 || statuses[401]+statuses[429] != 400 {
		t.Errorf("answered with %v", statuses)
	}
	if kept, err := n.client.Origins().Events(t.Context(), api.EventFilter{
		State: "refused",
		Limit: 500,
	}); err != nil ||
		len(kept) > 100 ||
		len(kept) != statuses[401] {
		t.Errorf("%d are kept, %v", len(kept), err)
	}
	if n.Ingest.DroppedHooks() != int64(statuses[429]) {
		t.Errorf("%d are counted", n.Ingest.DroppedHooks())
	}
	for i := range 40 {
		if err := w.store.Events.AddIdle(t.Context(),
			&api.Event{Origin: "harbour", State: events.EventRefused, Body: []byte{byte(i)}}, 25); err != nil {
			t.Fatal(err)
		}
	}
	if kept, err := n.client.Origins().Events(t.Context(), api.EventFilter{
		State: "refused",
		Limit: 500,
	}); err != nil ||
		len(kept) != 25 {
		t.Errorf("%d of one origin are kept, %v", len(kept), err)
	}
}

// TestStreamsEndWithTheRight follows changes with a key, which is revoked.
func TestStreamsEndWithTheRight(t *testing.T) {
	l := newLine(t, 1)
	n := l.within(t, limits.Limits{StreamsPerPrincipal: 2})
	k, secret := l.key(t, "read published *")
	testkit.Eventually(
		t, "the node knows the key", func() bool { return n.ask(t, secret, "published/notices").Status == 200 },
	)
	open := func() (*http.Response, error) {
		req, _ := http.NewRequestWithContext(
			t.Context(), http.MethodGet, n.client.Address+"/content/"+n.Replica.Environment()+"/published/changes",
			nil,
		)
		req.Header.Set("Authorization", "Bearer "+secret)
		return http.DefaultClient.Do(req)
	}
	var streams []*http.Response
	for i, want := range []int{200, 200, 429} {
		resp, err := open()
		if err != nil || resp.StatusCode != want {
			t.Fatalf("stream %d: %v %v", i, err, resp)
		}
		defer resp.Body.Close()
		streams = append(streams, resp)
	}
	n.must(
		t,
		api.Edit{ID: "fog", Type: "notice", Save: per{"title": per{"en": "Fog"}, "slug": "told"}, Do: "publish"},
	)
	buffer := make([]byte, 4096)
	heard := ""
	for !strings.Contains(heard, "published") {
		read, err := streams[0].Body.Read(buffer)
		if err != nil {
			t.Fatal(err)
		}
		heard += string(buffer[:read])
	}
	if _, err := n.Keys.RevokeKey(t.Context(), k.ID, "test"); err != nil {
		t.Fatal(err)
	}
	n.must(
		t,
		api.Edit{
			ID:   "fog",
			Type: "notice",
			Save: per{"title": per{"en": "Secret"}, "slug": "untold"},
			Do:   "publish",
		},
	)
	rest, _ := io.ReadAll(streams[0].Body) // it ends
	if strings.Contains(string(rest), "published") {
		t.Errorf("a revoked key hears of more: %s", rest)
	}
}

// TestExpensiveProseIsRefused saves prose that would take minutes to render, beside
// somebody who writes.
func TestExpensiveProseIsRefused(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	var wg sync.WaitGroup
	begin := time.Now()
	for i, dear := range []string{
		strings.Repeat("_a*", 23_000), strings.Repeat("[a](", 20_000),
		strings.Repeat("[a][", 20_000),
		"|" + strings.Repeat("a|", 3000) + "\n|" + strings.Repeat("-|", 3000) + strings.Repeat("\n|a", 5000),
	} {
		wg.Go(func() {
			_, err := n.client.Entries().Edit(
				t.Context(),
				api.Edit{
					ID:   fmt.Sprint("dear", i),
					Type: "remark",
					Save: per{"subject": "Dear", "text": per{"en": dear}},
				},
			)
			if err == nil || !strings.Contains(err.Error(), "fields.text.en") {
				t.Errorf("text %d: %v", i, err)
			}
		})
	}
	for i := range 10 {
		n.must(
			t,
			api.Edit{
				ID:   fmt.Sprint("plain", i),
				Type: "remark",
				Save: per{"subject": fmt.Sprint("Plain ", i), "text": per{"en": "Plain *text*."}},
			},
		)
	}
	wg.Wait()
	if took := time.Since(begin); took > 10*time.Second {
		t.Errorf("it took %v", took)
	}
	long := strings.Repeat("Woollen. ", 12_000)
	if _, err := n.client.Entries().Edit(t.Context(), api.Edit{
		ID: "long", Type: "remark",
		Save: per{"subject": "Long", "text": per{"en": long}},
	}); err == nil ||
		!strings.Contains(err.Error(), "100000") {
		t.Errorf("a text that is too long: %v", err)
	}
}

// TestBadContentNegotiationHeaders sends what is no text where a program names itself.
func TestBadContentNegotiationHeaders(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, secret := l.key(t, "read published *")
	handler := server.New(server.Options{Environment: n.Environment})
	for _, agent := range []string{"\xff\xfe", "a\x01b", strings.Repeat("ä", 500)} {
		for _, key := range []string{secret, ""} {
			r := httptest.NewRequest(http.MethodGet, "/content/"+n.Replica.Environment()+"/published/notices", nil)
			r.Header["User-Agent"] = []string{agent}
			if key != "" {
				r.Header.Set("Authorization", "Bearer "+key)
			}
			handler.ServeHTTP(httptest.NewRecorder(), r)
		}
	}
	for _, path := range []string{"/control/v1/keys", "/control/v1/refusals"} {
		if a, err := n.client.Do(t.Context(), http.MethodGet, path, nil, nil); err != nil || a.Status != 200 {
			t.Errorf("%s: %v %+v", path, err, a)
		}
	}
}

// TestAnonymousReadersAreBounded bounds what one address has computed without a key, and
// how often it may ask.
func TestAnonymousReadersAreBounded(t *testing.T) {
	l := newLine(t, 1)
	n := l.within(t, limits.Limits{AnonymousComputedPerMinute: 5, AnonymousPerMinute: 30})
	if _, err := n.Keys.ChangePublicGrants(t.Context(), "test",
		access.Grants{{Verb: access.Read, Edition: content.Published, Type: "notice"}}, nil); err != nil {
		t.Fatal(err)
	}
	refused := 0
	for i := range 10 {
		if a := n.ask(t, "", fmt.Sprintf("published/notices?fields=title&limit=%d", i+1)); a.Status == 429 &&
			a.Header.Get("Retry-After") != "" {
			refused++
		}
	}
	if refused < 4 || refused > 5 {
		t.Errorf("%d of ten computations are refused", refused)
	}
	if a := n.ask(t, "", "published/notices?fields=title&limit=1"); a.Status != 200 ||
		!testkit.Hit(a.Header.Get("Cache-Status")) {
		t.Errorf("what is held: %d", a.Status)
	}
	for range 30 {
		n.ask(t, "", "published/notices?fields=title&limit=1")
	}
	if a := n.ask(t, "", "published/notices?fields=title&limit=1"); a.Status != 429 {
		t.Errorf("more often than is allowed: %d", a.Status)
	}
	if a := n.ask(t, n.client.Key, "published/notices?fields=title&limit=7"); a.Status != 200 {
		t.Errorf("a key at the same address: %d", a.Status)
	}
}

// TestMetricsAreNotForEverybody reads them from elsewhere.
func TestMetricsAreNotForEverybody(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	handler := server.New(server.Options{Environment: n.Environment})
	_, reader := l.key(t, "read preview *")
	for name, c := range map[string]struct {
		from, forwarded, secret string
		status                  int
	}{
		"here": {"127.0.0.1:1", "", "", 200}, "elsewhere": {"203.0.113.9:1", "", "", 401},
		"through a proxy":                     {"127.0.0.1:1", "203.0.113.9", "", 401},
		"elsewhere, with a key that may read": {"203.0.113.9:1", "", reader, 403}, "elsewhere, with one that " +
			"administers": {"203.0.113.9:1", "", n.client.Key, 200},
	} {
		r := httptest.NewRequest(http.MethodGet, "/metrics", nil)
		r.RemoteAddr = c.from
		if c.forwarded != "" {
			r.Header.Set("X-Forwarded-For", c.forwarded)
		}
		if c.secret != "" {
			r.Header.Set("Authorization", "Bearer "+c.secret)
		}
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, r)
		if w.Code != c.status {
			t.Errorf("%s: %d", name, w.Code)
		}
	}
}

// TestFiltersArePriced compares the effort of filters that an index supports with that of
// others.
func TestFiltersArePriced(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	effort := func(filter string) int {
		out, err := n.client.Reads().Examine(
			t.Context(),
			api.ReadQuestion{Request: "/notices?limit=1&fields=title&filter=" + url.QueryEscape(filter)},
		)
		if err != nil || out.Status != 200 {
			t.Fatalf("%s: %v %+v", filter, err, out)
		}
		return out.Effort.Asked
	}
	none, like, across := effort("TRUE"), effort("title LIKE '%x%'"), effort("routes.name LIKE '%x%'")
	if bySlug, byID := effort("slug = 'fog'"), effort("id = 'fog'"); bySlug > none+200 || byID > none+200 {
		t.Errorf("what an index finds: %d and %d beside %d", bySlug, byID, none)
	}
	if like < none+1000 || across < 2*like {
		t.Errorf("nothing at all %d, a pattern %d, across references %d", none, like, across)
	}
}
