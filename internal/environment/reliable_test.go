package environment_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/settings"

	"ubiquon/internal/api"
	"ubiquon/internal/authoring"
	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/environment"
	"ubiquon/internal/ingest"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/events"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

// TestIdempotencyKeyWritesOnce sends writes again with the key of draft-ietf-httpapi-
// idempotency-key-header.
func TestIdempotencyKeyWritesOnce(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	secret := access.NewSecret()
	nodes := []node{open(t, s, secret), open(t, s, secret)}
	publish(t, nodes[0], "p1", "pier", content.Fields{"name": "Mella"})
	send := func(n node, method, path, key string, body any) *client.Answer {
		t.Helper()
		a, err := n.client.Do(t.Context(), method, path, http.Header{"Idempotency-Key": {key}}, body)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	// Twice at the same time, and on two nodes.
	answers := make([]*client.Answer, 6)
	var all sync.WaitGroup
	for i := range answers {
		all.Go(func() {
			testkit.Eventually(t, "no other is under way", func() bool {
				answers[i] = send(nodes[i%2], http.MethodPost, "/control/v1/entries/p1/duplicate", `"copy-1"`, nil)
				return answers[i].Status != http.StatusConflict
			})
		})
	}
	all.Wait()
	for _, a := range answers {
		if a.Status != 200 || string(a.Body) != string(answers[0].Body) ||
			!strings.Contains(string(a.Body), `"id":`) {
			t.Errorf("%d %s, another %s", a.Status, a.Body, answers[0].Body)
		}
	}
	_, found, err := s.Schedules.List(t.Context(), "", 0)
	if err != nil || found != 0 {
		t.Fatal(found, err)
	}
	var piers int
	if err := s.DB.Pool.QueryRow(t.Context(), `select count(*) from entry where environment =
		$1`, s.Environment).Scan(&piers); err != nil ||
		piers != 2 {
		t.Errorf("there are %d piers, %v", piers, err)
	}
	if a := send(nodes[0], http.MethodPost, "/control/v1/entries/p2/duplicate", "copy-1",
		nil); a.Status != http.StatusUnprocessableEntity {
		t.Errorf("the same key for another write: %d %s", a.Status, a.Body)
	}
	if a := send(nodes[0], http.MethodPost, "/control/v1/entries/p1/duplicate", strings.Repeat("x", 300),
		nil); a.Status != http.StatusBadRequest {
		t.Errorf("a long key: %d %s", a.Status, a.Body)
	}
	// What was refused is refused again; somebody else's key is another.
	bad := map[string]any{
		"edits": []any{
			map[string]any{
				"id":   "p3",
				"type": "pier",
				"save": map[string]any{"name": strings.Repeat("x", 50)},
				"do":   "publish",
			},
		},
	}
	first := send(nodes[0], http.MethodPost, "/control/v1/edits", "bad", bad)
	if again := send(nodes[1], http.MethodPost, "/control/v1/edits", "bad", bad); first.Status < 400 ||
		first.Status >= 500 ||
		again.Status != first.Status ||
		string(again.Body) != string(first.Body) {
		t.Errorf("%d %s, then %d %s", first.Status, first.Body, again.Status, again.Body)
	}
	_, other, err := nodes[0].Keys.CreateKey(
		t.Context(), access.Key{Name: "other", Grants: access.RoleAdmin.Grants()}, "test",
	)
	if err != nil {
		t.Fatal(err)
	}
	theirs := node{nodes[0].Environment, &client.Client{Address: nodes[0].client.Address, Key: other}}
	if a := send(theirs, http.MethodPost, "/control/v1/entries/p1/duplicate", `"copy-1"`, nil); a.Status != 200 ||
		string(a.Body) == string(answers[0].Body) {
		t.Errorf("another's key: %d %s", a.Status, a.Body)
	}
	// A secret is not kept.
	key := send(
		nodes[0], http.MethodPost, "/control/v1/keys", "new",
		map[string]any{"name": "web", "grants": []string{"read published *"}},
	)
	if again := send(nodes[0], http.MethodPost, "/control/v1/keys", "new", map[string]any{
		"name":   "web",
		"grants": []string{"read published *"},
	}); key.Status != 200 ||
		again.Status != http.StatusConflict ||
		strings.Contains(string(again.Body), "ubq_") {
		t.Errorf("%d %s, then %d %s", key.Status, key.Body, again.Status, again.Body)
	}
	// A node that ends before it could keep the answer leaves the word that it is stored.
	if _, err := s.DB.Pool.Exec(t.Context(), `update written set status = null, body = null, at = at - interval
		'1 hour' where environment = $1 and key like '%bad'`, s.Environment); err != nil {
		t.Fatal(err)
	}
	if again := send(nodes[0], http.MethodPost, "/control/v1/edits", "bad", bad); again.Status != first.Status {
		t.Errorf("after the node has gone: %d %s", again.Status, again.Body)
	}
}

// TestTransientFailureOnlyDelaysSchedule has the database refuse what schedules
// write for a while, as it does with a full disk.
func TestTransientFailureOnlyDelaysSchedule(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	for i := range 3 {
		if _, err := n.Authoring.Apply(t.Context(),
			[]writing.Edit{{
				ID: fmt.Sprint("p", i), Type: "pier", Origin: content.Local,
				Save: content.Fields{"name": fmt.Sprint("Pier ", i)},
			}}, "test",
			content.Cause{Kind: "user"}); err != nil {
			t.Fatal(err)
		}
	}
	name := "full_" + s.Environment
	if _, err := s.DB.Pool.Exec(t.Context(), fmt.Sprintf(`create function %s() returns trigger language plpgsql as
		$$ begin
			if new.environment = '%s' then raise exception 'could not extend file: No space left on device' using
			errcode = '53100'; end if; return new; end $$;
		create trigger %[1]s before insert on change for each row execute function
		%[1]s()`, name, s.Environment)); err != nil {
		t.Fatal(err)
	}
	drop := func() {
		if _, err := s.DB.Pool.Exec(t.Context(), fmt.Sprintf(`drop function if exists %s cascade`, name)); err != nil {
			t.Error(err)
		}
	}
	a, err := n.client.Do(
		t.Context(),
		http.MethodPost,
		"/control/v1/edits",
		nil,
		map[string]any{
			"edits": []any{
				map[string]any{"id": "p9", "type": "pier", "save": map[string]any{"name": "Nine"}, "do": "publish"},
			},
		},
	)
	if err != nil || a.Status != http.StatusServiceUnavailable || a.Header.Get("Retry-After") == "" ||
		!strings.Contains(string(a.Body), "no room left") {
		t.Errorf("a write: %d %s %v, %v", a.Status, a.Body, a.Header, err)
	}
	for i := range 3 {
		if _, err := n.Authoring.AddSchedules(t.Context(), api.Schedule{
			Entry:  fmt.Sprint("p", i),
			Action: entries.SchedulePublish, At: time.Now().Add(time.Second), Zone: "UTC", By: "ada",
		}); err != nil {
			t.Fatal(err)
		}
	}
	testkit.Eventually(t, "they are late, and say why", func() bool {
		late, all, err := n.Authoring.Schedules(t.Context(), "late", 2)
		return err == nil && all == 3 && len(late) == 2 && late[0].Late && late[0].State == entries.SchedulePending &&
			strings.Contains(late[0].Detail, "no room left") &&
			late[0].NextTry != nil
	})
	drop()
	testkit.Eventually(t, "they are carried out", func() bool {
		_, done, err := n.Authoring.Schedules(t.Context(), entries.ScheduleDone, 0)
		return err == nil && done == 3
	})
	if _, failed, err := n.Authoring.Schedules(t.Context(), entries.ScheduleFailed, 0); err != nil || failed != 0 {
		t.Errorf("%d schedules failed, %v", failed, err)
	}
}

// TestImportSkipsOverlongLines has a line in the middle of an import that is longer
// than is read.
func TestImportSkipsOverlongLines(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	line := func(id string) string {
		return `{"id": "` + id + `", "type": "pier", "fields": {"name": "` + id + `"}}` + "\n"
	}
	text := line("a") + strings.Repeat("x", 5<<20) + "\n" + line("b") + "\n" + strings.TrimSuffix(line("c"), "\n")
	for _, after := range []int{0, 2} {
		var last api.ImportProgress
		var bad []api.BadLine
		if err := n.Authoring.Import(t.Context(), strings.NewReader(text), "test",
			api.ImportOptions{After: after}, func(p api.ImportProgress) {
				bad, last = append(bad, p.BadLines...), p
			}); err != nil {
			t.Fatal(err)
		}
		if !last.Done || last.Line != 5 || (after == 0) != (len(bad) == 1) ||
			after == 0 && (bad[0].Line != 2 || last.Written != 3) {
			t.Errorf("after %d: %+v %+v", after, last, bad)
		}
	}
}

// TestVerifiedMalformedHookIsKept signs announcements that cannot be read.
func TestVerifiedMalformedHookIsKept(t *testing.T) {
	w := newWorld(t, 1)
	for i, body := range []string{
		`{"specversion":"1.0","id":"x","source":"/h","type":"x.published","subject":"berths/a","time":"2026\u0000"}`,
		`{"specversion":"1.0","id":"x","source":"/h","type":"x.published","subject":"berths/a\u0000b","time":"2026-01-01T00:00:00Z"}`,
		`{"specversion":"1.0","id":"x\u0000","source":"/h\u0000","type":"x.published\u0000","subject":"berths/a"}`,
		"\x00", `{"a": "\ud800"}`,
	} {
		h := http.Header{"Content-Type": {"application/cloudevents+json"}}
		if err := outbound.Sign(h, hookSecret, fmt.Sprint("nonsense", i), time.Now(), []byte(body)); err != nil {
			t.Fatal(err)
		}
		var unreadable *ingest.UndecodableError
		if _, err := receive(t, w.nodes[0], "harbour", h, []byte(body)); !errors.As(
			err, &unreadable,
		) {
			t.Errorf("%q: %v", body, err)
		}
	}
	events, err := w.nodes[0].Ingest.Events(t.Context(), api.EventFilter{State: events.EventRefused})
	if err != nil || len(events) != 5 {
		t.Errorf("%d are kept, %v", len(events), err)
	}
}

// TestAmbiguousLocalTimes gives times that come twice where clocks are put back by
// half an hour, and by two.
func TestAmbiguousLocalTimes(t *testing.T) {
	for zone, text := range map[string]string{
		"Australia/Lord_Howe": "2026-04-05T01:45",
		"Antarctica/Troll":    "2026-10-25T01:30", "Europe/Oslo": "2026-10-25T02:30",
	} {
		if at, _, err := authoring.ParseMoment(text, zone); err == nil {
			t.Errorf("%s in %s is taken for %v", text, zone, at)
		}
		if _, _, err := authoring.ParseMoment("2026-07-01T12:00", zone); err != nil {
			t.Error(err)
		}
	}
}

// TestMassDeletionNeedsConfirmation has an origin answer as if it had lost everything, and beside
// a bad item one entry go.
func TestMassDeletionNeedsConfirmation(t *testing.T) {
	w := newWorld(t, 1)
	n := w.nodes[0]
	for i := range 30 {
		w.set(fmt.Sprint("a", i), fmt.Sprint("Pier ", i), "open", 1)
	}
	w.set("bad", strings.Repeat("x", 50), "open", 1)
	cause := content.Cause{Kind: "reconcile", Name: "harbour"}
	reconcile := func(deleteMany bool) api.Reconciled {
		t.Helper()
		done, err := n.Ingest.Reconcile(t.Context(), "harbour", cause, deleteMany, nil)
		if err != nil {
			t.Fatal(err)
		}
		return done
	}
	if done := reconcile(false); done.Seen != 31 || done.BadItems != 1 || len(done.Bad) != 1 {
		t.Fatalf("%+v", done)
	}
	w.with(func() { delete(w.items, "a7") })
	if done := reconcile(false); done.Deleted != 1 || done.Held != 0 || w.shows(t, "a7") != "404" {
		t.Errorf("one is gone, beside one that is bad: %+v", done)
	}
	kept := w.items
	w.with(func() { w.items = map[string]map[string]any{} })
	e := w.settled(t, w.announce(t, n, "ping", ""), events.EventDone)
	if !strings.Contains(e.Detail, "29 that the origin does not have any more are kept") ||
		w.shows(t, "a1") != "Pier 1" {
		t.Errorf("everything is gone: %s, and a1 is %s", e.Detail, w.shows(t, "a1"))
	}
	w.with(func() { w.items = kept })
	if done := reconcile(false); done.Held != 0 || done.Deleted != 0 {
		t.Errorf("it was back: %+v", done)
	}
	w.with(func() { w.items = map[string]map[string]any{} })
	if done := reconcile(true); done.Deleted != 29 || w.shows(t, "a1") != "404" {
		t.Errorf("with somebody's word: %+v", done)
	}
}

// TestHangingOriginBlocksNoOther announces more from an origin that never answers
// than is processed at once, and then something from another.
func TestHangingOriginBlocksNoOther(t *testing.T) {
	quay := &outside{items: map[string]map[string]any{}}
	good := httptest.NewServer(quay)
	t.Cleanup(good.Close)
	end := make(chan struct{})
	hanging := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-end:
		case <-r.Context().Done():
		}
	}))
	t.Cleanup(hanging.Close)
	t.Cleanup(func() { close(end) })
	origins := map[string]origin.Config{}
	for name, address := range map[string]string{"good": good.URL, "hanging": hanging.URL} {
		var c origin.Config
		if err := strictyaml.Decode("o.yaml", []byte(`
pull: {http: "`+address+`/api"}
prove: {standardWebhooks: ["`+hookSecret+`"]}
types:
  `+map[string]string{"good": "pier", "hanging": "route"}[name]+
			`: {kind: berths, from: "$.berths[*]", id: $.ref, version: $.v, fields: {name: $.called}}
`), &c); err != nil {
			t.Fatal(err)
		}
		origins[name] = c
	}
	n := start(
		t,
		environment.Options{
			Store:     testkit.Store(t, testkit.Model(t, testkit.Ferries)),
			Reconcile: time.Hour,
			Outbound:  outbound.Options{Private: true},
			Settings: settings.Seed{
				Origins: origins,
			},
		},
		access.NewSecret(),
	)
	announce := func(name string) string {
		t.Helper()
		messages++
		body := fmt.Sprintf(
			`{"specversion":"1.0","id":"m%d","source":"/x","type":"x.published","subject":"berths/a"}`, messages,
		)
		h := http.Header{"Content-Type": {"application/cloudevents+json"}}
		if err := outbound.Sign(h, hookSecret, fmt.Sprint("m", messages), time.Now(), []byte(body)); err != nil {
			t.Fatal(err)
		}
		got, err := receive(t, n, name, h, []byte(body))
		if err != nil {
			t.Fatal(err)
		}
		return got.Events[0]
	}
	for range 8 {
		announce("hanging")
	}
	quay.set("a", "Kvalholm", "open", 1)
	begin := time.Now()
	id := announce("good")
	testkit.Eventually(t, "the other origin's event is processed", func() bool {
		e, err := n.Ingest.Event(t.Context(), id)
		return err == nil && e.State == events.EventDone
	})
	if took := time.Since(begin); took > 5*time.Second {
		t.Errorf("it took %v", took)
	}
}

