package demo_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/content"
	"ubiquon/internal/demo"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store/events"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/skerry"
)

// The tests of this package share one running demo. Each works on an entry of
// its own, or only reads.
var line *demo.Demo

func TestMain(m *testing.M) { skerry.Main(m, &line) }

func admin() *client.Client {
	return &client.Client{Address: line.Connection.Gateway, Key: line.Connection.Keys.Admin}
}

func reader() *client.Client {
	return &client.Client{Address: line.Connection.Gateway, Key: line.Connection.Keys.Published}
}

// get reads a path below the published edition.
func get(t *testing.T, c *client.Client, path string, header ...string) *client.Answer {
	t.Helper()
	h := http.Header{}
	for i := 0; i < len(header); i += 2 {
		h.Set(header[i], header[i+1])
	}
	if !strings.HasPrefix(path, "/content/") {
		path = "/content/main/published" + path
	}
	a, err := c.Do(t.Context(), http.MethodGet, path, h, nil)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// inOffice sends a request to the harbour office.
func inOffice(t *testing.T, method, path string, body any) map[string]any {
	t.Helper()
	src, err := json.Marshal(body)
	if err != nil {
		t.Fatal(err)
	}
	req, err := http.NewRequestWithContext(t.Context(), method, line.Connection.Office+path, bytes.NewReader(src))
	if err != nil {
		t.Fatal(err)
	}
	user, password, _ := strings.Cut(line.Connection.OfficeCredentials, ":")
	req.SetBasicAuth(user, password)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var out map[string]any
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil || resp.StatusCode/100 != 2 {
		t.Fatalf("%s %s: %s, %v, %v", method, path, resp.Status, err, out)
	}
	return out
}

func TestTourHappens(t *testing.T) {
	var out bytes.Buffer
	if err := line.Tour(t.Context(), &out); err != nil {
		t.Fatalf("%v\n%s", err, out.String())
	}
	for _, want := range []string{
		"fwd=miss", "hit", "published", "accepted", "stored", "expired", "build called",
		"build done", `<meta name="ubiquon-sequence"`, "<h1>A library in a life raft, seen at",
		"Every step happened.",
	} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("the tour does not tell %q:\n%s", want, out.String())
		}
	}
}

func TestFilterSpellingsAreEquivalent(t *testing.T) {
	rest := get(
		t, reader(),
		"/notices?sort=title&limit=3&locale=nb&fields=title,severity,routes(name,piers(name)),about(path,locales)",
	)
	var a struct {
		Items  []map[string]any
		Window struct{ Next string }
	}
	if err := json.Unmarshal(rest.Body, &a); err != nil || rest.Status != 200 || len(a.Items) != 3 {
		t.Fatalf("%d %s", rest.Status, rest.Body)
	}
	spelled, err := reader().Do(t.Context(), http.MethodPost, "/content/main/published/graphql", nil, map[string]any{
		"query": `query ($n: Int!) { notices(sort: ["title"], first: $n, locale: "nb") { nodes { ...shown } pageInfo { endCursor hasNextPage } } }
			fragment shown on Notice { id about { locales path } title severity routes { id name piers { id name } } extra: title @skip(if: true) }`,
		"variables": map[string]any{"n": 3},
	})
	if err != nil {
		t.Fatal(err)
	}
	var b struct {
		Data struct {
			Notices struct {
				Nodes    []map[string]any
				PageInfo struct {
					EndCursor   string
					HasNextPage bool
				}
			}
		}
		Errors []any
	}
	if err := json.Unmarshal(spelled.Body, &b); err != nil || len(b.Errors) > 0 {
		t.Fatalf("%s", spelled.Body)
	}
	for i := range a.Items {
		a.Items[i]["severity"] = strings.ToUpper(a.Items[i]["severity"].(string))
	}
	x, _ := json.Marshal(a.Items)
	y, _ := json.Marshal(b.Data.Notices.Nodes)
	if !bytes.Equal(x, y) {
		t.Errorf("REST    %s\nGraphQL %s", x, y)
	}
	if b.Data.Notices.PageInfo.EndCursor != a.Window.Next || !b.Data.Notices.PageInfo.HasNextPage {
		t.Errorf("the windows differ: %+v, %s", b.Data.Notices.PageInfo, a.Window.Next)
	}
}

