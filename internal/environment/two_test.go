package environment_test

import (
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/environment"
	"ubiquon/internal/server"
	"ubiquon/internal/store"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

const berths = `
locales: {en: {}}
types:
  pier:
    plural: piers
    fields:
      name: {kind: text, required: true, max: 100}
      slug: {kind: slug, madeFrom: name}
      berth: {kind: BERTH, INDEXED}
`

// TestTwoEnvironmentsShareADatabase runs two environments on the same connections, whose
// models have a field of the same name and another kind. What happens in one does not show
// in the other: content, indexes, responses, keys, changes.
func TestTwoEnvironmentsShareADatabase(t *testing.T) {
	d, err := db.Open(t.Context(), db.Options{URL: testkit.URL(), Log: testkit.Log(t)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Close)
	open := func(name, kind string) (node, *model.Model) {
		m := testkit.Model(t, strings.NewReplacer("BERTH, INDEXED", kind+", indexed: true").Replace(berths))
		s := store.New(d, name, testkit.Log(t))
		if err := s.Writer.ApplyModel(t.Context(), m, content.Cause{Kind: "model"}, writing.ModelOptions{}); err != nil {
			t.Fatal(err)
		}
		for done := false; !done; {
			if done, err = s.Entries.KeepIndexes(t.Context(), nil); err != nil {
				t.Fatal(err)
			}
		}
		return start(t, environment.Options{Store: s}, access.NewSecret()), m
	}
	numbers, _ := open("two-numbers", "integer")
	texts, _ := open("two-texts", "text, max: 40")
	publish(t, numbers, "mella", "pier", content.Fields{"name": "Mella", "berth": float64(3)})
	publish(t, texts, "mella", "pier", content.Fields{"name": "Mella of the texts", "berth": "north side"})

	if _, _, body := numbers.read(t, "/piers?fields=name,berth&sort=berth"); !strings.Contains(body, `"berth":3`) ||
		strings.Contains(body, "north") {
		t.Errorf("the environment of numbers answers %s", body)
	}
	if _, _, body := texts.read(t, "/piers?fields=name,berth&sort=berth"); !strings.Contains(body, "north side") ||
		strings.Contains(body, `"berth":3`) {
		t.Errorf("the environment of texts answers %s", body)
	}
	before := numbers.Delivery.CacheStats()
	publish(t, texts, "mella", "pier", content.Fields{"name": "Mella of the texts", "berth": "south side"})
	if _, status, _ := numbers.read(t, "/piers?fields=name,berth&sort=berth"); !strings.Contains(status, "hit") {
		t.Errorf("a publish in one environment expires a response of the other: %s", status)
	}
	if after := numbers.Delivery.CacheStats(); after.Expired != before.Expired {
		t.Errorf("%d responses expired in the other environment", after.Expired-before.Expired)
	}
	if _, err := numbers.Keys.Authenticate(t.Context(), texts.client.Key, "", time.Now()); err == nil {
		t.Error("a key of one environment is good in the other")
	}
	for _, n := range []node{numbers, texts} {
		nodes, err := n.Replica.Nodes(t.Context())
		if err != nil || len(nodes) != 1 || !nodes[0].Here {
			t.Errorf("%s has the nodes %+v, %v", n.Replica.Environment(), nodes, err)
		}
	}
	var indexes []string
	rows, err := d.Pool.Query(t.Context(), `select indexdef from pg_indexes where tablename = 'document'
		and indexdef like '%two-%'`)
	if err != nil {
		t.Fatal(err)
	}
	for rows.Next() {
		var def string
		if err := rows.Scan(&def); err != nil {
			t.Fatal(err)
		}
		indexes = append(indexes, def)
	}
	if !slices.ContainsFunc(indexes, func(def string) bool {
		return strings.Contains(def, "numeric") && strings.Contains(def, "two-numbers")
	}) || slices.ContainsFunc(indexes, func(def string) bool {
		return strings.Contains(def, "numeric") && strings.Contains(def, "two-texts")
	}) {
		t.Errorf("the indexes are %s", strings.Join(indexes, "\n"))
	}
	for _, n := range []node{numbers, texts} {
		w := httptest.NewRecorder()
		r := httptest.NewRequest(http.MethodGet, "/metrics", nil)
		r.RemoteAddr = "127.0.0.1:1"
		server.New(server.Options{Environment: n.Environment}).ServeHTTP(w, r)
		own := `ubiquon_cache_misses_total{environment="` + n.Replica.Environment() + `"}`
		if !strings.Contains(w.Body.String(), own) {
			t.Errorf("the metrics have no %s", own)
		}
	}
}