// TestEventsOfLostNodeAreTakenOver leaves an event as a node does that is killed
// while it processes it, and one without a job.
func TestEventsOfLostNodeAreTakenOver(t *testing.T) {
	w := newWorld(t, 2)
	w.with(func() { w.down = true })
	w.set("a", "Kvalholm", "open", 1)
	w.set("b", "Mella", "open", 1)
	killed, lost := w.announce(t, w.nodes[0], "published", "a"), w.announce(t, w.nodes[0], "published", "b")
	for _, id := range []string{killed, lost} {
		testkit.Eventually(t, "it was tried", func() bool {
			e, err := w.nodes[0].Ingest.Event(t.Context(), id)
			return err == nil && strings.Contains(e.Detail, "502")
		})
	}
	for id, sql := range map[string]string{
		killed: `update river_job set state = 'running', attempted_by =
		array['gone'], attempted_at = clock_timestamp() - interval '1 minute' where args ->> 'event' = $1`,
		lost: `delete from river_job where args ->> 'event' = $1`,
	} {
		if tag, err := w.store.DB.Pool.Exec(t.Context(), sql, id); err != nil || tag.RowsAffected() != 1 {
			t.Fatal(tag, err)
		}
	}
	w.with(func() { w.down = false })
	begin := time.Now()
	w.settled(t, killed, events.EventDone)
	w.settled(t, lost, events.EventDone)
	t.Logf("both were processed after %v", time.Since(begin))
}

