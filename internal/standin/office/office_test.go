package office

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"ubiquon/internal/testkit"
)

const secret = "whsec_c2tlcnJ5LWxpbmUtc2VjcmV0LW9uZQ=="

// bench is an office with a listener in the place of the gateway.
type bench struct {
	*Office
	t    *testing.T
	web  *httptest.Server
	hook *httptest.Server
	mu   sync.Mutex
	// heard are the announcements; refuse is how many are refused first.
	heard  []string
	ids    []string
	refuse int
}

func open(t *testing.T, dir string) *bench {
	t.Helper()
	b := &bench{t: t}
	proof, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		t.Fatal(err)
	}
	b.hook = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if err := proof.Verify(body, r.Header); err != nil {
			t.Errorf("not signed: %v", err)
		}
		var e struct{ Type, Subject, SpecVersion string }
		if err := json.Unmarshal(body, &e); err != nil || e.SpecVersion != "1.0" {
			t.Errorf("%v: %s", err, body)
		}
		b.mu.Lock()
		defer b.mu.Unlock()
		b.ids = append(b.ids, r.Header.Get("webhook-id"))
		if b.refuse > 0 {
			b.refuse--
			w.WriteHeader(503)
			return
		}
		b.heard = append(b.heard, e.Type[strings.LastIndexByte(e.Type, '.')+1:]+" "+e.Subject)
	}))
	t.Cleanup(b.hook.Close)
	seed := map[string][]Fields{"staff": {{"ref": "S-1", "fullName": "Ragna", "wentLive": "2026-02-01T08:00:00Z"}}}
	for i := range 30 {
		seed["reports"] = append(
			seed["reports"],
			Fields{"ref": "R-" + string(rune('A'+i/10)) + string(rune('0'+i%10)), "headline": "Report"},
		)
	}
	b.Office, err = Open(Options{Dir: dir, Seed: seed, Credentials: "user:pass", Hook: b.hook.URL, Secret: secret})
	if err != nil {
		t.Fatal(err)
	}
	b.web = httptest.NewServer(b.Office)
	t.Cleanup(b.web.Close)
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() { b.Run(ctx) })
	t.Cleanup(func() { cancel(); wg.Wait() })
	return b
}

func (b *bench) do(method, path string, body any) (int, map[string]any, http.Header) {
	b.t.Helper()
	src, err := json.Marshal(body)
	if err != nil {
		b.t.Fatal(err)
	}
	req, err := http.NewRequest(method, b.web.URL+path, bytes.NewReader(src))
	if err != nil {
		b.t.Fatal(err)
	}
	req.SetBasicAuth("user", "pass")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		b.t.Fatal(err)
	}
	defer resp.Body.Close()
	var out map[string]any
	json.NewDecoder(resp.Body).Decode(&out)
	return resp.StatusCode, out, resp.Header
}

func (b *bench) announced() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return strings.Join(b.heard, ", ")
}

func TestItemLifecycleIsAnnounced(t *testing.T) {
	b := open(t, t.TempDir())
	code, made, _ := b.do("POST", "/api/reports", map[string]any{"headline": "New"})
	ref, _ := made["ref"].(string)
	if code != 201 || ref == "" || made["status"] != "draft" || made["live"] != nil {
		t.Fatalf("%d %v", code, made)
	}
	path := "/api/reports/" + ref
	_, live, _ := b.do("POST", path+"/publish", nil)
	if live["status"] != "live" || live["wentLive"] == nil || live["changed"].(string) <= made["changed"].(string) {
		t.Errorf("published: %v", live)
	}
	_, draft, _ := b.do("PATCH", path, map[string]any{"headline": "Newer"})
	if draft["status"] != "draft" || draft["headline"] != "Newer" ||
		draft["live"].(map[string]any)["headline"] != "New" {
		t.Errorf("a draft behind the live state: %v", draft)
	}
	_, gone, _ := b.do("POST", path+"/unpublish", nil)
	if gone["status"] != "withdrawn" || gone["live"] != nil {
		t.Errorf("taken back: %v", gone)
	}
	if code, _, _ := b.do("DELETE", path, nil); code != 200 {
		t.Errorf("deleting: %d", code)
	}
	if code, _, _ := b.do("GET", path, nil); code != 404 {
		t.Errorf("deleted: %d", code)
	}
	subject := "reports/" + ref
	want := "saved " + subject + ", published " + subject + ", saved " + subject + ", unpublished " + subject +
		", deleted " + subject
	testkit.Eventually(t, "all of it is announced", func() bool { return b.announced() == want })
}

