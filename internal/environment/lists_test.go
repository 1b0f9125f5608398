package environment_test

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/server"
)

// TestListsAreFilteredAndSorted narrows entries, events and the audit log by filters, and
// tells what is wrong with those that are.
func TestListsAreFilteredAndSorted(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	n.must(t, api.Edit{ID: "storm", Type: "notice", Save: per{"title": per{"en": "Storm"}, "routes": []any{"ring"}}})
	titles := func(f api.EntryFilter) string {
		t.Helper()
		items, total, err := n.client.Entries().List(t.Context(), f)
		if err != nil {
			return err.Error()
		}
		out := make([]string, len(items))
		for i, e := range items {
			out[i] = e.Title
		}
		return fmt.Sprintf("%d %s", total, strings.Join(out, " "))
	}
	for _, c := range []struct {
		f    api.EntryFilter
		want string
	}{
		{api.EntryFilter{Type: "notice", Sort: "title"}, "3 Fog Ice Storm"},
		{api.EntryFilter{Type: "notice", Sort: "-title", Limit: 2}, "3 Storm Ice"},
		{api.EntryFilter{Type: "notice", Sort: "title", Filter: "routes.name = 'Outer Ring'"}, "2 Fog Storm"},
		{api.EntryFilter{Type: "notice", Filter: "title LIKE 'F%'"}, "1 Fog"},
		{api.EntryFilter{Filter: "title = 'Fog'"}, "name it with type"},
		{api.EntryFilter{Type: "notice", Filter: "titel = 'Fog'"}, "title"},
		{api.EntryFilter{Type: "notice", Filter: "title = 'Fog'", Locale: "xx"}, "there is no locale"},
		{api.EntryFilter{Sort: "titel"}, "title"},
	} {
		if got := titles(c.f); !strings.Contains(got, c.want) {
			t.Errorf("%+v: %s, want %s", c.f, got, c.want)
		}
	}

	acts := func(filter string) string {
		t.Helper()
		all, err := n.client.Accounts().Audit(t.Context(), api.AuditFilter{Filter: filter})
		if err != nil {
			return err.Error()
		}
		return fmt.Sprint(len(all))
	}
	if _, err := n.client.Reads().SaveView(t.Context(), api.NewSavedView{
		Page: "entries", Name: "delays", Query: "type=notice",
	}); err != nil {
		t.Fatal(err)
	}
	for filter, want := range map[string]string{
		"what = 'view save' AND subject LIKE '%delays'":                 "1",
		"what = 'view save' AND at < TIMESTAMP('2020-01-01T00:00:00Z')": "0",
		"whom = 'ada'": "who",
	} {
		if got := acts(filter); !strings.Contains(got, want) {
			t.Errorf("the audit log by %s: %s, want %s", filter, got, want)
		}
	}
	if _, err := n.client.Origins().Events(t.Context(), api.EventFilter{
		Filter: "state IN ('failed', 'refused') AND received > TIMESTAMP('2026-01-01T00:00:00Z') AND sequence > 3",
	}); err != nil {
		t.Error(err)
	}
	if _, err := n.client.Origins().Events(t.Context(), api.EventFilter{Filter: "state = 'gone'"}); err == nil ||
		!strings.Contains(err.Error(), "none of the choices") {
		t.Errorf("a state that is none: %v", err)
	}
}

// TestSchedulesOfSeveralAreAllOrNone schedules two entries of which one cannot be published.
func TestSchedulesOfSeveralAreAllOrNone(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	ask := api.NewSchedules{Entries: []string{"fog", "gone"}, Action: "publish", At: "2031-01-01T08:00:30", Zone: "UTC"}
	if _, err := n.client.Entries().ScheduleAll(t.Context(), ask); err == nil || !strings.Contains(err.Error(), "gone") {
		t.Errorf("one entry is missing: %v", err)
	}
	if all, _ := n.client.Entries().Schedules(t.Context(), ""); len(all) != 0 {
		t.Errorf("some were made all the same: %+v", all)
	}
	ask.Entries[1] = "ice"
	all, err := n.client.Entries().ScheduleAll(t.Context(), ask)
	if err != nil || len(all) != 2 || all[0].Entry != "fog" || all[1].At.Second() != 30 {
		t.Errorf("made are %+v, %v", all, err)
	}
}

// TestHistoryIsKept has reads counted, and finds them on another node.
func TestHistoryIsKept(t *testing.T) {
	l := newLine(t, 2)
	_, secret := l.key(t, "read published notice")
	address := l.nodes[0].web(t, server.Options{})
	for range 3 {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet,
			address+"/content/"+l.nodes[0].Replica.Environment()+"/published/notices?fields=title", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+secret)
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		_ = resp.Body.Close()
	}
	reads := func(n node, span string) (sum int64, steps int) {
		t.Helper()
		all, err := n.Delivery.CacheHistory(t.Context(), span)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range all {
			sum += s.Hits + s.Misses
		}
		return sum, len(all)
	}
	if sum, steps := reads(l.nodes[0], "hour"); sum != 3 || steps < 60 || steps > 61 {
		t.Errorf("the node itself says %d reads in %d steps", sum, steps)
	}
	if sum, steps := reads(l.nodes[1], "week"); sum != 3 || steps < 168 || steps > 169 {
		t.Errorf("the other node says %d reads in %d steps", sum, steps)
	}
	if _, err := l.nodes[0].Delivery.CacheHistory(t.Context(), "month"); err == nil ||
		!strings.Contains(err.Error(), "week") {
		t.Errorf("a span that is none: %v", err)
	}
}