// TestStandbyRunsNoJobs starts a node on a copy in which something is
// scheduled, as after a restore.
func TestStandbyRunsNoJobs(t *testing.T) {
	w := newWorld(t, 0)
	called := w.outside
	web := httptest.NewServer(called)
	t.Cleanup(web.Close)
	n := start(t, environment.Options{
		Store: w.store, Quiet: true, Outbound: outbound.Options{Private: true},
		Settings: settings.Seed{
			Sites: map[string]rebuild.Site{
				"web": {
					Address: web.URL,
					Build:   &rebuild.Call{Call: web.URL + "/build", Quiet: strictyaml.Duration(time.Millisecond)},
				},
			},
			Rules: []rule.Rule{
				{
					Name:  "piers",
					On:    []string{"published"},
					Types: []string{"pier"},
					Do:    []rule.Step{{Rebuild: &rule.Rebuild{Site: "web", Now: true}}},
				},
			},
		},
	}, access.NewSecret())
	publish(t, n, "p1", "pier", content.Fields{"name": "Mella"})
	all, err := n.Authoring.AddSchedules(
		t.Context(),
		api.Schedule{
			Entry:  "p1",
			Action: entries.ScheduleUnpublish,
			At:     time.Now().Add(300 * time.Millisecond),
			Zone:   "UTC",
			By:     "ada",
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	s := all[0]
	var st api.Status
	testkit.Eventually(t, "it is late", func() bool {
		if st, err = n.client.Status(t.Context()); err != nil {
			t.Fatal(err)
		}
		return st.Backlog.LateSchedules == 1 && st.Backlog.RulesBehind > 0
	})
	if n := len(called.called()); n != 0 {
		t.Errorf("the builder was called %d times", n)
	}
	var what []string
	for _, p := range st.Problems {
		what = append(what, p.What+" → "+p.Mend)
	}
	if got := strings.Join(what, "\n"); !strings.Contains(
		got, "quiet copy: no schedules, rules and builds, and nobody is called → ubiquon wake",
	) ||
		!strings.Contains(got, "1 schedule is late → ubiquon schedule list --state late") {
		t.Errorf("the status says:\n%s", got)
	}
	if err := n.client.Wake(t.Context()); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the builder is called, and the schedule carried out", func() bool {
		done, err := n.Authoring.Schedule(t.Context(), s.ID)
		return err == nil && done.State == entries.ScheduleDone && len(called.called()) > 0
	})
}