// TestFrontPageInOneRequest reads all that a page of the site needs at once.
func TestFrontPageInOneRequest(t *testing.T) {
	a, err := reader().Do(t.Context(), http.MethodPost, "/content/main/published/graphql", nil,
		map[string]string{"query": `{
		harbourSettings { name claim office { town hours } }
		notices(filter: {validUntil: {isFuture: true}}, first: 5) { nodes { title severity routes { name piers { name location { coordinates } } } } }
		dispatches(sort: ["-published"], first: 3) { nodes { title writer { name } picture { url alt } } }
	}`})
	var got struct {
		Data struct {
			HarbourSettings struct{ Name string }
			Notices         struct {
				Nodes []struct {
					Routes []struct{ Piers []struct{ Name string } }
				}
			}
			Dispatches struct {
				Nodes []struct {
					Writer  struct{ Name string }
					Picture *struct{ URL string }
				}
			}
		}
		Errors []any
	}
	if err == nil {
		err = json.Unmarshal(a.Body, &got)
	}
	d := got.Data
	if err != nil || len(got.Errors) > 0 || d.HarbourSettings.Name == "" || len(d.Notices.Nodes) == 0 ||
		len(d.Notices.Nodes[0].Routes) == 0 ||
		len(d.Notices.Nodes[0].Routes[0].Piers) < 2 ||
		len(d.Dispatches.Nodes) != 3 ||
		d.Dispatches.Nodes[0].Writer.Name == "" {
		t.Fatalf("%v %s", err, a.Body)
	}
	notices, dispatches := get(
		t,
		reader(),
		"/notices?limit=5&filter="+url.QueryEscape(
			"validUntil > now()",
		)+"&fields=title,severity,routes(name,piers(name,location))",
	), get(
		t, reader(), "/dispatches?limit=3&sort=-published&fields=title,writer(name),picture(url,alt)",
	)
	if !strings.Contains(string(notices.Body), d.Notices.Nodes[0].Routes[0].Piers[0].Name) ||
		!strings.Contains(string(dispatches.Body), d.Dispatches.Nodes[0].Writer.Name) {
		t.Errorf("two requests of the other spelling have not the same:\n%s\n%s", notices.Body, dispatches.Body)
	}
}

func TestContentReads(t *testing.T) {
	path := "/dispatches/fog-week?fields=title,text(html,plain),writer(name,portrait),about(published,filledIn)&locale=de"
	first := get(t, reader(), path)
	if first.Status != 200 || first.Header.Get("Content-Language") != "de" ||
		first.Header.Get("Content-Type") != "application/json" ||
		first.Header.Get("Server-Timing") == "" {
		t.Fatalf("%d %v %s", first.Status, first.Header, first.Body)
	}
	var entry struct {
		Title  string
		About  map[string]any
		Text   map[string]string
		Writer struct{ Portrait map[string]any }
	}
	if err := json.Unmarshal(first.Body, &entry); err != nil || entry.Title != "Fog week" || len(entry.About) != 2 ||
		entry.Text["plain"] == "" ||
		entry.Writer.Portrait["url"] == "" {
		t.Errorf("%v: %s", err, first.Body)
	}
	again := get(t, reader(), path, "If-None-Match", `"other", W/`+first.Header.Get("ETag"))
	if again.Status != 304 || len(again.Body) != 0 || !testkit.Hit(again.Header.Get("Cache-Status")) {
		t.Errorf("conditional: %d %v", again.Status, again.Header)
	}
	if current := get(t, reader(), path, "Cache-Control", "no-cache"); current.Header.Get(
		"Cache-Status",
	) != "Ubiquon; hit; detail=verified-current" ||
		!bytes.Equal(current.Body, first.Body) {
		t.Errorf("nothing older than now: %v %s", current.Header, current.Body)
	}
	if refused := get(t, reader(), path, "Prefer", "recompute"); !testkit.Hit(refused.Header.Get("Cache-Status")) ||
		refused.Header.Get("Preference-Applied") != "" {
		t.Errorf("computed anew for a reader: %v", refused.Header)
	}
	fresh := get(t, admin(), path, "Prefer", "recompute")
	if !bytes.Equal(fresh.Body, first.Body) || fresh.Header.Get("ETag") != first.Header.Get("ETag") ||
		!strings.Contains(fresh.Header.Get("Cache-Status"), "fwd=request") {
		t.Errorf("computed anew: %v %s", fresh.Header, fresh.Body)
	}
	head, err := reader().Do(t.Context(), http.MethodHead, "/content/main/published"+path, nil, nil)
	if err != nil || head.Status != 200 || len(head.Body) != 0 ||
		head.Header.Get("Content-Length") != strconv.Itoa(len(first.Body)) {
		t.Errorf("HEAD: %v %+v", err, head)
	}
	negotiated := get(t, reader(), "/dispatches/fog-week?fields=title", "Accept-Language", "fr, nb-NO;q=0.8")
	if negotiated.Header.Get("Content-Language") != "nb" ||
		!strings.Contains(negotiated.Header.Get("Vary"), "Accept-Language") ||
		!strings.Contains(string(negotiated.Body), "Tåkeuka") {
		t.Errorf("negotiated: %v %s", negotiated.Header, negotiated.Body)
	}
	if a := get(t, reader(), "/dispatches/counting-seals?locale=ja"); a.Status != 404 ||
		a.Header.Get("Content-Type") != "application/problem+json" {
		t.Errorf("no translation and no fallback: %d %s", a.Status, a.Body)
	}
	if a := get(t, reader(), "/harbour-settings?fields=name"); a.Status != 200 ||
		!strings.Contains(string(a.Body), `"name":"Skerry Line"`) {
		t.Errorf("a singleton: %d %s", a.Status, a.Body)
	}
	id := content.MakeID("harbour-office", "dispatch", "R-1009")
	if a := get(t, reader(), "/entries/"+id); a.Status != 200 ||
		!strings.Contains(string(a.Body), `"path": "/dispatches/fog-week"`) &&
			!strings.Contains(string(a.Body), `"path":"/dispatches/fog-week"`) {
		t.Errorf("by id: %d %s", a.Status, a.Body)
	}
	a := get(t, reader(), "/dispatches?limit=4&count=true&fields=slug&sort=-published")
	seen, pages := 0, 0
	for {
		var list struct {
			Items  []any
			Window struct {
				Next  *string
				Total int
			}
		}
		if err := json.Unmarshal(a.Body, &list); err != nil || list.Window.Total != 11 {
			t.Fatalf("%v: %s", err, a.Body)
		}
		seen, pages = seen+len(list.Items), pages+1
		link := a.Header.Get("Link")
		if (list.Window.Next != nil) != strings.Contains(link, `rel="next"`) ||
			(pages > 1) != strings.Contains(link, `rel="prev"`) {
			t.Errorf("page %d: next is %v, Link is %q", pages, list.Window.Next, link)
		}
		if list.Window.Next == nil {
			back := get(t, reader(), strings.TrimPrefix(strings.Split(link, ">")[0], "<"))
			if !strings.Contains(string(back.Body), `"prev":"`) || back.Status != 200 {
				t.Errorf("back: %d %s", back.Status, back.Body)
			}
			break
		}
		next := link[strings.LastIndexByte(link, '<')+1:]
		a = get(t, reader(), strings.TrimSuffix(next, `>; rel="next"`))
	}
	if seen != 11 || pages != 3 {
		t.Errorf("%d entries on %d pages", seen, pages)
	}
}

