package environment_test

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"io"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/environment"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
	"ubiquon/internal/settings"
	"ubiquon/internal/store/events"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

// tides is a model of notices that come from elsewhere.
const tides = `
locales:
  en: {}
  nb: {fallback: [en]}
types:
  notice:
    title: title
    path: /notices/{slug}
    fields:
      title: {kind: text, translated: true, required: true, max: 60}
      slug: {kind: slug, madeFrom: title}
      severity: {kind: choice, options: {information: Information, delay: Delay}, default: information}
      text: {kind: prose, translated: true}
      day: {kind: date}
      picture: {kind: file}
      see: {kind: reference, types: [notice]}
      tags: {kind: text, several: true, max: 10}
`

// reading starts a node with origins as they are configured.
func reading(t *testing.T, folders []string, origins string) node {
	t.Helper()
	var f origin.File
	if err := strictyaml.Decode("origins.yaml", []byte(origins), &f); err != nil {
		t.Fatal(err)
	}
	return start(t, environment.Options{
		Store: testkit.Store(t, testkit.Model(t, tides)), Outbound: outbound.Options{Private: true},
		Settings: settings.Seed{Origins: f.Origins}, Folders: folders, Work: t.TempDir(), Reconcile: time.Hour,
		Public: "http://gateway.example",
	}, access.NewSecret())
}

