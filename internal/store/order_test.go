package store_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/query"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

const sorted = `
locales: {en: {}}
types:
  notice:
    plural: notices
    fields:
      title: {kind: text}
      slug: {kind: slug}
      rank: {kind: decimal}
      count: {kind: integer}
      price: {kind: money}
      urgent: {kind: boolean}
      day: {kind: date}
      until: {kind: datetime}
      severity: {kind: choice, options: {delay: Delay, cancelled: Cancelled, information: Information}}
`

// TestGoAndPostgreSQLHaveOneOrder sorts entries whose values are hard to put in order,
// by some or several of them. PostgreSQL's order must be that of the places, by which
// changes are held against windows; and every window must be its part of the whole:
// what is shown, what was skipped, what comes past it, whether there is more, and how
// many there are.
func TestGoAndPostgreSQLHaveOneOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(8400, 9))
	m := testkit.Model(t, sorted)
	s := testkit.Store(t, m)
	_, v, err := s.Changes.Model(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	b := bench{t, s, m, v}
	hard := map[string][]any{
		"title": {
			"", "a", "A", "a b", "ab", "å", "Å", "Østra", "ostra", "10", "9", "a\u0301", "日本", "ﬀ", "~", "'", "\"",
			"\\", "%", "a-", "a\u00a0b", strings.Repeat("z", 300),
		},
		"rank":  {0.0, -0.5, 0.1, 1e-7, -1e-7, 1e15, -1e15, 3.0, 2.999999999, 123456.789},
		"count": {0.0, -1.0, 1.0, 9007199254740991.0, -9007199254740991.0, 256.0, 255.0, 65536.0},
		"price": {
			map[string]any{"amount": 100.0, "currency": "NOK"},
			map[string]any{"amount": 99.0, "currency": "EUR"},
			map[string]any{"amount": -5.0, "currency": "NOK"},
		},
		"urgent": {true, false},
		"day":    {"2026-11-27", "1999-12-31", "2026-02-01"},
		"until": {
			"2026-11-27T08:00:00Z", "2026-11-27T08:00:00.000001Z", "2026-11-27T09:00:00+01:00",
			"1969-12-31T23:59:59Z", "2100-01-01T00:00:00Z",
		},
		"severity": {"delay", "cancelled", "information"},
	}
	names := []string{
		"title", "slug", "rank", "count", "price", "urgent", "day", "until", "severity", "published", "updated",
		"firstPublished",
	}
	for from := range 4 { // at four times
		var edits []writing.Edit
		for i := range 20 {
			f := content.Fields{"slug": fmt.Sprintf("s-%d-%d", from, i)}
			for name, values := range hard {
				if r.IntN(4) > 0 {
					f[name] = values[r.IntN(len(values))]
				}
			}
			edits = append(
				edits,
				writing.Edit{
					ID:     fmt.Sprintf("n%02d", r.IntN(7)*100+from*20+i),
					Type:   "notice",
					Origin: content.Local,
					Save:   f,
					Live:   writing.PublishNewest,
					Loose:  true,
				},
			)
		}
		b.must(edits...)
	}
	read := func(root query.Root) *query.RootResult {
		t.Helper()
		res, err := b.Reader.Read(
			t.Context(), b.v, &query.Query{Edition: "published", Roots: []query.Root{root}}, 1<<20,
		)
		if err != nil {
			t.Fatal(err)
		}
		return &res.Roots[0]
	}
	ids := func(rows []*query.Row) []string {
		out := make([]string, len(rows))
		for i, row := range rows {
			out[i] = row.ID
		}
		return out
	}
	for range 150 {
		var by []string
		for _, i := range r.Perm(len(names))[:1+r.IntN(3)] {
			by = append(by, []string{"", "-"}[r.IntN(2)]+names[i])
		}
		root := b.root("notice", by...)
		root.Selection = query.Selection{Picks: root.Selection.Picks[:1]}
		all := read(root)
		if len(all.Rows) != 80 || all.More {
			t.Fatalf("%v: %d entries, more %t", by, len(all.Rows), all.More)
		}
		places := make([]invalidation.SortKey, len(all.Rows))
		for i, row := range all.Rows {
			at := row.Position()
			if places[i] = invalidation.NewSortKey(root.Sort, at.Values, at.ID); i > 0 && places[i-1] >= places[i] {
				t.Fatalf(
					"sorted by %v, PostgreSQL has %v before %v, and Go does not", by, all.Rows[i-1].Keys, row.Keys,
				)
			}
		}
		whole := ids(all.Rows)
		for range 6 {
			part, from, to := root, 0, len(whole)
			part.Limit, part.Count = r.IntN(12), r.IntN(2) == 0
			switch r.IntN(5) {
			case 0:
				part.Offset = r.IntN(90)
				from = min(part.Offset, to)
			case 1:
				at := r.IntN(len(whole))
				position := all.Rows[at].Position()
				part.After, from = &position, at+1
			case 2:
				at := r.IntN(len(whole))
				position := all.Rows[at].Position()
				part.Before, to = &position, at
			case 3:
				part.Last = true
			}
			first, end := from, min(from+part.Limit, to)
			past := whole[end:min(end+3, to)]
			if part.Backwards() {
				first, end = max(to-part.Limit, from), to
				past = slices.Clone(whole[max(first-3, from):first])
				slices.Reverse(past)
			}
			got := read(part)
			switch {
			case !slices.Equal(ids(got.Rows), whole[first:end]):
				t.Errorf(
					"%v, limit %d, offset %d, after %v, before %v: %v, want %v", by, part.Limit, part.Offset,
					part.After, part.Before, ids(got.Rows), whole[first:end],
				)
			case !slices.Equal(ids(got.Lookahead), past) || got.More != (len(past) > 0):
				t.Errorf(
					"%v, limit %d, offset %d, after %v, before %v: past it %v, more %t, want %v", by, part.Limit,
					part.Offset, part.After, part.Before, ids(got.Lookahead), got.More, past,
				)
			case part.Offset > 0 && !slices.Equal(ids(got.Skipped), whole[:from]):
				t.Errorf("%v, offset %d: skipped %v, want %v", by, part.Offset, ids(got.Skipped), whole[:from])
			case part.Count && got.Total != len(whole):
				t.Errorf("%v: counted %d", by, got.Total)
			}
		}
	}
}