// TestReaderAheadOfLogStartsAgain asks for the changes after one that there is not,
// as a reader does that knew more than the copy that was restored.
func TestReaderAheadOfLogStartsAgain(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	done := publish(t, n, "p1", "pier", content.Fields{"name": "Mella"})
	path := "/content/" + n.Replica.Environment() + "/published/changes?after="
	for after, want := range map[int64]int{
		0: http.StatusOK, done.Sequence: http.StatusOK,
		done.Sequence + 1: http.StatusGone, done.Sequence + 5000: http.StatusGone,
	} {
		a := n.get(t, path+fmt.Sprint(after), false)
		if a.Status != want ||
			want == http.StatusGone && !strings.Contains(string(a.Body), fmt.Sprintf("after=%d", done.Sequence)) {
			t.Errorf("after %d: %d %s", after, a.Status, a.Body)
		}
	}
}

// TestLockOnAnnouncementsBlocksNothingElse locks the table of announcements while many
// come in, and lists of them are asked for: readers, writers and readiness go on.
func TestLockOnAnnouncementsBlocksNothingElse(t *testing.T) {
	w := newWorld(t, 1)
	n := w.nodes[0]
	w.set("a", "Kvalholm", "open", 1)
	tx, err := w.store.DB.Pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(t.Context(), `lock table event in access exclusive mode`); err != nil {
		t.Fatal(err)
	}
	var waiting sync.WaitGroup
	for i := range 30 {
		waiting.Go(func() {
			h := http.Header{"Content-Type": {"application/cloudevents+json"}}
			body := []byte(
				fmt.Sprintf(
					`{"specversion":"1.0","id":"lock%d","source":"/x","type":"x.published","subject":"berths/a"}`, i,
				),
			)
			if err := outbound.Sign(h, hookSecret, fmt.Sprint("lock", i), time.Now(), body); err != nil {
				t.Error(err)
			}
			_, err := receive(t, n, "harbour", h, body)
			if err != nil && !db.Passing(err) {
				t.Errorf("an announcement: %v", err)
			}
		})
		waiting.Go(func() {
			a, err := n.client.Do(t.Context(), http.MethodGet, "/control/v1/events", nil, nil)
			if err != nil || a.Status != http.StatusOK && a.Status != http.StatusServiceUnavailable {
				t.Errorf("a list: %v %v", a, err)
			}
		})
	}
	testkit.Eventually(t, "they wait for the lock", func() bool {
		var n int
		err := w.store.DB.Pool.QueryRow(t.Context(), `select count(*) from pg_locks where not granted and relation =
			'event'::regclass`).
			Scan(&n)
		return err == nil && n >= 8
	})
	begin := time.Now()
	publish(t, n, "p1", "pier", content.Fields{"name": "Mella"})
	if a := n.get(t, "/content/"+n.Replica.Environment()+"/published/piers?fields=name",
		false); a.Status != http.StatusOK ||
		!strings.Contains(string(a.Body), "Mella") {
		t.Errorf("a read: %d %s", a.Status, a.Body)
	}
	if err := n.Replica.Ready(t.Context()); err != nil {
		t.Error(err)
	}
	if took := time.Since(begin); took > 2*time.Second {
		t.Errorf("a publish, a read and readiness took %v", took)
	}
	if err := tx.Rollback(t.Context()); err != nil {
		t.Fatal(err)
	}
	waiting.Wait()
}

