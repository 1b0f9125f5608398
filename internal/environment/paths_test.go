package environment_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"ubiquon/internal/api"
	"ubiquon/internal/core/query"
	"ubiquon/internal/replication"
	"ubiquon/internal/testkit"
)

// TestExpandPathsInOneQuery lists where everything lives, page by page, as builders
// do; and the list follows what is published.
func TestExpandPathsInOneQuery(t *testing.T) {
	n, _, _ := islesNode(t)
	n.must(t, page("home", per{"title": per{"en": "Home", "nb": "Hjem"}}))
	var want []string
	for i := range 7 {
		id := fmt.Sprintf("p%d", i)
		title := per{"en": "Page " + id}
		want = append(want, "en /home/page-"+id)
		if i%3 == 0 {
			title["nb"] = "Side " + id
			want = append(want, "nb /no/page-"+id)
		}
		n.must(t, page(id, per{"title": title, "parent": "home"}))
	}
	n.must(t, api.Edit{ID: "draft", Type: "page", Save: per{"title": per{"en": "Draft"}, "parent": "home"}})
	want = append(want, "en /home", "nb /no/home")
	slices.Sort(want)
	sweep := func(more string) (got []string, pages int) {
		for after := ""; ; pages++ {
			status, _, body := n.read(t, "/paths?limit=4"+more+after)
			var list struct {
				Items  []query.PathRow
				Window struct{ Next *string }
			}
			if err := json.Unmarshal([]byte(body), &list); err != nil || status != 200 {
				t.Fatal(err, status, body)
			}
			for _, p := range list.Items {
				got = append(got, p.Locale+" "+p.Path)
				if p.Type != "page" || p.Entry == "" || !strings.HasPrefix(p.Updated, "20") {
					t.Errorf("%+v", p)
				}
			}
			if list.Window.Next == nil {
				return got, pages + 1
			}
			after = "&after=" + url.QueryEscape(*list.Window.Next)
		}
	}
	if got, pages := sweep(""); !slices.Equal(got, want) || pages != 3 {
		t.Errorf("in %d pages: %v, want %v", pages, got, want)
	}
	if got, _ := sweep("&locale=nb&type=page"); len(got) != 4 {
		t.Errorf("in one locale: %v", got)
	}
	if _, how, _ := n.read(t, "/paths?limit=4"); !testkit.Hit(how) {
		t.Errorf("again: %s", how)
	}
	n.must(t, api.Edit{ID: "draft", Do: "publish"})
	if got, _ := sweep(""); !slices.Contains(got, "en /home/draft") {
		t.Errorf("after a publish: %v", got)
	}
	few := "/paths?fields=path,entry&limit=1"
	if _, _, body := n.read(t, few); !strings.HasPrefix(body, `{"items":[{"entry":"home","path":"/home"}],`) {
		t.Errorf("with few fields: %s", body)
	}
	n.read(t, "/paths?limit=1")
	n.must(t, page("home", per{"title": per{"en": "Home", "nb": "Hjem"}, "text": per{"en": "Again"}}))
	if _, how, _ := n.read(t, few); !testkit.Hit(how) {
		t.Errorf("with few fields, after an entry was updated: %s", how)
	}
	if _, how, _ := n.read(t, "/paths?limit=1"); testkit.Hit(how) {
		t.Errorf("with the time of the update, after it: %s", how)
	}
	n.must(t, api.Edit{ID: "p0", Do: "unpublish", Locales: []string{"nb"}})
	if got, _ := sweep(""); slices.Contains(got, "nb /no/page-p0") || !slices.Contains(got, "en /home/page-p0") {
		t.Errorf("after a locale was taken back: %v", got)
	}
	for path, want := range map[string]string{
		"/paths?type=berth": `no type \"berth\" has paths`,
		"/paths?limit=0":    "from 1 to 10000", "/paths?after=x": "no cursor", "/paths?locale=xx": "no locale",
		"/paths?sort=path": "no such parameter", "/paths?fields=path,pth": `no field \"pth\"`,
	} {
		if status, _, body := n.read(t, path); status != 400 || !strings.Contains(body, want) {
			t.Errorf("%s: %d %s", path, status, body)
		}
	}
	l := newLine(t, 1)
	_, routes := l.key(t, "read published route")
	_, notices := l.key(t, "read published notice")
	if a := l.nodes[0].ask(t, notices, "published/paths"); a.Status != 200 ||
		!strings.Contains(string(a.Body), "/notices/fog") {
		t.Errorf("a reader of notices: %d %s", a.Status, a.Body)
	}
	if a := l.nodes[0].ask(t, routes, "published/paths?type=notice"); a.Status != 403 {
		t.Errorf("a type by name that is not for the reader: %d", a.Status)
	}
}