func TestIntrospectionIsServedAndCached(t *testing.T) {
	for i, want := range []string{"fwd=miss", "hit"} {
		a, err := reader().Do(t.Context(), http.MethodGet,
			"/content/main/published/graphql?query={__type(name:%22Notice%22){fields{name}}}", nil, nil)
		if err != nil || a.Status != 200 || !strings.Contains(string(a.Body), `{"name":"severity"}`) ||
			!strings.Contains(a.Header.Get("Cache-Status"), want) {
			t.Errorf("%d: %v %d %v %s", i, err, a.Status, a.Header, a.Body)
		}
	}
	a := get(t, reader(), "/graphql/schema.graphql")
	if a.Status != 200 || !strings.Contains(string(a.Body), "type Notice implements Node") {
		t.Errorf("the schema: %d %.200s", a.Status, a.Body)
	}
	if a := get(t, &client.Client{Address: line.Connection.Gateway}, "/graphql/schema.graphql"); a.Status != 401 {
		t.Errorf("the schema without a key: %d", a.Status)
	}
}

func TestBadRequestsAreNamed(t *testing.T) {
	for path, want := range map[string]struct {
		status int
		text   string
	}{
		"/dispatchs":                                                   {404, `did you mean \"dispatches\"?`},
		"/dispatches/a/b":                                              {404, "{plural}/{slug}"},
		"/dispatches?feilds=title":                                     {400, `"parameter":"feilds"`},
		"/dispatches?fields=titel":                                     {400, `did you mean \"title\"?`},
		"/dispatches?sort=text":                                        {400, "text is of the kind prose"},
		"/dispatches?limit=201":                                        {400, `"parameter":"limit"`},
		"/dispatches?limit=-1":                                         {400, `"parameter":"limit"`},
		"/dispatches?locale=xx":                                        {400, "known are en, nb, de, ja"},
		"/dispatches?after=nonsense":                                   {400, `"parameter":"after"`},
		"/dispatches?after=a&before=b":                                 {400, "after is given too"},
		"/dispatches?limit=1&limit=2":                                  {400, "2 times"},
		"/dispatches?count=yes":                                        {400, `"parameter":"count"`},
		"/dispatches/fog-week?limit=1":                                 {400, `"parameter":"limit"`},
		"/dispatches?locale=%zz":                                       {400, "well encoded"},
		"/dispatches?locale=%00":                                       {400, "NUL"},
		"/dispatches?locale=%ff":                                       {400, "UTF-8"},
		"/dispatches?key=" + line.Connection.Keys.Site:                 {400, "/problems/query-string"},
		"/content/trial/published/dispatches":                          {404, "no environment"},
		"/content/main/publishd/dispatches":                            {404, `did you mean \"published\"?`},
		"/dispatches/fog-week?fields=" + strings.Repeat("writer(", 30): {400, "nested more than"},
	} {
		a := get(t, reader(), path)
		if a.Status != want.status || !strings.Contains(string(a.Body), want.text) ||
			a.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d %s", path, a.Status, a.Body)
		}
	}
	for path, want := range map[string]int{
		"/control/v1/entries/%00": 404, "/control/v1/events/x": 404,
		"/control/v1/entries?limt=3": 400, "/control/v1/nothing": 404,
	} {
		if a, err := admin().Do(t.Context(), http.MethodGet, path, nil, nil); err != nil || a.Status != want {
			t.Errorf("%s: %v %d %s", path, err, a.Status, a.Body)
		}
	}
	for _, body := range []any{
		map[string]any{"edits": []any{}},
		map[string]any{"edit": 1},
		map[string]any{"edits": []any{map[string]any{"id": "No!"}}},
		map[string]any{"edits": []any{map[string]any{"id": "a\x00"}}},
		"x",
	} {
		if a, err := admin().Do(t.Context(), http.MethodPost, "/control/v1/edits", nil, body); err != nil ||
			a.Status != 400 {
			t.Errorf("%v: %v %d %s", body, err, a.Status, a.Body)
		}
	}
	var p api.Problem
	if err := json.Unmarshal(get(t, reader(), "/dispatches?feilds=x").Body, &p); err != nil ||
		p.Type != "/problems/parameter" ||
		p.Title == "" ||
		p.Hint == "" {
		t.Errorf("%+v, %v", p, err)
	}
	for name, query := range map[string]string{
		"unknown field": "{ notices { nodes { titel } } }", "syntax": "{ notices {",
		"unknown locale": `{ notices(locale: "xx") { totalCount } }`,
		"bad cursor":     `{ notices(after: "x") { totalCount } }`,
		"too many":       "{ notices(first: 500) { totalCount } }", "NUL": `{ dispatch(slug: "a\u0000") { id } }`,
		"mutation": "mutation { a }", "fragment cycle": "{ ...a } fragment a on Query { ...a }",
	} {
		a, err := reader().Do(t.Context(), http.MethodPost, "/content/main/published/graphql",
			http.Header{"Accept": {"application/graphql-response+json"}}, map[string]string{"query": query})
		if err != nil || a.Status != 400 || !strings.Contains(string(a.Body), `"errors":[{"message"`) {
			t.Errorf("GraphQL, %s: %v %d %s", name, err, a.Status, a.Body)
		}
	}
}

