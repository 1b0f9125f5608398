package store_test

import (
	"fmt"
	"strings"
	"testing"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

const indexed = `
locales: {en: {}}
types:
  notice:
    fields:
      title: {kind: text, max: 200%[1]s}
      slug: {kind: slug, madeFrom: title}
      until: {kind: datetime%[1]s}
      weight: {kind: integer%[1]s}
      route: {kind: reference, types: [route]%[1]s}
      tags: {kind: text, several: true%[1]s}
  route:
    fields: {name: {kind: text}, slug: {kind: slug, madeFrom: name}}
`

// TestIndexedFieldsHaveIndexes looks at what PostgreSQL does with filters and orders of
// fields that are marked as indexed, and after they are not any more.
func TestIndexedFieldsHaveIndexes(t *testing.T) {
	with, without := testkit.Model(
		t, fmt.Sprintf(indexed, ", indexed: true"),
	), testkit.Model(
		t, fmt.Sprintf(indexed, ""),
	)
	s := testkit.Store(t, with)
	_, version, err := s.Changes.Model(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	edits := []writing.Edit{
		{
			ID:     "ring",
			Type:   "route",
			Origin: content.Local,
			Save:   content.Fields{"name": "Ring"},
			Live:   writing.PublishNewest,
		},
	}
	for i := range 600 {
		edits = append(
			edits,
			writing.Edit{
				ID:     fmt.Sprintf("n%03d", i),
				Type:   "notice",
				Origin: content.Local,
				Live:   writing.PublishNewest,
				Save: content.Fields{
					"title": fmt.Sprintf("Fog %03d", i), "weight": float64(i % 7), "route": "ring",
					"until": fmt.Sprintf("2026-11-23T08:%02d:00Z", i%60), "tags": []any{fmt.Sprint("t", i), "all"},
				},
			},
		)
	}
	if _, err := s.Writer.Apply(t.Context(), with, version, edits, "test", content.Cause{Kind: "user"}); err != nil {
		t.Fatal(err)
	}
	var steps []string
	keep := func() {
		t.Helper()
		steps = nil
		if done, err := s.Entries.KeepIndexes(t.Context(),
			func(step string) { steps = append(steps, step) }); err != nil ||
			!done {
			t.Fatal(done, err)
		}
	}
	keep()
	if len(steps) != 9 { // two for each of title, until, weight; route; tags; the statistics
		t.Errorf("%d steps: %s", len(steps), strings.Join(steps, "\n"))
	}
	if keep(); len(steps) != 0 {
		t.Errorf("again: %s", steps)
	}
	plan := func(m *model.Model, text string, sort ...query.Sort) string {
		t.Helper()
		root := query.Root{
			By:        query.ByList,
			Type:      "notice",
			Locale:    "en",
			Limit:     5,
			Sort:      sort,
			Selection: query.Selection{Picks: []query.SelectedField{{As: "id", Kind: query.PickID}}},
		}
		if text != "" {
			if root.Filter, err = filter.Parse(text, m, m.Type("notice")); err != nil {
				t.Fatal(err)
			}
		}
		_, version, err := s.Changes.Model(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		var tr db.Trace
		if _, err := s.Reader.Read(db.WithTrace(t.Context(), &tr), version,
			&query.Query{Edition: "published", Roots: []query.Root{root}}, 1<<20); err != nil {
			t.Fatal(err)
		}
		if err := s.DB.Explain(t.Context(), &tr); err != nil {
			t.Fatal(err)
		}
		return tr.Statements[len(tr.Statements)-1].Plan
	}
	for text, sort := range map[string]query.Sort{
		"title = 'Fog 007'":                         query.DefaultSort[0],
		"until = TIMESTAMP('2026-11-24T08:00:00Z')": query.DefaultSort[0],
		"weight = 99":                               query.DefaultSort[0],
		"A_CONTAINS(tags, ('t7'))":                  query.DefaultSort[0],
		"":                                          {By: "until", Kind: model.DateTime, Descending: true},
		"slug <> 'x'":                               {By: "weight", Kind: model.Integer},
	} {
		if p := plan(with, text, sort); !strings.Contains(p, "document_by_") {
			t.Errorf("filter %q, sort %s:\n%s", text, sort.By, p)
		}
	}
	for _, text := range []string{"slug = 'fog-007'", "slug LIKE 'fog-00%'"} {
		if p := plan(with, text, query.DefaultSort...); !strings.Contains(p, "document_slug") {
			t.Errorf("filter %q:\n%s", text, p)
		}
	}
	if err := s.Writer.ApplyModel(t.Context(), without, content.Cause{Kind: "model"},
		writing.ModelOptions{}); err != nil {
		t.Fatal(err)
	}
	if keep(); len(steps) != 8 {
		t.Errorf("given up: %s", steps)
	}
	// A scan has no bound for a column that the predicate implies.
	var whole int
	if err := s.DB.Pool.QueryRow(t.Context(), `select count(*) from pg_indexes where indexname like 'document\_by\_%'
		and indexdef like '%(environment,%'`).Scan(&whole); err != nil || whole > 0 {
		t.Errorf("%d indexes begin with the environment, which they are for: %v", whole, err)
	}
	if p := plan(without, "title = 'Fog 007'", query.DefaultSort[0]); strings.Contains(p, "document_by_") {
		t.Errorf("after it was given up:\n%s", p)
	}
}