func TestOffset(t *testing.T) {
	n, _, _ := islesNode(t)
	for i := range 5 {
		n.must(t, page(fmt.Sprintf("p%d", i), per{"title": per{"en": fmt.Sprintf("Page %d", i)}}))
	}
	_, _, body := n.read(t, "/pages?fields=title&sort=title&limit=2&offset=3&count=true")
	for _, want := range []string{`"Page 3"`, `"Page 4"`, `"total":5`, `"next":null`} {
		if !strings.Contains(body, want) {
			t.Errorf("%s is missing in %s", want, body)
		}
	}
	var list struct{ Window struct{ Prev string } }
	if err := json.Unmarshal([]byte(body), &list); err != nil {
		t.Fatal(err)
	}
	if _, _, body := n.read(t, "/pages?fields=title&sort=title&limit=2&before="+
		url.QueryEscape(list.Window.Prev)); !strings.Contains(
		body, `"Page 1"`,
	) ||
		!strings.Contains(body, `"Page 2"`) {
		t.Errorf("before the page: %s", body)
	}
	for path, want := range map[string]string{
		"/pages?offset=20000": "whose time does not " +
			"grow", "/pages?offset=-1": "from 0 to",
		"/pages?sort=title&offset=1&before=" + list.Window.Prev: "a cursor is given too",
	} {
		if status, _, body := n.read(t, path); status != 400 || !strings.Contains(body, want) {
			t.Errorf("%s: %d %s", path, status, body)
		}
	}
}

// TestChangesAreAnnounced follows what changes as JSON and as events, each reader
// what it may know of.
func TestChangesAreAnnounced(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, notices := l.key(t, "read published notice in nb")
	_, all := l.key(t, "read published *")
	type told struct {
		Items []replication.ChangeNotice
		Next  int64
	}
	ask := func(secret, query string) told {
		t.Helper()
		a := n.ask(t, secret, "published/changes?"+query)
		var out told
		if err := json.Unmarshal(a.Body, &out); err != nil || a.Status != 200 {
			t.Fatal(err, a.Status, string(a.Body))
		}
		return out
	}
	first := ask(all, "after=0")
	if len(first.Items) != 2 || first.Items[0].Entry != "ring" || first.Items[1].What != "published" ||
		first.Next < first.Items[1].Sequence {
		t.Fatalf("%+v", first)
	}
	if got := ask(notices, "after=0"); len(got.Items) != 1 || got.Items[0].Entry != "fog" ||
		strings.Join(got.Items[0].Locales, " ") != "nb" ||
		got.Next != first.Next {
		t.Errorf("of one type, in one locale: %+v", got)
	}
	if got := ask(all, "after=0&limit=1"); len(got.Items) != 1 ||
		len(ask(all, fmt.Sprintf("after=%d", got.Next)).Items) != 1 {
		t.Errorf("one by one: %+v", got)
	}
	req, _ := http.NewRequestWithContext(
		t.Context(), http.MethodGet, n.client.Address+"/content/"+n.Replica.Environment()+"/published/changes", nil,
	)
	req.Header.Set("Authorization", "Bearer "+all)
	req.Header.Set("Last-Event-ID", fmt.Sprint(first.Items[0].Sequence))
	resp, err := http.DefaultClient.Do(req)
	if err != nil || resp.Header.Get("Content-Type") != "text/event-stream" {
		t.Fatal(err, resp)
	}
	defer resp.Body.Close()
	n.must(t, api.Edit{ID: "fog", Do: "unpublish"})
	n.must(t, api.Edit{ID: "ice", Type: "notice", Save: per{"title": per{"en": "Ice, still"}}}) // a draft
	n.must(t, api.Edit{ID: "fog", Do: "delete"}, api.Edit{ID: "north", Do: "publish"})
	var got []string
	for lines := bufio.NewScanner(resp.Body); len(got) < 3 && lines.Scan(); {
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			var one replication.ChangeNotice
			if err := json.Unmarshal([]byte(data), &one); err != nil {
				t.Fatal(err)
			}
			got = append(got, one.What+" "+one.Entry)
		}
	}
	if strings.Join(got, ", ") != "published fog, unpublished fog, published north" {
		t.Errorf("events: %v", got)
	}
	for query, status := range map[string]int{
		"after=x": 400, "after=-1": 400, "limit=9999&after=0": 400,
		"since=1": 400,
	} {
		if a := n.ask(t, all, "published/changes?"+query); a.Status != status {
			t.Errorf("%s: %d", query, a.Status)
		}
	}
	if a := n.ask(t, "", "published/changes?after=0"); a.Status != 401 {
		t.Errorf("everyone, where nothing is open: %d", a.Status)
	}
}
