package gateway_test

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/gateway"
	"ubiquon/internal/store"
	"ubiquon/internal/testkit"
)

// below is how many pages live below the one that is renamed, and how many entries link to
// the other: as many as make a commit larger than is read of the log at once.
var below = flag.Int("below", 2600, "how many entries depend on the one that is renamed, in the tests of large commits")

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

// largeCommit has one entry renamed that others depend on, as three nodes serve readers:
// no reader may get an older answer after the write is told of, nor wait longer than the
// lease, and every node goes on following.
func largeCommit(t *testing.T, dependent func(i int) string, within time.Duration) {
	s := testkit.Store(t, testkit.Model(t, tree))
	secret := access.NewSecret()
	nodes := []node{open(t, s, secret), open(t, s, secret), open(t, s, secret)}
	var lines strings.Builder
	lines.WriteString(`{"id": "top", "type": "page", "fields": {"name": "Top", "slug": "winter"}, "published": "2026-01-01T08:00:00Z"}` + "\n")
	for i := range *below {
		fmt.Fprintf(&lines, `{"id": "p%d", "type": "page", "fields": %s, "published": "2026-01-01T08:00:00Z"}`+"\n", i, dependent(i))
	}
	if err := nodes[0].Import(t.Context(), strings.NewReader(lines.String()), "test", gateway.ImportOptions{}, func(gateway.ImportProgress) {}); err != nil {
		t.Fatal(err)
	}
	last := fmt.Sprintf("/content/%s/published/pages/page-%d?fields=about(path),text(html)", s.Environment, *below-1)
	for _, n := range nodes {
		testkit.Eventually(t, "every node shows the old path", func() bool { return strings.Contains(string(n.get(t, last, false).Body), "/winter") })
	}
	done := make(chan struct{})
	var mu sync.Mutex
	var told time.Time // when the write was answered
	var older []string
	longest := time.Duration(0)
	var readers sync.WaitGroup
	for i, n := range nodes {
		readers.Go(func() {
			tick := time.NewTicker(5 * time.Millisecond)
			defer tick.Stop()
			for shown := false; ; {
				select {
				case <-done:
					return
				case <-tick.C:
				}
				asked := time.Now()
				a, err := n.client.Do(t.Context(), http.MethodGet, last, nil, nil)
				took := time.Since(asked)
				mu.Lock()
				lease := time.Duration(0)
				if i > 0 {
					lease = 2 * time.Second
				}
				switch {
				case err != nil:
					older = append(older, err.Error())
				case a.Status != 200:
					older = append(older, fmt.Sprintf("node %d: %d %s", i, a.Status, a.Body))
				case strings.Contains(string(a.Body), "/summer"):
					shown = true
				case shown || !told.IsZero() && asked.After(told.Add(lease)):
					older = append(older, fmt.Sprintf("node %d answers as before, %v after the write", i, asked.Sub(told)))
				}
				longest = max(longest, took)
				mu.Unlock()
			}
		})
	}
	begin := time.Now()
	applied := publish(t, nodes[0], "top", "page", content.Fields{"name": "Top", "slug": "summer"})
	mu.Lock()
	told = time.Now()
	mu.Unlock()
	took := told.Sub(begin)
	for _, n := range nodes {
		testkit.Eventually(t, "every node follows", func() bool { return n.Applied() >= applied.Sequence })
	}
	followed := time.Since(told)
	for _, n := range nodes {
		testkit.Eventually(t, "every node shows the new path", func() bool { return strings.Contains(string(n.get(t, last, false).Body), "/summer") })
	}
	after := publish(t, nodes[1], "other", "page", content.Fields{"name": "Other", "slug": "other"})
	for _, n := range nodes {
		testkit.Eventually(t, "every node follows on", func() bool { return n.Applied() >= after.Sequence })
	}
	close(done)
	readers.Wait()
	t.Logf("%d changes: written in %v, followed by all %v later; the longest read took %v", len(applied.Changes), took.Round(time.Millisecond), followed.Round(time.Millisecond), longest.Round(time.Millisecond))
	if len(older) > 0 {
		t.Errorf("%d answers were wrong: %s", len(older), older[0])
	}
	if longest > 2500*time.Millisecond {
		t.Errorf("a reader waited for %v, which is longer than the lease", longest)
	}
	if took > within {
		t.Errorf("the write took %v", took)
	}
}