// TestFiltersOfListsRespectGrants filters as somebody who may read the drafts of one type.
func TestFiltersOfListsRespectGrants(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, secret := l.key(t, "read preview notice")
	c := &client.Client{Address: n.client.Address, Key: secret}
	list := func(typ, filter string) string {
		t.Helper()
		_, total, err := c.Entries().List(t.Context(), api.EntryFilter{Type: typ, Filter: filter})
		if err != nil {
			return err.Error()
		}
		return fmt.Sprint(total)
	}
	for _, f := range []struct{ typ, filter, want string }{
		{"notice", "title = 'Fog'", "1"},
		{"notice", "routes.name = 'Outer Ring'", "lack a grant"},
		{"notice", "routes.nam = 'Outer Ring'", "lack a grant"},
		{"route", "name = 'Outer Ring'", "there is no type"},
		{"route", "nam = 'Outer Ring'", "there is no type"},
	} {
		if got := list(f.typ, f.filter); !strings.Contains(got, f.want) || strings.Contains(got, "name") && f.want != "1" {
			t.Errorf("%s where %s: %s, want %s", f.typ, f.filter, got, f.want)
		}
	}
}

// newWellReferred is a node with 700 notices: all lead to r0, half of them to r1, the others to r2, every hundredth to
// r3, and the oldest 120 to a side route each.
func newWellReferred(t *testing.T) node {
	n := newLine(t, 1).nodes[0]
	n.must(t, api.Edit{ID: "alone", Type: "route", Save: per{"name": per{"en": "Alone"}}, Do: "publish"})
	var lines strings.Builder
	route := func(id, name string) {
		fmt.Fprintf(
			&lines, `{"id": %q, "type": "route", "fields": {"name": {"en": %q}}, "published": "2026-01-01T08:00:00Z"}`+"\n",
			id, name,
		)
	}
	for i := range 4 {
		route(fmt.Sprint("r", i), fmt.Sprint("Route ", i))
	}
	for i := range 120 {
		route(fmt.Sprint("side", i), fmt.Sprint("Side ", i))
	}
	for i := range 700 {
		refs := []string{`"r0"`, fmt.Sprintf(`"r%d"`, 1+i%2)}
		if i%100 == 3 {
			refs = append(refs, `"r3"`)
		}
		if i < 120 {
			refs = append(refs, fmt.Sprintf(`"side%d"`, i))
		}
		fmt.Fprintf(
			&lines, `{"id": "n%d", "type": "notice", "fields": {"title": {"en": "Notice %[1]d"}, "routes": [%s]}, `+
				`"published": "2026-02-01T%02d:%02d:00Z"}`+"\n",
			i, strings.Join(refs, ", "), i/60, i%60,
		)
	}
	if err := n.client.Entries().Import(t.Context(), strings.NewReader(lines.String()), api.ImportOptions{},
		func(api.ImportProgress) {}); err != nil {
		t.Fatal(err)
	}
	// A draft is newer than all, in preview alone.
	n.must(t, api.Edit{ID: "draft", Type: "notice", Save: per{"title": per{"en": "Draft"}, "routes": []any{"r0"}}})
	return n
}

// aPage is a page of a list.
type aPage struct {
	Items  []struct{ ID string }
	Window struct {
		Next, Prev *string
		Total      int
	}
}

func (n node) page(t *testing.T, edition, request string) (p aPage) {
	t.Helper()
	a, err := n.client.Do(
		t.Context(), http.MethodGet, "/content/"+n.Replica.Environment()+"/"+edition+request, nil, nil,
	)
	if err != nil || a.Status != http.StatusOK || json.Unmarshal(a.Body, &p) != nil {
		t.Fatalf("%s: %v, %s", request, err, a.Body)
	}
	return p
}

// pages are the total and the ids of a list that is followed to its end and one page back.
func (n node) pages(t *testing.T, edition, request string) string {
	t.Helper()
	var out []string
	for at := ""; ; {
		page := n.page(t, edition, request+at)
		if at == "" {
			out = append(out, fmt.Sprint(page.Window.Total))
		}
		for _, one := range page.Items {
			out = append(out, one.ID)
		}
		switch w := page.Window; {
		case w.Next != nil && !strings.HasPrefix(at, "&before="):
			at = "&after=" + url.QueryEscape(*w.Next)
		case w.Prev != nil:
			at = "&before=" + url.QueryEscape(*w.Prev)
		default:
			return strings.Join(out, " ")
		}
	}
}