func write(t *testing.T, dir, path, text string) {
	t.Helper()
	file := filepath.Join(dir, filepath.FromSlash(path))
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	// Written beside and renamed, as editors do.
	if err := os.WriteFile(file+"~", []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(file+"~", file); err != nil {
		t.Fatal(err)
	}
}

// reads waits until a path reads as wanted: with all parts of the text, between |.
func (n node) reads(t *testing.T, path string, status int, text string) {
	t.Helper()
	last := ""
	defer func() {
		if t.Failed() {
			t.Logf("%s read last: %.500s", path, last)
		}
	}()
	testkit.Eventually(t, path+" reads "+text, func() bool {
		a := n.get(t, "/content/"+n.Replica.Environment()+"/published/"+path, false)
		last = fmt.Sprint(a.Status, " ", string(a.Body))
		for part := range strings.SplitSeq(text, "|") {
			if !strings.Contains(string(a.Body), part) {
				return false
			}
		}
		return a.Status == status
	})
}

const mappedFiles = `
    prove: {none: true}
    decode: bare
    types:
      notice:
        from: "notices/**/*.md"
        state: {path: $.front.status, values: {live: published, draft: saved}, default: published}
        fields:
          title: $.front.title
          slug: $.name
          severity: {path: $.front.severity, values: {low: information, high: delay}, default: information}
          text: {markdown: $.body}
          day: {date: $.front.day, layout: "%d.%m.%Y"}
          picture: {file: $.front.picture, alt: $.front.alt}
          see: {ref: $.front.see}
          tags: $.front.tags
`

// TestFolderIsAnOrigin reads Markdown with front matter, follows its changes, and keeps what cannot be
// taken over until it can.
func TestFolderIsAnOrigin(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "notices/2026/spring-tide.md", "---\ntitle: Spring tide\nseverity: high\nday: 30.11.2026\n"+
		"picture: mark.png\nalt: The mark\ntags: [sea, moon]\n---\n\nHigh water at *noon*.\n")
	write(t, dir, "notices/2026/spring-tide.nb.md", "---\ntitle: Springflo\n---\nHøyvann klokka tolv.\n")
	write(t, dir, "notices/neap.md", "+++\ntitle = \"Neap tide\"\nsee = \"notices/2026/spring-tide.md\"\n+++\nLow.\n")
	write(t, dir, "notices/draft.md", "---\ntitle: Draft\nstatus: draft\n---\n")
	write(t, dir, "notices/broken.md", "---\ntitle: [\n---\n")
	write(t, dir, "notices/endless.md", "---\ntitle: No end\n")
	write(t, dir, "README.md", "Not a notice.")
	drawing, err := os.Create(filepath.Join(dir, "notices", "2026", "mark.png"))
	if err != nil {
		t.Fatal(err)
	}
	if err := png.Encode(drawing, image.NewGray(image.Rect(0, 0, 30, 20))); err != nil {
		t.Fatal(err)
	}
	drawing.Close()
	if err := os.Symlink("/etc", filepath.Join(dir, "notices", "outside")); err != nil {
		t.Fatal(err)
	}
	write(t, dir, "notices/flood.md", "---\ntitle: Flood\n---\n")
	if err := os.Truncate(filepath.Join(dir, "notices", "flood.md"), 1<<30); err != nil { // it takes no room
		t.Fatal(err)
	}
	n := reading(t, []string{dir}, "origins:\n  tides:\n    pull: {folder: \""+dir+"\"}"+mappedFiles)
	n.reads(
		t,
		"notices/spring-tide?fields=title,severity,day,tags,text(plain),picture(width,alt)",
		200,
		`"title":"Spring tide"|"severity":"delay"|"2026-11-30"|["sea", "moon"]|"plain":"High water at noon."|"alt":"The mark","width":30`,
	)
	n.reads(t, "notices/spring-tide?fields=title&locale=nb", 200, "Springflo")
	n.reads(t, "notices/neap?fields=see(title)", 200, "Spring tide")
	n.reads(t, "notices/draft", 404, "")

	left, err := n.client.Origins().Rejected(t.Context(), "tides")
	if err != nil || len(left) != 3 {
		t.Fatalf("not taken: %+v, %v", left, err)
	}
	for _, one := range left {
		if !strings.Contains(one.Reason, "front matter") && !strings.Contains(one.Reason, "2 MiB") &&
			!strings.Contains(one.Reason, "what stands before its text") {
			t.Errorf("%s: %s", one.Key, one.Reason)
		}
	}
	write(t, dir, "notices/broken.md", "---\ntitle: Mended\n---\n")
	n.reads(t, "notices/broken?fields=title", 200, "Mended")
	write(t, dir, "notices/2026/spring-tide.nb.md", "---\ntitle: Høy springflo\n---\n")
	n.reads(t, "notices/spring-tide?fields=title&locale=nb", 200, "Høy springflo")
	if err := os.Rename(filepath.Join(dir, "notices/neap.md"), filepath.Join(dir, "notices/neap-tide.md")); err != nil {
		t.Fatal(err)
	}
	n.reads(t, "notices/neap-tide?fields=title", 200, "Neap tide")
	n.reads(t, "notices/neap", 404, "")
	write(t, dir, "notices/deep/er/new.md", "---\ntitle: In a new directory\n---\n")
	n.reads(t, "notices/new?fields=title", 200, "In a new directory")

	c, err := n.client.Origins().Compare(t.Context(), "tides", nil)
	if err != nil || c.NotTakenAll != 2 || c.MissingAll+c.ExtraAll+c.DifferentAll != 0 || c.Same != 5 {
		t.Errorf("compared: %+v, %v", c, err)
	}
	tried, err := n.client.Origins().Try(t.Context(), api.OriginTry{
		OriginRef: api.OriginRef{Origin: "tides"},
		Item: map[string]any{
			"path":  "notices/x.md",
			"name":  "x",
			"front": map[string]any{"title": "X", "severity": "odd"},
			"body":  "",
		},
	})
	if err != nil || len(tried.Problems) != 1 || !strings.Contains(tried.Problems[0], `"odd" is none of the values`) {
		t.Errorf("tried: %+v, %v", tried, err)
	}
}

// TestFoldersAreBounded configures folders that a node does not allow.
func TestFoldersAreBounded(t *testing.T) {
	allowed, other := t.TempDir(), t.TempDir()
	if err := os.Symlink(other, filepath.Join(allowed, "link")); err != nil {
		t.Fatal(err)
	}
	write(t, other, "notices/secret.md", "---\ntitle: Secret\n---\n")
	n := reading(t, []string{allowed}, "origins:\n  tides:\n    pull: {folder: \""+allowed+"/link\"}"+mappedFiles)
	testkit.Eventually(t, "the origin is told to fail", func() bool {
		all, err := n.client.Origins().List(t.Context())
		return err == nil && len(all) == 1 && strings.Contains(all[0].Error, "not within one that this node allows")
	})
	if a := n.get(t, "/content/"+n.Replica.Environment()+"/published/notices", false); strings.Contains(
		string(a.Body),
		"Secret",
	) {
		t.Error("what lies outside is read")
	}
}

