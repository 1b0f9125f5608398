package environment_test

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/settings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/environment"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

// below is how many pages live below the one that is renamed, and how many entries link to
// the other: as many as make a commit larger than is read of the log at once.
var below = flag.Int(
	"below", 2600, "how many entries depend on the one that is renamed, in the tests of large commits",
)

const tree = `
locales: {en: {}}
types:
  page:
    path: "/{parent.path}/{slug}"
    fields:
      name:   {kind: text}
      slug:   {kind: slug}
      parent: {kind: reference, types: [page]}
      text:   {kind: prose}
`

// whileRead does something that takes long, on the first of some nodes, as readers of all
// read a path: afterwards every answer has the text in it, on the first node at once, on
// the others within the lease. No answer may fail, take longer than the lease, or be as
// before again. It returns how long that took, and the longest read.
func whileRead(t *testing.T, nodes []node, path, text string, do func()) (took, longest time.Duration) {
	t.Helper()
	done := make(chan struct{})
	var mu sync.Mutex
	var told time.Time // when it was done
	var wrong []string
	var readers sync.WaitGroup
	for i, n := range nodes {
		readers.Go(func() {
			lease := 2 * time.Second
			if i == 0 {
				lease = 0
			}
			tick := time.NewTicker(5 * time.Millisecond)
			defer tick.Stop()
			for shown := false; ; {
				select {
				case <-done:
					return
				case <-tick.C:
				}
				asked := time.Now()
				a, err := n.client.Do(t.Context(), http.MethodGet, path, nil, nil)
				mu.Lock()
				switch {
				case err != nil:
					wrong = append(wrong, err.Error())
				case a.Status != http.StatusOK:
					wrong = append(wrong, fmt.Sprintf("node %d: %d %s", i, a.Status, a.Body))
				case strings.Contains(string(a.Body), text):
					shown = true
				case shown || !told.IsZero() && asked.After(told.Add(lease)):
					wrong = append(
						wrong, fmt.Sprintf("node %d answers as before, %v after it was done", i, asked.Sub(told)),
					)
				}
				longest = max(longest, time.Since(asked))
				mu.Unlock()
			}
		})
	}
	begin := time.Now()
	do()
	mu.Lock()
	told = time.Now()
	mu.Unlock()
	took = told.Sub(begin)
	for _, n := range nodes {
		testkit.Eventually(
			t, "every node shows it",
			func() bool { return strings.Contains(string(n.get(t, path, false).Body), text) },
		)
	}
	after := publish(t, nodes[len(nodes)-1], "other", "page", content.Fields{"name": text, "slug": "other"})
	for _, n := range nodes {
		testkit.Eventually(t, "every node follows on", func() bool { return n.Replica.Applied() >= after.Sequence })
	}
	close(done)
	readers.Wait()
	if len(wrong) > 0 {
		t.Errorf("%d answers were wrong: %s", len(wrong), wrong[0])
	}
	if longest > 2500*time.Millisecond {
		t.Errorf("a reader waited for %v, which is longer than the lease", longest)
	}
	return took.Round(time.Millisecond), longest.Round(time.Millisecond)
}