func TestAccess(t *testing.T) {
	narrow, secret, err := admin().Keys().Create(t.Context(), api.NewKey{
		Name:   "notices only",
		Grants: []string{"read published notice"},
	})
	if err != nil {
		t.Fatal(err)
	}
	soon := time.Now().Add(50 * time.Millisecond)
	_, expired, err := admin().Keys().Create(t.Context(), api.NewKey{
		Name:   "expired",
		Grants: []string{"read published *"}, Expires: &soon,
	})
	if err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the key expires", func() bool { return time.Now().After(soon) })
	for name, c := range map[string]struct {
		key, path string
		status    int
		text      string
	}{
		"no key": {"", "/dispatches", 401, `"grant":"read published dispatch"`},
		"no key, by id": {
			"", "/entries/" + content.MakeID("harbour-office", "person", "S-1"), 401,
			`"grant":"read published *"`,
		},
		"no key, by no id":          {"", "/entries/nobody", 401, `"grant":"read published *"`},
		"another edition, by no id": {secret, "/content/main/preview/entries/nobody", 403, `"grant":"read preview *"`},
		"no key, no such type":      {"", "/secrets", 401, `"grant":"read published *"`},
		"granted":                   {secret, "/notices?fields=title", 200, `"items"`},
		"another type":              {secret, "/dispatches", 403, `"grant":"read published dispatch"`},
		"a nested selection": {
			secret, "/notices?fields=title,routes(name)", 403,
			`"grant":"read published route"`,
		},
		"another edition": {
			secret, "/content/main/preview/notices?fields=title", 403,
			`"grant":"read preview notice"`,
		},
		"by id, another type": {
			secret,
			"/entries/" + content.MakeID("harbour-office", "person", "S-1") + "?fields=id", 403,
			`"grant":"read published person"`,
		},
		"a slip in the key": {secret[:len(secret)-1] + "!", "/notices", 401, "copied whole"},
		"an unknown key":    {"ubq_00000000000000000000000000000000" + "000000", "/notices", 401, "bad-key"},
		"an expired key":    {expired, "/notices", 401, "expired"},
		"the public's key, preview": {
			line.Connection.Keys.Published, "/content/main/preview/notices", 403,
			"read preview notice",
		},
		"control, with a reader's": {line.Connection.Keys.Published, "/control/v1/status", 403, "read preview *"},
	} {
		path := c.path
		if !strings.HasPrefix(path, "/co") {
			path = "/content/main/published" + path
		}
		a, err := (&client.Client{Address: line.Connection.Gateway, Key: c.key}).Do(
			t.Context(), http.MethodGet, path, nil, nil,
		)
		if err != nil || a.Status != c.status || !strings.Contains(string(a.Body), c.text) {
			t.Errorf("%s: %v %d %s", name, err, a.Status, a.Body)
		}
		if a.Status == 401 && !strings.HasPrefix(a.Header.Get("WWW-Authenticate"), "Bearer ") {
			t.Errorf("%s: no challenge", name)
		}
	}
	a, err := (&client.Client{Address: line.Connection.Gateway, Key: secret}).Do(
		t.Context(), http.MethodPost, "/content/main/published/graphql", nil,
		map[string]string{"query": "{ notices(first: 1) { totalCount } dispatches { totalCount } }"},
	)
	if err != nil || a.Status != 200 || !strings.Contains(string(a.Body), `"notices":{"totalCount":`) ||
		!strings.Contains(string(a.Body), `"dispatches":null`) ||
		!strings.Contains(string(a.Body), `"grant":"read published dispatch"`) ||
		!strings.Contains(string(a.Body), `"path":["dispatches"]`) {
		t.Errorf("GraphQL with half the rights: %v %s", err, a.Body)
	}
	a, err = (&client.Client{Address: line.Connection.Gateway, Key: secret}).Do(
		t.Context(),
		http.MethodPost,
		"/content/main/published/graphql",
		nil,
		map[string]string{
			"query": `{ node(id: "` + content.MakeID(
				"harbour-office", "person", "S-1",
			) + `") { id } notices(first: 1) { totalCount } }`,
		},
	)
	if err != nil || a.Status != 200 || !strings.Contains(string(a.Body), `"node":null`) ||
		!strings.Contains(string(a.Body), `"notices":{"totalCount":`) ||
		!strings.Contains(string(a.Body), `"grant":"read published person"`) {
		t.Errorf("GraphQL, by id, another type: %v %s", err, a.Body)
	}
	if _, err := admin().Keys().Revoke(t.Context(), narrow.ID); err != nil {
		t.Fatal(err)
	}
	if a := get(t, &client.Client{Address: line.Connection.Gateway, Key: secret}, "/notices"); a.Status != 401 {
		t.Errorf("a revoked key: %d", a.Status)
	}
}