// repository is one that is served by git itself over HTTP.
type repository struct {
	dir string
	web *httptest.Server
}

func newRepository(t *testing.T) *repository {
	t.Helper()
	root := t.TempDir()
	r := &repository{dir: filepath.Join(root, "tides.git")}
	r.git(t, root, "init", "-q", "-b", "main", r.dir)
	r.git(t, r.dir, "config", "http.receivepack", "true")
	exec, err := exec.Command("git", "--exec-path").Output()
	if err != nil {
		t.Fatal(err)
	}
	r.web = httptest.NewServer(&cgi.Handler{
		Path: filepath.Join(strings.TrimSpace(string(exec)), "git-http-backend"),
		Env:  []string{"GIT_PROJECT_ROOT=" + root, "GIT_HTTP_EXPORT_ALL=1"},
	})
	t.Cleanup(r.web.Close)
	return r
}

func (r *repository) git(t *testing.T, dir string, args ...string) {
	t.Helper()
	c := exec.Command("git", args...)
	c.Dir = dir
	c.Env = append(os.Environ(), "GIT_AUTHOR_NAME=Ragna Tveit", "GIT_AUTHOR_EMAIL=r@skerry.example",
		"GIT_COMMITTER_NAME=Ragna Tveit", "GIT_COMMITTER_EMAIL=r@skerry.example", "GIT_CONFIG_GLOBAL=/dev/null")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("git %v: %v\n%s", args, err, out)
	}
}

func (r *repository) commit(t *testing.T, text string) {
	t.Helper()
	r.git(t, r.dir, "add", "-A")
	r.git(t, r.dir, "commit", "-q", "--allow-empty", "-m", text)
}

// TestRepositoryIsAnOrigin reads a branch over HTTP, from git itself: commit by commit, with a history
// that is rewritten, links outwards, and other repositories within.
func TestRepositoryIsAnOrigin(t *testing.T) {
	r := newRepository(t)
	write(t, r.dir, "site/notices/one.md", "---\ntitle: One\n---\n")
	write(t, r.dir, "site/notices/two.md", "---\ntitle: Two\n---\n")
	if err := os.Symlink("/etc/passwd", filepath.Join(r.dir, "site/notices/link.md")); err != nil {
		t.Fatal(err)
	}
	r.git(t, r.dir, "-c", "protocol.file.allow=always", "update-index", "--add", "--cacheinfo",
		"160000,0123456789012345678901234567890123456789,site/notices/other")
	r.commit(t, "First notices")
	n := reading(t, nil, "origins:\n  tides:\n    every: 1h\n    pull: {git: {address: \""+r.web.URL+
		"/tides.git\", branch: main, below: site}}"+
		strings.Replace(mappedFiles, "decode: bare", "decode: {push: {branch: main}}", 1))
	n.reads(t, "notices/one?fields=title", 200, "One")
	n.reads(t, "notices?fields=title", 200, `"Two"`)
	push := func(ref string) *http.Response {
		resp, err := http.Post(n.client.Address+"/hooks/tides", "application/json",
			strings.NewReader(`{"ref":"refs/heads/`+ref+`","commits":[]}`))
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp
	}
	write(t, r.dir, "site/notices/one.md", "---\ntitle: One, changed\n---\n")
	if err := os.Remove(filepath.Join(r.dir, "site/notices/two.md")); err != nil {
		t.Fatal(err)
	}
	r.commit(t, "Change one, and drop two")
	if resp := push("main"); resp.StatusCode != 202 {
		t.Fatal(resp.Status)
	}
	n.reads(t, "notices/one?fields=title", 200, "One, changed")
	n.reads(t, "notices/two", 404, "")
	all, err := n.client.Origins().Events(t.Context(), api.EventFilter{})
	if err != nil || len(all) != 1 {
		t.Fatalf("%+v, %v", all, err)
	}
	defer func() {
		if all, err := n.client.Origins().Events(t.Context(), api.EventFilter{}); t.Failed() {
			t.Logf("%+v %v", all, err)
		}
	}()
	testkit.Eventually(t, "the event names the commit", func() bool {
		all, err := n.client.Origins().Events(t.Context(), api.EventFilter{})
		return err == nil && all[0].State == events.EventDone && all[0].Sequence != nil &&
			strings.Contains(all[0].Detail, "Change one, and drop two (Ragna Tveit): 2 items")
	})
	push("other")
	if all, err := n.client.Origins().Events(t.Context(), api.EventFilter{State: events.EventUnknown}); err != nil ||
		len(all) != 1 || !strings.Contains(all[0].Detail, "the branch main is read") {
		t.Errorf("a push to another branch: %+v, %v", all, err)
	}
	// The history is written anew.
	write(t, r.dir, "site/notices/one.md", "---\ntitle: One, from the start\n---\n")
	r.git(t, r.dir, "checkout", "-q", "--orphan", "again")
	r.commit(t, "All of it again")
	r.git(t, r.dir, "branch", "-f", "main", "again")
	push("main")
	n.reads(t, "notices/one?fields=title", 200, "One, from the start")
}