// TestStandbyEnds ends a node that was never woken.
func TestStandbyEnds(t *testing.T) {
	g, err := environment.Open(
		t.Context(), environment.Options{Store: testkit.Store(t, testkit.Model(t, testkit.Ferries)), Quiet: true},
	)
	if err != nil {
		t.Fatal(err)
	}
	if err := g.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	begin := time.Now()
	g.Close()
	if took := time.Since(begin); took > 3*time.Second {
		t.Errorf("it took %v", took)
	}
}

// TestDisconnectedClientLeavesNoWriteOutcome has clients go while their write waits,
// and send it again.
func TestDisconnectedClientLeavesNoWriteOutcome(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	publish(t, n, "p1", "pier", content.Fields{"name": "Mella"})
	tx, err := s.DB.Pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(t.Context(), `select 1 from entry where environment = $1 and id = 'p1' for
		update`, s.Environment); err != nil {
		t.Fatal(err)
	}
	body := map[string]any{
		"edits": []any{
			map[string]any{"id": "p1", "type": "pier", "save": map[string]any{"name": "Vika"}, "do": "publish"},
		},
	}
	ctx, leave := context.WithCancel(t.Context())
	var gone sync.WaitGroup
	gone.Go(func() {
		if _, err := n.client.Do(ctx, http.MethodPost, "/control/v1/edits",
			http.Header{"Idempotency-Key": {"going"}}, body); err == nil {
			t.Error("the client did not go")
		}
	})
	testkit.Eventually(t, "the write waits", func() bool {
		var n int
		err := s.DB.Pool.QueryRow(t.Context(), `select count(*) from written where environment = $1`, s.Environment).
			Scan(&n)
		return err == nil && n == 1
	})
	leave()
	gone.Wait()
	if err := tx.Rollback(t.Context()); err != nil {
		t.Fatal(err)
	}
	var a *client.Answer
	testkit.Eventually(t, "the write is made, once", func() bool {
		if a, err = n.client.Do(t.Context(), http.MethodPost, "/control/v1/edits",
			http.Header{"Idempotency-Key": {"going"}}, body); err != nil {
			t.Fatal(err)
		}
		return a.Status != http.StatusConflict
	})
	e, err := n.client.Entries().Get(t.Context(), "p1")
	if err != nil || a.Status != http.StatusOK || e.Revision != 2 || e.Newest["name"] != "Vika" {
		t.Errorf("%d %s; the entry is %+v, %v", a.Status, a.Body, e.Newest, err)
	}
}