// TestRenameOfLargeTree brings in many pages below one, all of which link to it, and does
// to them what makes large commits, or many.
func TestRenameOfLargeTree(t *testing.T) {
	quay := &outside{items: map[string]map[string]any{}}
	web := httptest.NewServer(quay)
	t.Cleanup(web.Close)
	var c origin.Config
	if err := strictyaml.Decode("o.yaml", []byte(`
pull: {http: "`+web.URL+`/api"}
prove: {standardWebhooks: ["`+hookSecret+`"]}
types:
  page: {kind: berths, from: "$.berths[*]", id: $.ref, version: $.v, state: {path: $.status, values: {open: published}}, fields: {name: $.called, slug: $.ref}}
`), &c); err != nil {
		t.Fatal(err)
	}
	s := testkit.Store(t, testkit.Model(t, tree))
	secret := access.NewSecret()
	var nodes []node
	for range 3 {
		nodes = append(
			nodes,
			start(
				t,
				environment.Options{
					Store:     s,
					Reconcile: time.Hour,
					Outbound:  outbound.Options{Private: true},
					Settings: settings.Seed{
						Origins: map[string]origin.Config{"harbour": c},
					},
				},
				secret,
			),
		)
	}
	bringIn := func(name string) {
		var lines strings.Builder
		lines.WriteString(
			`{"id": "top", "type": "page", "fields": {"name": "Top", "slug": "winter"}, "published": "2026-01-01T08:00:00Z"}` + "\n",
		)
		for i := range *below {
			fmt.Fprintf(
				&lines,
				`{"id": "p%d", "type": "page", "fields": {"name": "%s %[1]d", "slug": "page-%[1]d", "parent": "top", "text": "See [here](ref:top)."}, "published": "2026-01-01T08:00:00Z"}`+"\n",
				i, name,
			)
		}
		if err := nodes[0].Authoring.Import(t.Context(), strings.NewReader(lines.String()), "test",
			api.ImportOptions{}, func(api.ImportProgress) {}); err != nil {
			t.Error(err)
		}
	}
	bringIn("Page")
	last := fmt.Sprintf(
		"/content/%s/published/pages/page-%d?fields=name,about(path),text(html)", s.Environment, *below-1,
	)
	for _, n := range nodes {
		testkit.Eventually(
			t, "every node shows the old path",
			func() bool { return strings.Contains(string(n.get(t, last, false).Body), "/winter") },
		)
	}
	var changes int
	took, longest := whileRead(t, nodes, last, "/summer/page-", func() {
		changes = len(publish(t, nodes[0], "top", "page", content.Fields{"name": "Top", "slug": "summer"}).Changes)
	})
	t.Logf("renamed: %d changes, written in %v; the longest read took %v", changes, took, longest)
	if took > 30*time.Second || changes < 2**below {
		t.Errorf("the write took %v", took)
	}
	took, longest = whileRead(t, nodes, last, "Sheet", func() { bringIn("Sheet") })
	t.Logf("brought in again: in %v; the longest read took %v", took, longest)
	took, longest = whileRead(
		t,
		nodes,
		fmt.Sprintf("/content/%s/published/pages/page-%d?fields=about(path)", s.Environment, *below-1),
		"/leaves/",
		func() {
			if err := s.Writer.ApplyModel(t.Context(),
				testkit.Model(t, strings.Replace(tree, `"/{parent.path}/{slug}"`, `"/leaves/{slug}"`, 1)),
				content.Cause{Kind: "model"}, writing.ModelOptions{}); err != nil {
				t.Error(err)
			}
			if err := nodes[0].Replica.Ready(t.Context()); err != nil {
				t.Error(err)
			}
		},
	)
	t.Logf("another model: in %v; the longest read took %v", took, longest)
	for i := range 600 {
		quay.set(fmt.Sprint("quay-", i), fmt.Sprint("Quay ", i), "open", 1)
	}
	took, longest = whileRead(
		t,
		nodes,
		fmt.Sprintf(
			"/content/%s/published/pages?fields=name&limit=1&filter=name%%20LIKE%%20%%27Quay%%25%%27", s.Environment,
		),
		`"Quay`,
		func() {
			if done, err := nodes[0].Ingest.Reconcile(t.Context(), "harbour", content.Cause{
				Kind: "reconcile",
				Name: "harbour",
			}, false, nil); err != nil ||
				done.Seen != 600 ||
				done.BadItems != 0 {
				t.Errorf("%+v %v", done, err)
			}
		},
	)
	t.Logf("taken over from an origin: in %v; the longest read took %v", took, longest)
}

// TestWaitingWriteBlocksNoOther has somebody hold an entry: who writes that one waits,
// others do not.
func TestWaitingWriteBlocksNoOther(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	publish(t, n, "held", "pier", content.Fields{"name": "Held"})
	for i := range 3 {
		publish(t, n, fmt.Sprint("held", i), "pier", content.Fields{"name": fmt.Sprint("Held ", i)})
	}
	tx, err := s.DB.Pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(t.Context(), `select 1 from entry where environment = $1 and id like 'held%' for
		update`, s.Environment); err != nil {
		t.Fatal(err)
	}
	var waiting sync.WaitGroup
	for i := range 3 {
		waiting.Go(
			func() { publish(t, n, fmt.Sprint("held", i), "pier", content.Fields{"name": fmt.Sprint("Free ", i)}) },
		)
	}
	testkit.Eventually(t, "one waits", func() bool {
		var n int
		err := s.DB.Pool.QueryRow(t.Context(), `select count(*) from pg_locks where not granted`).Scan(&n)
		return err == nil && n > 0
	})
	begin := time.Now()
	publish(t, n, "other", "pier", content.Fields{"name": "Other"})
	if took := time.Since(begin); took > 3*time.Second {
		t.Errorf("another write took %v", took)
	}
	if err := tx.Rollback(t.Context()); err != nil {
		t.Fatal(err)
	}
	waiting.Wait()
}