// TestFeedIsAnOrigin reads an Atom feed, subscribes to its hub, and keeps what it lists no longer.
func TestFeedIsAnOrigin(t *testing.T) {
	var mu sync.Mutex
	entries := []string{"First", "Second"}
	asked, unchanged := 0, 0
	form := make(chan url.Values, 10)
	mux := http.NewServeMux()
	web := httptest.NewServer(mux)
	t.Cleanup(web.Close)
	mux.HandleFunc("/feed", func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		asked++
		etag := fmt.Sprintf("%q", strings.Join(entries, ""))
		w.Header().Set("ETag", etag)
		if r.Header.Get("If-None-Match") == etag {
			unchanged++
			w.WriteHeader(304)
			return
		}
		fmt.Fprintf(w, `<feed xmlns="http://www.w3.org/2005/Atom"><title>Weather</title>
			<link rel="hub" href="%s/hub"/><link rel="self" href="%[1]s/feed"/>`, web.URL)
		for _, title := range entries {
			fmt.Fprintf(w, `<entry><id>urn:x:%[1]s</id><title>%[1]s</title><updated>2026-11-29T10:00:00Z</updated>
				<content type="html">&lt;p&gt;Wind &lt;b&gt;%[1]s&lt;/b&gt;&lt;/p&gt;</content></entry>`, title)
		}
		fmt.Fprint(w, "</feed>")
	})
	mux.HandleFunc("/hub", func(w http.ResponseWriter, r *http.Request) {
		if r.ParseForm() == nil {
			form <- r.PostForm
		}
		w.WriteHeader(202)
	})
	n := reading(t, nil, `
origins:
  weather:
    every: 1h
    pull: {feed: "`+web.URL+`/feed"}
    types:
      notice: {fields: {title: $.title, text: {html: $.content}, day: {date: $.updated}}}
`)
	n.reads(
		t,
		"notices/first?fields=title,text(plain),day",
		200,
		`"title":"First"|"plain":"Wind First"|"day":"2026-11-29"`,
	)
	var want url.Values
	select {
	case want = <-form:
	case <-time.After(20 * time.Second):
		t.Fatal("the hub is not asked")
	}
	callback := strings.Replace(want.Get("hub.callback"), "http://gateway.example", n.client.Address, 1)
	verify := func(topic string) (int, string) {
		resp, err := http.Get(callback + "?" + url.Values{
			"hub.mode": {"subscribe"}, "hub.topic": {topic}, "hub.challenge": {"fjord"}, "hub.lease_seconds": {"3600"},
		}.Encode())
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		body := make([]byte, 100)
		k, _ := resp.Body.Read(body)
		return resp.StatusCode, string(body[:k])
	}
	if status, _ := verify("https://elsewhere.example/feed"); status != 404 {
		t.Errorf("a topic that nobody asked for: %d", status)
	}
	if status, text := verify(want.Get("hub.topic")); status != 200 || text != "fjord" {
		t.Errorf("verified: %d %q", status, text)
	}
	send := func(secret string) int {
		body := "<feed/>"
		mac := hmac.New(sha256.New, []byte(secret))
		mac.Write([]byte(body))
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, callback, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("X-Hub-Signature", "sha256="+hex.EncodeToString(mac.Sum(nil)))
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	mu.Lock()
	entries = []string{"Third"}
	mu.Unlock()
	if status := send("wrong"); status != 401 {
		t.Errorf("signed by somebody else: %d", status)
	}
	if status := send(want.Get("hub.secret")); status != 202 {
		t.Errorf("from the hub: %d", status)
	}
	n.reads(t, "notices/third?fields=title", 200, "Third")
	n.reads(t, "notices/first?fields=title", 200, "First") // no longer listed, not gone
	if _, err := n.client.Origins().Reconcile(t.Context(), "weather", false, nil); err != nil {
		t.Fatal(err)
	}
	mu.Lock()
	defer mu.Unlock()
	if unchanged == 0 {
		t.Errorf("asked %d times, and never whether it has changed", asked)
	}
}