// TestStreamDeliversChangesInOrder has several nodes publish at the same time, and follows
// the changes on one: each comes once, in the order of the sequences.
func TestStreamDeliversChangesInOrder(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	secret := access.NewSecret()
	nodes := []node{open(t, s, secret), open(t, s, secret)}
	const writers, each = 8, 25
	ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
	defer stop()
	req, err := http.NewRequestWithContext(
		ctx, http.MethodGet, nodes[0].client.Address+"/content/"+s.Environment+"/published/changes", nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+secret)
	req.Header.Set("Accept", "text/event-stream")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			for i := range each {
				publish(
					t, nodes[w%2], fmt.Sprintf("p%d-%d", w, i), "pier",
					content.Fields{"name": fmt.Sprintf("Pier %d of %d", i, w)},
				)
			}
		})
	}
	var last, told int64
	for lines := bufio.NewScanner(resp.Body); told < writers*each && lines.Scan(); {
		text, is := strings.CutPrefix(lines.Text(), "id: ")
		if !is {
			continue
		}
		sequence, err := strconv.ParseInt(text, 10, 64)
		if err != nil || sequence <= last {
			t.Fatalf("%q comes after %d, %v", text, last, err)
		}
		last = sequence
		told++
	}
	all.Wait()
	if told != writers*each {
		t.Errorf("%d changes were told of", told)
	}
}