// TestFiltersByWhatReferencesLeadTo follows lists to their end, both ways, that are filtered by what entries hold that
// few, many and nearly all refer to, and compares with the same filter in words by which nothing can be looked up.
func TestFiltersByWhatReferencesLeadTo(t *testing.T) {
	n := newWellReferred(t)
	for filter, some := range map[string]bool{
		"routes.name = 'Route 0'": true, "routes.name = 'Route 3'": true, "routes.name LIKE 'Side%'": true,
		"routes.name = 'Alone'": false, "routes.slug IN ('route-1', 'route-3')": true, "routes.id = 'r3'": true,
		"title LIKE '%7' AND routes.name BETWEEN 'Route 1' AND 'Route 2'": true, "routes.name <> 'Route 0'": true,
		"routes.name = 'Nowhere'": false,
	} {
		for _, sort := range []string{"-firstPublished", "firstPublished", "title"} {
			for _, edition := range []string{"published", "preview"} {
				request := "/notices?limit=90&count=true&fields=title&sort=" + sort + "&filter="
				got := n.pages(t, edition, request+url.QueryEscape(filter))
				slow := url.QueryEscape("(" + filter + ") OR id = 'nobody'")
				if want := n.pages(t, edition, request+slow); got != want || some != (got != "0") {
					t.Errorf("%s by %s in %s:\n%s\nwant\n%s", filter, sort, edition, got, want)
				}
				for _, offset := range []string{"&offset=7", "&offset=150", "&offset=650"} {
					got := n.page(t, edition, request+url.QueryEscape(filter)+offset).Items
					if want := n.page(t, edition, request+slow+offset).Items; !slices.Equal(got, want) {
						t.Errorf("%s by %s in %s%s: %v, want %v", filter, sort, edition, offset, got, want)
					}
				}
			}
		}
	}
}

// TestFiltersByWhatRefers filters by what the notices hold that refer to routes, and by what those hold that refer to
// the routes of a notice.
func TestFiltersByWhatRefers(t *testing.T) {
	n := newWellReferred(t)
	for _, one := range []struct{ list, filter, published, preview string }{
		{"routes", "notices.title = 'Notice 3'", "4 r0 r2 r3 side3", ""},
		{"routes", "notices.title LIKE 'Notice 30_' AND name <> 'Route 0'", "3 r1 r2 r3", ""},
		{"routes", "NOT (notices.title LIKE 'Notice%')", "2 alone ring", "3 alone north ring"},
		{"routes", "notices.title = 'Draft'", "0", "1 r0"},
		{"routes", "notices.title = 'Draft' OR name = 'Side 7'", "1 side7", "2 r0 side7"},
		{"routes", "notices.routes.name = 'Side 5'", "3 r0 r2 side5", ""},
		{"notices", "routes.notices.title = 'Notice 3' AND title LIKE 'Notice 69_' AND NOT (title LIKE '%0')", "9", ""},
		{"notices", "routes.notices.routes.slug = 'side-6' AND title = 'Draft'", "0", "1 draft"},
		{"notices", "routes.notices.title = 'Nothing'", "0", ""},
	} {
		for edition, want := range map[string]string{
			"published": one.published, "preview": cmp.Or(one.preview, one.published),
		} {
			got := n.pages(t, edition, "/"+one.list+"?fields=slug&count=true&limit=200&filter="+url.QueryEscape(one.filter))
			ids := strings.Fields(got)
			slices.Sort(ids[1:])
			if got := strings.Join(ids, " "); got != want && ids[0] != want {
				t.Errorf("%s where %s in %s: %s, want %s", one.list, one.filter, edition, got, want)
			}
		}
	}
}

// TestNewestThatRefer reads what refers to entries, the newest first, of those that hundreds refer to and those that
// few do, and compares with a list that is found by sorting all of them.
func TestNewestThatRefer(t *testing.T) {
	n := newWellReferred(t)
	shown := func(edition, notices string) string {
		t.Helper()
		a, err := n.client.Do(t.Context(), http.MethodPost, "/content/"+n.Replica.Environment()+"/"+edition+"/graphql",
			nil, per{"query": "{ routes(first: 7, sort: [\"name\"]) { nodes { name notices(" + notices +
				") { nodes { id title } totalCount pageInfo { hasNextPage } } } } }"})
		if err != nil || a.Status != http.StatusOK {
			t.Fatalf("%s: %v, %s", notices, err, a.Body)
		}
		return string(a.Body)
	}
	for _, filter := range []string{"", `, filter: {title: {like: "%7"}}`, `, filter: {routes: {name: {eq: "Route 3"}}}`} {
		for _, by := range []string{"-firstPublished", "-published"} {
			for _, first := range []int{1, 5, 20} {
				for _, edition := range []string{"published", "preview"} {
					got := shown(edition, fmt.Sprintf(`first: %d, sort: [%q]%s`, first, by, filter))
					want := shown(edition, fmt.Sprintf(`first: %d, sort: [%q, "title"]%s`, first, by, filter))
					if got != want {
						t.Errorf("first %d by %s%s in %s:\n%s\nwant\n%s", first, by, filter, edition, got, want)
					}
					if filter == "" && !strings.Contains(got, `"notices":{"nodes":[],`) {
						t.Errorf("nobody refers to the route alone, but it is not so: %s", got)
					}
				}
			}
		}
	}
}