// TestOriginWritesItsItems has an origin write its items here: one, many, again, wrong ones.
func TestOriginWritesItsItems(t *testing.T) {
	n := reading(t, nil, `
origins:
  crew:
    pull: {push: true}
    types:
      notice: {fields: {title: $.head, severity: $.level, see: {ref: $.see, by: slug}}}
`)
	os := n.client.Origins()
	put := func(key string, item map[string]any) api.PushOutcome {
		t.Helper()
		out, err := os.Push(t.Context(), n.Replica.Environment(), "crew", "", key, item)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	if out := put("a/1", map[string]any{"head": "Ramp"}); out.Taken != 1 || out.Changed == 0 || len(out.IDs) != 1 {
		t.Errorf("%+v", out)
	}
	n.reads(t, "notices/ramp?fields=title", 200, "Ramp")
	if out := put("a/1", map[string]any{"head": "Ramp"}); out.Changed != 0 || out.Taken != 1 {
		t.Errorf("the same again: %+v", out)
	}
	if out := put("b", map[string]any{"head": "Gangway", "level": "severe"}); out.Taken != 0 ||
		len(out.NotTaken) != 1 ||
		!strings.Contains(out.NotTaken[0].Reasons[0], "severity") {
		t.Errorf("a wrong one: %+v", out)
	}
	if out := put("c", map[string]any{"head": "Stairs", "see": "ramp"}); out.Taken != 1 {
		t.Errorf("one that refers by slug: %+v", out)
	}
	n.reads(t, "notices/stairs?fields=see(title)", 200, "Ramp")
	if out := put("d", map[string]any{"head": "Lift", "see": "nowhere"}); len(out.NotTaken) != 1 ||
		!strings.Contains(out.NotTaken[0].Reasons[0], `there is no notice with the slug "nowhere"`) {
		t.Errorf("one that refers to nothing: %+v", out)
	}
	n.must(t, api.Edit{ID: "nowhere", Type: "notice", Save: per{"title": per{"en": "Nowhere"}}, Do: "publish"})
	n.reads(t, "notices/lift?fields=see(title)", 200, "Nowhere") // taken once what it refers to is there
	// The model is mended: what was not taken is taken by itself.
	m := testkit.Model(t, strings.Replace(tides, "delay: Delay}", "delay: Delay, severe: Severe}", 1))
	if err := n.Authoring.ApplyModel(t.Context(), m, "test", writing.ModelOptions{}); err != nil {
		t.Fatal(err)
	}
	n.reads(t, "notices/gangway?fields=severity", 200, "severe")

	var b strings.Builder
	for i := range 450 {
		fmt.Fprintf(&b, `{"key":"n%d","item":{"head":"Notice %d"}}`+"\n", i, i)
	}
	at := "/control/v1/environments/" + n.Replica.Environment() + "/origins/crew/entries"
	if status, text := n.sends(t, http.MethodPost, at, "application/x-ndjson", b.String()); status != 200 ||
		!strings.Contains(text, `"taken":450`) {
		t.Errorf("many: %d %.300s", status, text)
	}
	n.reads(t, "notices?fields=title&count=true&limit=1", 200, `"total":455`)
	if done, err := os.Reconcile(t.Context(), "crew", false, nil); err != nil || done.Seen != 454 || done.Changed != 0 {
		t.Errorf("compared: %+v, %v", done, err)
	}
	if _, err := os.DeletePushed(t.Context(), n.Replica.Environment(), "crew", "", "a/1"); err == nil {
		t.Error("one that others refer to is deleted without a word")
	}
	if _, err := os.DeletePushed(t.Context(), n.Replica.Environment(), "crew", "", "n1"); err != nil {
		t.Error(err)
	}
	n.reads(t, "notices/notice-1", 404, "")
	for path, want := range map[string]int{"other/origins/crew": 404, n.Replica.Environment() + "/origins/none": 404} {
		if status, text := n.sends(t, http.MethodPut, "/control/v1/environments/"+path+"/entries/x", "application/json",
			"{}"); status != want {
			t.Errorf("%s: %d %s", path, status, text)
		}
	}
	for _, body := range []string{"[]", "{", ""} {
		if status, text := n.sends(t, http.MethodPut, at+"/x", "application/json", body); status != 400 {
			t.Errorf("%q: %d %s", body, status, text)
		}
	}
}

// sends makes a request with the node's key.
func (n node) sends(t *testing.T, method, path, media, body string) (status int, text string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, n.client.Address+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+n.client.Key)
	req.Header.Set("Content-Type", media)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	src, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp.StatusCode, string(src)
}