// TestEventIsAbandonedAfterADay has an origin that cannot be reached for longer than its
// events are tried.
func TestEventIsAbandonedAfterADay(t *testing.T) {
	var c origin.Config
	if err := strictyaml.Decode("o.yaml", []byte(`
pull: {http: "http://127.0.0.1:1/api"}
prove: {standardWebhooks: ["`+hookSecret+`"]}
types:
  pier: {kind: berths, from: "$.berths[*]", id: $.ref, version: $.v, fields: {name: $.called}}
`), &c); err != nil {
		t.Fatal(err)
	}
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := start(
		t,
		environment.Options{
			Store:     s,
			Reconcile: time.Hour,
			Outbound:  outbound.Options{Private: true},
			Settings: settings.Seed{
				Origins: map[string]origin.Config{"harbour": c},
			},
		},
		access.NewSecret(),
	)
	w := &world{store: s, nodes: []node{n}}
	id := w.announce(t, n, "published", "a")
	if e := w.settled(t, id, events.EventWaiting); e.ID != id {
		t.Fatalf("%+v", e)
	}
	testkit.Eventually(t, "it was tried", func() bool {
		e, err := n.Ingest.Event(t.Context(), id)
		return err == nil && e.State == events.EventWaiting && strings.Contains(e.Detail, "refused")
	})
	if _, err := s.DB.Pool.Exec(t.Context(), `update event set received = received - interval '25 hours' where
		environment = $1`, s.Environment); err != nil {
		t.Fatal(err)
	}
	w.settled(t, id, events.EventFailed)
}