// TestCommitBeyondBoundStartsNewGeneration writes more changes in one commit than are looked at one by
// one: the node forgets what it held, and follows on.
func TestCommitBeyondBoundStartsNewGeneration(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	publish(t, n, "p1", "pier", content.Fields{"name": "Mella"})
	path := "/content/" + n.Replica.Environment() + "/published/piers?fields=name"
	n.get(t, path, false)
	if how := n.get(t, path, false).Header.Get("Cache-Status"); !testkit.Hit(how) {
		t.Fatalf("before: %s", how)
	}
	if _, err := s.DB.Pool.Exec(t.Context(), `with last as (select sequence, commit from change where environment =
		$1 order by sequence desc limit 1),
			made as (insert into change (environment, sequence, commit, id, at, kind, edition, entry, type, what,
			fields, before, after, cause)
				select $1, last.sequence + i, last.commit + 1, gen_random_uuid(), clock_timestamp(), 'content',
				'published', 'p' || i, 'pier', 'published', '{}', '{}', '{}', '{}' from last, generate_series(1, $2) i)
		update document set fields = fields || '{"name": "Vika"}' where environment = $1 and entry =
		'p1'`, s.Environment, changelog.LargestCommit+1); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(
		t, "the node shows what the commit made of it",
		func() bool { return strings.Contains(string(n.get(t, path, false).Body), "Vika") },
	)
	done := publish(t, n, "p2", "pier", content.Fields{"name": "Sandholm"})
	if a := n.get(t, path, false); a.Status != 200 || !strings.Contains(string(a.Body), "Sandholm") ||
		n.Replica.Applied() < done.Sequence {
		t.Errorf("afterwards: %d %s", a.Status, a.Body)
	}
}

// TestWriteWaitingForModelSaysSo has a change of the model take longer than a write
// waits.
func TestWriteWaitingForModelSaysSo(t *testing.T) {
	t.Parallel() // it waits for the most part
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	tx, err := s.DB.Pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback(context.WithoutCancel(t.Context()))
	if _, err := tx.Exec(t.Context(),
		`set local idle_in_transaction_session_timeout = 0; select pg_advisory_xact_lock(8400002, hashtext('`+
			s.Environment+`'))`); err != nil {
		t.Fatal(err)
	}
	_, err = n.client.Entries().Edit(t.Context(), api.Edit{
		ID: "p1", Type: "pier",
		Save: map[string]any{"name": "Mella"},
	})
	var refused *api.Problem
	if !errors.As(err, &refused) || refused.Status != http.StatusServiceUnavailable ||
		!strings.Contains(refused.Detail, "change of the model is being applied") {
		t.Errorf("%v", err)
	}
}

// TestWriteTimeoutDuringCommitSaysOutcomeIsUnknown has the end of the log held for longer than a
// write waits: its commit was asked for, so that it may be stored.
func TestWriteTimeoutDuringCommitSaysOutcomeIsUnknown(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	tx, err := s.DB.Pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback(context.WithoutCancel(t.Context()))
	if _, err := tx.Exec(t.Context(),
		`set local idle_in_transaction_session_timeout = 0; lock table change in access exclusive mode`); err != nil {
		t.Fatal(err)
	}
	a, err := n.client.Do(
		t.Context(),
		http.MethodPost,
		"/control/v1/edits",
		nil,
		map[string]any{
			"edits": []any{
				map[string]any{"id": "p1", "type": "pier", "save": map[string]any{"name": "Mella"}, "do": "publish"},
			},
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	if at := a.Header.Get("Location"); a.Status == http.StatusAccepted && at != "" {
		testkit.Eventually(t, "the write is given up", func() bool {
			a, err = n.client.Do(t.Context(), http.MethodGet, at, nil, nil)
			return err == nil && strings.Contains(string(a.Body), `"state":"failed"`)
		})
	}
	if !strings.Contains(string(a.Body), "not known whether it is stored") {
		t.Errorf("%d %s", a.Status, a.Body)
	}
}
