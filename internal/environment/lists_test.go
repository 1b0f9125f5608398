package environment_test

import (
	"fmt"
	"net/http"
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