// asyncTransport has every request prefer an answer at once.
type asyncTransport struct{}

func (asyncTransport) RoundTrip(r *http.Request) (*http.Response, error) {
	r.Header.Set("Prefer", "respond-async")
	return http.DefaultTransport.RoundTrip(r)
}

// TestWriteContinuesInBackground has an entry held by somebody: its write is answered with
// 202 and where its outcome will be, on any node and for who made it only.
func TestWriteContinuesInBackground(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	secret := access.NewSecret()
	a, b := open(t, s, secret), open(t, s, secret)
	publish(t, a, "held", "pier", content.Fields{"name": "Held"})
	tx, err := s.DB.Pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback(context.WithoutCancel(t.Context()))
	if _, err := tx.Exec(t.Context(), `select 1 from entry where environment = $1 and id = 'held' for
		update`, s.Environment); err != nil {
		t.Fatal(err)
	}
	edit := api.Edit{ID: "held", Type: "pier", Save: map[string]any{"name": "Mella"}, Do: "publish"}
	answer, err := a.client.Do(
		t.Context(), http.MethodPost, "/control/v1/edits", http.Header{"Prefer": {"respond-async"}},
		map[string]any{"edits": []api.Edit{edit}},
	)
	at := answer.Header.Get("Location")
	if err != nil || answer.Status != http.StatusAccepted || !strings.HasPrefix(at, "/control/v1/writes/") ||
		answer.Header.Get("Preference-Applied") != "respond-async" ||
		answer.Header.Get("Retry-After") == "" {
		t.Fatalf("%v: %d %v %s", err, answer.Status, answer.Header, answer.Body)
	}
	if said, err := b.client.Do(t.Context(), http.MethodGet, at, nil, nil); err != nil ||
		!strings.Contains(string(said.Body), `"state":"running"`) {
		t.Errorf("%v: %s", err, said.Body)
	}
	_, other, err := a.Keys.CreateKey(
		t.Context(), access.Key{Name: "other", Grants: access.RoleAdmin.Grants()}, "test",
	)
	if err != nil {
		t.Fatal(err)
	}
	if said, err := (&client.Client{Address: a.client.Address, Key: other}).Do(t.Context(), http.MethodGet, at, nil,
		nil); err != nil ||
		said.Status != http.StatusNotFound {
		t.Errorf("another key: %v: %d %s", err, said.Status, said.Body)
	}
	if err := tx.Rollback(t.Context()); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "it is done", func() bool {
		said, err := b.client.Do(t.Context(), http.MethodGet, at, nil, nil)
		return err == nil && strings.Contains(string(said.Body), `"state":"done"`) &&
			strings.Contains(string(said.Body), `"status":200,"answer":{"sequence":`)
	})
	c := &client.Client{Address: a.client.Address, Key: secret, HTTP: &http.Client{Transport: asyncTransport{}}}
	edit.Save = map[string]any{"name": "Vika"}
	if done, err := c.Entries().Edit(t.Context(), edit); err != nil || done.Sequence == 0 {
		t.Errorf("the client: %+v %v", done, err)
	}
	edit.Save = map[string]any{"nmae": "Vika"}
	var refused *api.Problem
	if _, err := c.Entries().Edit(t.Context(), edit); !errors.As(err, &refused) || refused.Status != 422 ||
		len(refused.Problems) == 0 {
		t.Errorf("a mistake: %v", err)
	}
}