func TestDraftsStayInPreview(t *testing.T) {
	preview := &client.Client{Address: line.Connection.Gateway, Key: line.Connection.Keys.Preview}
	inOffice(t, "PATCH", "/api/reports/R-1005", map[string]any{"headline": "The last telephone box rings"})
	testkit.Eventually(t, "the draft is in preview", func() bool {
		a := get(t, preview, "/content/main/preview/dispatches/the-last-telephone-box?fields=title")
		if cc := a.Header.Get("Cache-Control"); cc != "private, no-store" {
			t.Fatalf("preview says Cache-Control: %s", cc)
		}
		return strings.Contains(string(a.Body), "rings")
	})
	if a := get(t, reader(), "/dispatches/the-last-telephone-box?fields=title"); strings.Contains(
		string(a.Body), "rings",
	) {
		t.Errorf("the draft is published: %s", a.Body)
	}
	id := content.MakeID("harbour-office", "dispatch", "R-1005")
	if e, err := admin().Entries().Get(t.Context(), id); err != nil || e.State != content.Revised ||
		!strings.Contains(e.EditAt, "ref=R-1005") {
		t.Errorf("%+v, %v", e.EntryInfo, err)
	}
}

// TestAnswersFollowContent reads over and over what an edit changes, and what
// it does not.
func TestAnswersFollowContent(t *testing.T) {
	ctx := t.Context()
	paths := map[string]string{
		"by slug":     "/fares/pram?fields=name",
		"list":        "/fares?fields=name&sort=name&limit=200",
		"other list":  "/people?fields=name&sort=name",
		"other field": "/fares?fields=id&sort=published&limit=1",
	}
	status := func(name string) (int, string, string) {
		a := get(t, reader(), paths[name])
		return a.Status, a.Header.Get("Cache-Status"), string(a.Body)
	}
	// Fares have no slug, so that address is nothing; a notice is used for that.
	paths["by slug"] = "/notices/fog-on-the-ring?fields=title"
	for range 2 {
		if code, _, _ := status("by slug"); code != 404 {
			t.Fatalf("before it is there: %d", code)
		}
	}
	if _, how, _ := status("by slug"); !testkit.Hit(how) {
		t.Errorf("not found is not cached: %s", how)
	}
	for name := range paths {
		status(name)
	}
	edit := api.Edit{
		ID:   "fog",
		Type: "notice",
		Save: map[string]any{"title": map[string]any{"en": "Fog on the ring"}, "severity": "delay"},
		Do:   "publish",
	}
	done, err := admin().Entries().Edit(ctx, edit)
	sequence := done.Sequence
	if err != nil || sequence == 0 {
		t.Fatal(sequence, err)
	}
	// It may be held already: what is asked for often is computed at once.
	if code, _, body := status("by slug"); code != 200 || !strings.Contains(body, "Fog on the ring") {
		t.Errorf("after the publish: %d %s", code, body)
	}
	for _, name := range []string{"list", "other list", "other field"} {
		if _, how, _ := status(name); !testkit.Hit(how) {
			t.Errorf("%s has nothing to do with it, but: %s", name, how)
		}
	}
	a := get(t, reader(), paths["by slug"], "Ubiquon-Min-Sequence", strconv.FormatInt(sequence, 10))
	if at, _ := strconv.ParseInt(a.Header.Get("Ubiquon-Sequence"), 10, 64); a.Status != 200 || at < sequence {
		t.Errorf("at or after %d: %d at %d", sequence, a.Status, at)
	}
	if a := get(t, reader(), paths["by slug"], "Ubiquon-Min-Sequence",
		strconv.FormatInt(sequence+1000, 10)); a.Status != 503 ||
		a.Header.Get("Retry-After") == "" {
		t.Errorf("of the future: %d %s", a.Status, a.Body)
	}
	if _, err := admin().Entries().Edit(ctx, api.Edit{ID: "fog", Do: "delete"}); err != nil {
		t.Fatal(err)
	}
	if code, _, _ := status("by slug"); code != 404 {
		t.Errorf("after the deletion: %d", code)
	}
	var refused *api.Problem
	if _, err := admin().Entries().Edit(ctx, api.Edit{
		ID:   content.MakeID("harbour-office", "person", "S-1"),
		Type: "person", Save: map[string]any{"name": "X"},
	}); err == nil {
		t.Error("an entry of the harbour office is written here")
	} else if !asProblem(err, &refused) || refused.Status != 409 {
		t.Errorf("got %v", err)
	}
	if _, err := admin().Entries().Edit(ctx, api.Edit{
		ID: "x1", Type: "notice", Save: map[string]any{"titel": "X"},
		Do: "publish",
	}); !asProblem(
		err, &refused,
	) ||
		refused.Status != 422 {
		t.Errorf("got %v", err)
	}
}