// TestListsGoOnInManyWays reads lists whose pages are found by number, offset and cursor, and one that is
// asked for by POST, with a token of its own.
func TestListsGoOnInManyWays(t *testing.T) {
	all := []any{}
	for i := range 25 {
		all = append(all, map[string]any{"id": fmt.Sprint("k", i), "title": fmt.Sprint("Item ", i)})
	}
	number := func(r *http.Request, name string) (n int) {
		fmt.Sscan(r.URL.Query().Get(name), &n)
		return n
	}
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, from int, more map[string]any) {
		out := map[string]any{"items": all[min(from, 25):min(from+10, 25)]}
		for k, v := range more {
			out[k] = v
		}
		_ = json.NewEncoder(w).Encode(out)
	}
	mux.HandleFunc("/number/notice", func(w http.ResponseWriter, r *http.Request) {
		answer(w, (number(r, "page")-1)*10, nil)
	})
	mux.HandleFunc("/offset/notice", func(w http.ResponseWriter, r *http.Request) { answer(w, number(r, "skip"), nil) })
	mux.HandleFunc("/cursor/notice", func(w http.ResponseWriter, r *http.Request) {
		from := number(r, "after")
		next := map[string]any{"next": fmt.Sprint(from + 10)}
		if from+10 >= 25 {
			next = nil
		}
		answer(w, from, map[string]any{"page": next})
	})
	mux.HandleFunc("POST /token", func(w http.ResponseWriter, r *http.Request) {
		id, secret, _ := r.BasicAuth()
		if id != "gateway" || secret != "ebb" {
			w.WriteHeader(401)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{"access_token":"tide","token_type":"bearer","expires_in":3600}`)
	})
	mux.HandleFunc("POST /graphql", func(w http.ResponseWriter, r *http.Request) {
		var in struct {
			Query     string
			Variables map[string]any
		}
		if r.Header.Get("Authorization") != "Bearer tide" || json.NewDecoder(r.Body).Decode(&in) != nil {
			w.WriteHeader(401)
			return
		}
		if key, is := in.Variables["key"].(string); is {
			_ = json.NewEncoder(w).
				Encode(map[string]any{"data": map[string]any{"notice": map[string]any{"id": key, "title": "One " + key}}})
			return
		}
		if in.Variables["after"] == nil {
			_ = json.NewEncoder(w).
				Encode(map[string]any{"data": map[string]any{"notices": map[string]any{"items": all[:20], "next": "20"}}})
			return
		}
		_ = json.NewEncoder(w).
			Encode(map[string]any{"data": map[string]any{"notices": map[string]any{"items": all[20:], "next": nil}}})
	})
	mux.HandleFunc("/errors", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, `{"errors":[{"message":"not today"}],"data":null}`)
	})
	web := httptest.NewServer(mux)
	t.Cleanup(web.Close)
	const types = "\n    types: {notice: {from: \"$.items[*]\", id: $.id, fields: {title: $.title}}}\n"
	for name, config := range map[string]string{
		"number": `pull: {http: "` + web.URL + `/number", page: {number: page, first: 1}}` + types,
		"offset": `pull: {http: "` + web.URL + `/offset", page: {offset: skip, size: 10, sizeAs: take}}` + types,
		"cursor": `pull: {http: "` + web.URL + `/cursor", page: {cursor: after, next: $.page.next}}` + types,
		"graphql": `pull: {http: "` + web.URL + `/graphql", page: {cursor: after, next: $.data.notices.next}, auth: {oauth2: {token: "` +
			web.URL + `/token", client: gateway, secret: ebb}}}
    types:
      notice:
        list: {body: {query: "query($after: String) {…}", variables: {after: "{cursor}"}}}
        item: {body: {query: "query($key: ID!) {…}", variables: {key: "{key}"}}, from: $.data.notice}
        from: "$.data.notices.items[*]"
        id: $.id
        fields: {title: $.title}
`,
	} {
		t.Run(name, func(t *testing.T) {
			n := reading(t, nil, "origins:\n  far:\n    prove: {none: true}\n    "+config)
			done, err := n.client.Origins().Reconcile(t.Context(), "far", false, nil)
			if err != nil || done.Seen != 25 {
				t.Fatalf("%+v, %v", done, err)
			}
			if name == "graphql" {
				tried, err := n.client.Origins().
					Try(t.Context(), api.OriginTry{OriginRef: api.OriginRef{Origin: "far"}, Key: "k3"})
				if err != nil || tried.Fields["title"] == nil {
					t.Errorf("%+v, %v", tried, err)
				}
			}
		})
	}
	n := reading(t, nil, `
origins:
  far:
    prove: {none: true}
    pull: {http: "`+web.URL+`/errors"}
    types: {notice: {list: {body: {query: x}}, from: "$.data.items[*]", id: $.id, fields: {title: $.title}}}
`)
	if _, err := n.client.Origins().Reconcile(t.Context(), "far", false, nil); err == nil ||
		!strings.Contains(err.Error(), "not today") {
		t.Errorf("errors of GraphQL: %v", err)
	}
}

// TestCallsAreCapturedAndTried keeps calls of an origin that is to be configured, and tries a mapping on
// them.
func TestCallsAreCapturedAndTried(t *testing.T) {
	n := reading(t, nil, "origins: {}")
	os := n.client.Origins()
	ctx := context.Background()
	if c, err := os.Capture(ctx, "master", 10); err != nil || c.Until == nil {
		t.Fatalf("%+v, %v", c, err)
	}
	body := `{"what":"changed","ref":"q-7"}`
	req, err := http.NewRequestWithContext(
		ctx,
		http.MethodPost,
		n.client.Address+"/hooks/master",
		strings.NewReader(body),
	)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer very-secret")
	req.Header.Set("Content-Type", "application/json")
	mac := hmac.New(sha256.New, []byte("tide"))
	mac.Write([]byte(body))
	req.Header.Set("X-Signature", hex.EncodeToString(mac.Sum(nil)))
	resp, err := http.DefaultClient.Do(req)
	if err != nil || resp.StatusCode != 202 {
		t.Fatal(resp, err)
	}
	resp.Body.Close()
	c, err := os.Captured(ctx, "master")
	if err != nil || len(c.Items) != 1 || c.Items[0].Body != body {
		t.Fatalf("%+v, %v", c, err)
	}
	if src, _ := json.Marshal(c); strings.Contains(string(src), "very-secret") {
		t.Errorf("a secret is kept: %s", src)
	}
	if err := n.client.Settings().SetSecret(ctx, "tide", "tide"); err != nil {
		t.Fatal(err)
	}
	spec := map[string]any{
		"pull":  map[string]any{"push": true},
		"prove": map[string]any{"hmac": map[string]any{"header": "X-Signature", "secret": "secret:tide"}},
		"decode": map[string]any{"json": map[string]any{
			"event": "$.what", "values": map[string]any{"changed": "published"}, "key": "$.ref",
		}},
		"types": map[string]any{"notice": map[string]any{"fields": map[string]any{"title": "$.title"}}},
	}
	tried, err := os.TryHook(
		ctx,
		api.HookTry{OriginRef: api.OriginRef{Origin: "master"}, Captured: c.Items[0].ID, Spec: spec},
	)
	if err != nil || tried.Refused != "" || len(tried.Announced) != 1 || tried.Announced[0].Key != "q-7" ||
		tried.Announced[0].Type != "notice" {
		t.Errorf("%+v, %v", tried, err)
	}
	tried, err = os.TryHook(ctx, api.HookTry{OriginRef: api.OriginRef{Origin: "master"}, Body: body, Spec: spec})
	if err != nil || !strings.Contains(tried.Refused, "hmac: the header X-Signature is needed") {
		t.Errorf("without a signature: %+v, %v", tried, err)
	}
	if c, err := os.Capture(ctx, "master", 0); err != nil || c.Until != nil {
		t.Errorf("ended: %+v, %v", c, err)
	}
	if resp, err := http.Post(n.client.Address+"/hooks/master", "text/plain", strings.NewReader("x")); err != nil ||
		resp.StatusCode != 404 {
		t.Errorf("an origin that is not there: %v, %v", resp, err)
	}
}

// TestPingsAreOneWhileTheyWait sends the weblog ping very often.
func TestPingsAreOneWhileTheyWait(t *testing.T) {
	var mu sync.Mutex
	lists := 0
	hold := make(chan struct{})
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		lists++
		first := lists == 2
		mu.Unlock()
		if first {
			<-hold
		}
		fmt.Fprint(w, `{"items": []}`)
	}))
	t.Cleanup(web.Close)
	n := reading(t, nil, `
origins:
  log:
    pull: {http: "`+web.URL+`"}
    prove: {none: true}
    decode: xmlrpc
    types: {notice: {from: "$.items[*]", id: $.id, fields: {title: $.title}}}
`)
	testkit.Eventually(t, "the origin is compared at the start", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return lists == 1
	})
	ping := func() (taken bool) {
		resp, err := http.Post(n.client.Address+"/hooks/log", "text/xml", strings.NewReader(
			`<methodCall><methodName>weblogUpdates.ping</methodName><params><param><value>a</value></param><param><value>b</value></param></params></methodCall>`,
		))
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		answer := make([]byte, 400)
		k, _ := resp.Body.Read(answer)
		taken = strings.Contains(string(answer[:k]), "<boolean>0</boolean>")
		if resp.StatusCode != 200 || !taken && !strings.Contains(string(answer[:k]), "too many") {
			t.Fatalf("%s %s", resp.Status, answer[:k])
		}
		return taken
	}
	ping()
	testkit.Eventually(t, "the first ping is under way", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return lists == 2
	})
	var taken atomic.Int32
	var all sync.WaitGroup
	for range 10 {
		all.Go(func() {
			for range 100 {
				if ping() {
					taken.Add(1)
				}
			}
		})
	}
	all.Wait()
	close(hold)
	testkit.Eventually(t, "everything is done", func() bool {
		all, err := n.client.Origins().Events(t.Context(), api.EventFilter{})
		return err == nil && len(all) == 2 && all[0].State == events.EventDone && all[1].State == events.EventDone &&
			all[0].Calls == int(taken.Load())
	})
	mu.Lock()
	defer mu.Unlock()
	if lists != 3 {
		t.Errorf("the list was read %d times", lists)
	}
}