func TestALargeTreeIsRenamed(t *testing.T) {
	largeCommit(t, func(i int) string {
		return fmt.Sprintf(`{"name": "Page %d", "slug": "page-%d", "parent": "top", "text": "See [here](ref:top)."}`, i, i)
	}, 30*time.Second)
}

// TestAWriteThatWaitsHoldsUpNoOther has somebody hold an entry: who writes that one waits,
// others do not.
func TestAWriteThatWaitsHoldsUpNoOther(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	publish(t, n, "held", "pier", content.Fields{"name": "Held"})
	for i := range 3 {
		publish(t, n, fmt.Sprint("held", i), "pier", content.Fields{"name": fmt.Sprint("Held ", i)})
	}
	tx, err := s.Pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(t.Context(), `select 1 from entry where environment = $1 and id like 'held%' for update`, s.Environment); err != nil {
		t.Fatal(err)
	}
	var waiting sync.WaitGroup
	for i := range 3 {
		waiting.Go(func() { publish(t, n, fmt.Sprint("held", i), "pier", content.Fields{"name": fmt.Sprint("Free ", i)}) })
	}
	testkit.Eventually(t, "one waits", func() bool {
		var n int
		err := s.Pool.QueryRow(t.Context(), `select count(*) from pg_locks where not granted`).Scan(&n)
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

// TestACommitBeyondTheBound writes more changes in one commit than are looked at one by
// one: the node forgets what it held, and follows on.
func TestACommitBeyondTheBound(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	publish(t, n, "p1", "pier", content.Fields{"name": "Mella"})
	path := "/content/" + n.Environment() + "/published/piers?fields=name"
	n.get(t, path, false)
	if how := n.get(t, path, false).Header.Get("Cache-Status"); !testkit.Hit(how) {
		t.Fatalf("before: %s", how)
	}
	if _, err := s.Pool.Exec(t.Context(), `with last as (select sequence, commit from change where environment = $1 order by sequence desc limit 1),
			made as (insert into change (environment, sequence, commit, id, at, kind, edition, entry, type, what, fields, before, after, cause)
				select $1, last.sequence + i, last.commit + 1, gen_random_uuid(), clock_timestamp(), 'content', 'published', 'p' || i, 'pier', 'published', '{}', '{}', '{}', '{}' from last, generate_series(1, $2) i)
		update document set fields = fields || '{"name": "Vika"}' where environment = $1 and entry = 'p1'`, s.Environment, store.LargestCommit+1); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the node shows what the commit made of it", func() bool { return strings.Contains(string(n.get(t, path, false).Body), "Vika") })
	done := publish(t, n, "p2", "pier", content.Fields{"name": "Sandholm"})
	if a := n.get(t, path, false); a.Status != 200 || !strings.Contains(string(a.Body), "Sandholm") || n.Applied() < done.Sequence {
		t.Errorf("afterwards: %d %s", a.Status, a.Body)
	}
}

// TestAWriteThatWaitsForTheModelSaysSo has a change of the model take longer than a write
// waits.
func TestAWriteThatWaitsForTheModelSaysSo(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	tx, err := s.Pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback(context.WithoutCancel(t.Context()))
	if _, err := tx.Exec(t.Context(), `set local idle_in_transaction_session_timeout = 0; select pg_advisory_xact_lock(8400002, hashtext('`+s.Environment+`'))`); err != nil {
		t.Fatal(err)
	}
	a, err := n.client.Do(t.Context(), http.MethodPost, "/control/v1/edits", nil, map[string]any{"edits": []any{map[string]any{"id": "p1", "type": "pier", "save": map[string]any{"name": "Mella"}}}})
	if err != nil || a.Status != http.StatusServiceUnavailable || a.Header.Get("Retry-After") == "" || !strings.Contains(string(a.Body), "change of the model is being applied") {
		t.Errorf("%v: %d %s", err, a.Status, a.Body)
	}
}