func asProblem(err error, p **api.Problem) bool {
	got, ok := err.(*api.Problem)
	*p = got
	return ok
}

// send posts an announcement to the hook by hand.
func send(t *testing.T, origin, secret, id, contentType string, body []byte) (int, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(
		t.Context(), http.MethodPost, line.Connection.Gateway+"/hooks/"+origin, bytes.NewReader(body),
	)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", contentType)
	if secret != "" {
		if err := outbound.Sign(req.Header, secret, id, time.Now(), body); err != nil {
			t.Fatal(err)
		}
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	out, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(out)
}

// TestPendingAnnouncement is answered when every node knows of what it brought.
func TestPendingAnnouncement(t *testing.T) {
	inOffice(t, "PATCH", "/api/reports/R-1004", map[string]any{"headline": "Told, and waited for"})
	body := []byte(
		`{"specversion":"1.0","id":"w1","source":"/office","type":"x.saved","subject":"reports/R-1004","time":"2026-11-23T08:00:00Z"}`,
	)
	req, err := http.NewRequestWithContext(
		t.Context(), http.MethodPost, line.Connection.Gateway+"/hooks/harbour-office", bytes.NewReader(body),
	)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/cloudevents+json")
	req.Header.Set("Prefer", "wait=10")
	if err := outbound.Sign(req.Header, line.Connection.HookSecret, "w1", time.Now(), body); err != nil {
		t.Fatal(err)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var out struct {
		State     string
		Confirmed bool
	}
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil || resp.StatusCode != 202 || out.State != "done" {
		t.Fatalf("%v %d %+v", err, resp.StatusCode, out)
	}
	preview := &client.Client{Address: line.Connection.Gateway, Key: line.Connection.Keys.Preview}
	a, err := preview.Do(
		t.Context(), http.MethodGet,
		"/content/main/preview/entries/"+content.MakeID("harbour-office", "dispatch", "R-1004")+"?fields=title", nil,
		nil,
	)
	if err != nil || !strings.Contains(string(a.Body), "Told, and waited for") {
		t.Errorf("after it was answered: %v %s", err, a.Body)
	}
}

func TestHooks(t *testing.T) {
	const structured = "application/cloudevents+json"
	good := []byte(
		`{"specversion":"1.0","id":"h1","source":"/office","type":"x.published","subject":"staff/S-4","time":"2026-11-23T08:00:00Z"}`,
	)
	secret := line.Connection.HookSecret
	first, answer := send(t, "harbour-office", secret, "h1", structured, good)
	var accepted struct {
		Event     string
		Duplicate bool
	}
	if err := json.Unmarshal([]byte(answer), &accepted); err != nil || first != 202 || accepted.Event == "" ||
		accepted.Duplicate {
		t.Fatalf("%d %s", first, answer)
	}
	event := accepted.Event
	if code, answer := send(t, "harbour-office", secret, "h1", structured, good); code != 202 ||
		!strings.Contains(answer, event) ||
		!strings.Contains(answer, `"duplicate":true`) {
		t.Errorf("the same again: %d %s", code, answer)
	}
	testkit.Eventually(t, "the event is done", func() bool {
		e, err := admin().Origins().Event(t.Context(), event)
		return err == nil && e.State == events.EventDone
	})
	for name, c := range map[string]struct {
		origin, secret, contentType string
		body                        []byte
		want                        int
	}{
		"unknown origin":  {"harbor-office", secret, structured, good, 404},
		"no signature":    {"harbour-office", "", structured, good, 401},
		"wrong signature": {"harbour-office", "whsec_ZXZpbA==", structured, good, 401},
		"too large":       {"harbour-office", secret, structured, bytes.Repeat([]byte("x"), 1<<20+1), 413},
		"another type":    {"harbour-office", secret, "text/plain", good, 415},
		"not an event":    {"harbour-office", secret, structured, []byte("{}"), 422},
		"another kind": {
			"harbour-office", secret, structured,
			bytes.Replace(good, []byte("staff/"), []byte("ships/"), 1), 422,
		},
	} {
		if code, answer := send(t, c.origin, c.secret, "h-"+strings.ReplaceAll(name, " ", "-"), c.contentType,
			c.body); code != c.want {
			t.Errorf("%s: %d %s", name, code, answer)
		} else if strings.Contains(answer, secret) {
			t.Errorf("%s: the answer tells the secret", name)
		}
	}
	refused, err := admin().Origins().Events(t.Context(), api.EventFilter{State: events.EventRefused})
	if err != nil || len(refused) < 5 {
		t.Errorf("%d refused announcements are kept: %v", len(refused), err)
	}
}

func TestDeletionsAndPingsArrive(t *testing.T) {
	made := inOffice(t, "POST", "/api/reports", map[string]any{"headline": "Here today", "copy": "Gone tomorrow."})
	ref := made["ref"].(string)
	inOffice(t, "POST", "/api/reports/"+ref+"/publish", nil)
	path := "/dispatches/here-today?fields=title"
	testkit.Eventually(t, "the new report is published", func() bool { return get(t, reader(), path).Status == 200 })
	inOffice(t, "POST", "/api/reports/"+ref+"/unpublish", nil)
	testkit.Eventually(t, "it is taken back", func() bool { return get(t, reader(), path).Status == 404 })
	inOffice(t, "POST", "/api/reports/"+ref+"/publish", nil)
	testkit.Eventually(t, "it is published again", func() bool { return get(t, reader(), path).Status == 200 })
	inOffice(t, "DELETE", "/api/reports/"+ref, nil)
	testkit.Eventually(t, "it is gone", func() bool { return get(t, reader(), path).Status == 404 })
	body := []byte(`{"specversion":"1.0","id":"p1","source":"/office","type":"x.ping"}`)
	if code, answer := send(t, "harbour-office", line.Connection.HookSecret, "ping-1", "application/cloudevents+json",
		body); code != 202 {
		t.Fatalf("%d %s", code, answer)
	}
	testkit.Eventually(t, "the ping is done", func() bool {
		all, err := admin().Origins().Events(t.Context(), api.EventFilter{Limit: 5})
		return err == nil && len(all) > 0 && all[0].Decoded != nil && all[0].Decoded.Kind == "ping" &&
			all[0].State == events.EventDone
	})
}

func TestPublishesCloseTogetherShareABuild(t *testing.T) {
	before, err := admin().Builds().List(t.Context(), "skerry-web", 1)
	if err != nil || len(before) == 0 {
		t.Fatal(before, err)
	}
	var last int64
	for i := range 5 {
		edit := api.Edit{
			ID:   fmt.Sprintf("burst-%d", i),
			Type: "notice",
			Save: map[string]any{
				"title":    map[string]any{"en": fmt.Sprintf("Burst %d", i)},
				"severity": "information",
			},
			Do: "publish",
		}
		done, err := admin().Entries().Edit(t.Context(), edit)
		if err != nil {
			t.Fatal(err)
		}
		last = done.Sequence
	}
	testkit.Eventually(t, "the last one is built", func() bool {
		builds, err := admin().Builds().List(t.Context(), "skerry-web", 1)
		return err == nil && builds[0].State == "finished" && builds[0].Sequence >= last-1
	})
	after, err := admin().Builds().List(t.Context(), "skerry-web", 50)
	if err != nil {
		t.Fatal(err)
	}
	if n := after[0].Number - before[0].Number; n > 2 {
		t.Errorf("five publishes made %d builds", n)
	}
	resp, err := http.Get(line.Connection.Slipway + "/notices/burst-4/")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	page, _ := io.ReadAll(resp.Body)
	if !strings.Contains(string(page), "<h1>Burst 4</h1>") ||
		!strings.Contains(string(page), `<meta name="ubiquon-sequence" content="`) {
		t.Errorf("the page is\n%s", page)
	}
	if b, err := admin().Builds().Rebuild(t.Context(), "skerry-web", true); err != nil || b.Site != "skerry-web" {
		t.Errorf("rebuild now: %+v, %v", b, err)
	}
	if _, err := admin().Builds().Rebuild(t.Context(), "skerry-wbe", true); err == nil {
		t.Error("an unknown site is rebuilt")
	}
}

func TestHealthAndMetrics(t *testing.T) {
	for path, want := range map[string]string{
		"/health/live": "live", "/health/ready": "ready",
		"/metrics": "ubiquon_cache_hits_total", "/problems/grant": "A grant is missing",
		"/console/": "<div id=\"root\">",
	} {
		resp, err := http.Get(line.Connection.Gateway + path)
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode != 200 || !strings.Contains(string(body), want) {
			t.Errorf("%s: %d %.200s", path, resp.StatusCode, body)
		}
	}
}

// TestSecondStartResumes stops a demo and starts it on the
// same data: same keys, same content.
func TestSecondStartResumes(t *testing.T) {
	dir, err := os.MkdirTemp("/tmp", "ubiquon-demo-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	first, err := skerry.Start(dir, false)
	if err != nil {
		t.Fatal(err)
	}
	c := &client.Client{Address: first.Connection.Gateway, Key: first.Connection.Keys.Admin}
	if _, err := c.Entries().Edit(t.Context(), api.Edit{
		ID: "kept", Type: "notice",
		Save: map[string]any{"title": map[string]any{"en": "Kept"}, "severity": "delay"}, Do: "publish",
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := skerry.Start(dir, false); err == nil ||
		!strings.Contains(err.Error(), "another ubiquon is running") {
		t.Errorf("a second one beside the first: %v", err)
	}
	if _, err := skerry.Start(dir, true); err == nil {
		t.Error("a running demo's data is thrown away")
	}
	card, err := os.ReadFile(demo.CardFile(dir))
	if err != nil || !bytes.Contains(card, []byte(first.Connection.Keys.Published)) {
		t.Errorf("the card: %v %s", err, card)
	}
	if info, err := os.Stat(filepath.Join(dir, "demo.json")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the card can be read by others: %v", info.Mode())
	}
	first.Close()
	second, err := skerry.Start(dir, false)
	if err != nil {
		t.Fatal(err)
	}
	c = &client.Client{Address: second.Connection.Gateway, Key: first.Connection.Keys.Published}
	if a := get(t, c, "/notices/kept?fields=title"); a.Status != 200 {
		t.Errorf("after the second start: %d %s", a.Status, a.Body)
	}
	second.Close()
}