func TestRefusedAnnouncementsAreSentAgain(t *testing.T) {
	dir := t.TempDir()
	b := open(t, dir)
	b.mu.Lock()
	b.refuse = 2
	b.mu.Unlock()
	b.do("PATCH", "/api/staff/S-1", map[string]any{"duty": "Correspondent"})
	testkit.Eventually(t, "it gets through", func() bool { return b.announced() == "saved staff/S-1" })
	if len(b.ids) != 3 || b.ids[0] != b.ids[2] {
		t.Errorf("the tries have the ids %v", b.ids)
	}
	testkit.Eventually(t, "the outbox is empty", func() bool {
		b.Office.mu.Lock()
		defer b.Office.mu.Unlock()
		return len(b.state.Outbox) == 0
	})
	again := open(t, dir)
	if _, item, _ := again.do("GET", "/api/staff/S-1", nil); item["duty"] != "Correspondent" {
		t.Errorf("after a restart: %v", item)
	}
}

func TestListsAndMistakes(t *testing.T) {
	b := open(t, t.TempDir())
	if _, kinds, _ := b.do("GET", "/api", nil); len(kinds["kinds"].([]any)) != 3 {
		t.Errorf("kinds %v", kinds)
	}
	_, first, h := b.do("GET", "/api/reports", nil)
	if len(first["reports"].([]any)) != pageSize ||
		!strings.Contains(h.Get("Link"), `</api/reports?page=1>; rel="next"`) {
		t.Errorf("first page: %d, %s", len(first["reports"].([]any)), h.Get("Link"))
	}
	_, second, h := b.do("GET", "/api/reports?page=1", nil)
	if len(second["reports"].([]any)) != 5 || h.Get("Link") != "" {
		t.Errorf("second page: %d, %s", len(second["reports"].([]any)), h.Get("Link"))
	}
	b.do("PATCH", "/api/reports/R-A0", map[string]any{"headline": "Draft"})
	if _, drafts, _ := b.do("GET", "/api/reports?state=draft", nil); len(drafts["reports"].([]any)) != 1 {
		t.Errorf("drafts %v", drafts)
	}
	if _, live, _ := b.do("GET", "/api/reports?state=live&page=0",
		nil); live["reports"].([]any)[0].(map[string]any)["headline"] != "Report" {
		t.Errorf("the live state shows the draft: %v", live["reports"].([]any)[0])
	}
	if _, none, _ := b.do("GET", "/api/reports?updatedSince=2100-01-01T00:00:00Z", nil); len(
		none["reports"].([]any),
	) != 0 {
		t.Errorf("of the future: %v", none)
	}
	for _, c := range []struct {
		method, path string
		body         any
		want         int
	}{
		{"GET", "/api/boats", nil, 404},
		{"GET", "/api/reports?state=x", nil, 400},
		{"GET", "/api/reports?updatedSince=x", nil, 400},
		{"GET", "/api/reports/none", nil, 404},
		{"PATCH", "/api/reports/R-A1", map[string]any{"headlin": "x"}, 422},
		{"PATCH", "/api/reports/R-A1", "x", 400},
		{"POST", "/api/boats", map[string]any{}, 404},
	} {
		if code, answer, _ := b.do(c.method, c.path, c.body); code != c.want || answer["error"] == "" {
			t.Errorf("%s %s: %d %v", c.method, c.path, code, answer)
		}
	}
	resp, err := http.Get(b.web.URL + "/api/reports")
	if err != nil || resp.StatusCode != 401 || resp.Header.Get("WWW-Authenticate") == "" {
		t.Errorf("without credentials: %v %v", resp, err)
	}
}

func TestDeskWrites(t *testing.T) {
	b := open(t, t.TempDir())
	form := url.Values{"fullName": {"Ragna Tveit"}, "life": {"On Østra."}, "do": {"publish"}}
	req, err := http.NewRequest("POST", b.web.URL+"/desk/staff/S-1", strings.NewReader(form.Encode()))
	if err != nil {
		t.Fatal(err)
	}
	req.SetBasicAuth("user", "pass")
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err != nil || resp.StatusCode != 303 {
		t.Fatalf("%v %v", resp, err)
	}
	if _, item, _ := b.do("GET", "/api/staff/S-1", nil); item["status"] != "live" ||
		item["fullName"] != "Ragna Tveit" {
		t.Errorf("%v", item)
	}
	req, _ = http.NewRequest("GET", b.web.URL+"/?kind=staff&ref=S-1", nil)
	req.SetBasicAuth("user", "pass")
	resp, err = http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if page, _ := io.ReadAll(resp.Body); !bytes.Contains(page, []byte(`value="Ragna Tveit"`)) ||
		!bytes.Contains(page, []byte("On Østra.")) {
		t.Errorf("%s", page)
	}
}
