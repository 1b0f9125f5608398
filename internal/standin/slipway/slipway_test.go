package slipway

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/outbound"
	"ubiquon/internal/testkit"
)

const secret = "whsec_c2tlcnJ5LWxpbmUtc2VjcmV0LW9uZQ=="

// gateway stands in for the real one: it answers every list with one item, and
// takes reports.
type gateway struct {
	mu       sync.Mutex
	sequence int64
	title    string
	broken   bool
	reports  []string
	marks    map[string]int // how often was read for which page
}

func (g *gateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if r.Header.Get("Authorization") != "Bearer site-key" {
		w.WriteHeader(401)
		return
	}
	if r.Method == http.MethodPost {
		var report struct{ State, Error string }
		json.NewDecoder(r.Body).Decode(&report)
		g.reports = append(g.reports, strings.TrimSpace(report.State+" "+report.Error))
		return
	}
	if g.broken {
		w.WriteHeader(500)
		return
	}
	if g.marks == nil {
		g.marks = map[string]int{}
	}
	g.marks[r.Header.Get("Ubiquon-Page")]++
	w.Header().Set("Ubiquon-Sequence", fmt.Sprint(g.sequence))
	if strings.HasPrefix(r.URL.Path, "/content/harbour-settings") {
		fmt.Fprint(w, `{"name": "Skerry Line", "claim": "Island to island"}`)
		return
	}
	item := fmt.Sprintf(`{"title": %q, "slug": "one", "text": {"html": "<p>Safe</p>"}}`, g.title)
	if strings.HasSuffix(r.URL.Path, "/one") {
		fmt.Fprint(w, item)
		return
	}
	fmt.Fprintf(w, `{"items": [%s], "window": {"next": null}}`, item)
}

func (g *gateway) reported() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return strings.Join(g.reports, ", ")
}

type yard struct {
	*Slipway
	t   *testing.T
	g   *gateway
	api *httptest.Server
	web *httptest.Server
}

func open(t *testing.T) *yard {
	t.Helper()
	y := &yard{t: t, g: &gateway{sequence: 7, title: "First <one>"}}
	y.api = httptest.NewServer(y.g)
	t.Cleanup(y.api.Close)
	var err error
	if y.Slipway, err = Open(Options{
		Dir: t.TempDir(), Gateway: y.api.URL + "/content", Key: "site-key",
		Secret: secret, Delay: time.Millisecond,
	}); err != nil {
		t.Fatal(err)
	}
	y.web = httptest.NewServer(y.Slipway)
	t.Cleanup(y.web.Close)
	return y
}

func (y *yard) run() {
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() { y.Run(ctx) })
	y.t.Cleanup(func() { cancel(); wg.Wait() })
}

func (y *yard) order(secret string, build string, number, sequence int64, pages ...string) int {
	y.t.Helper()
	body, _ := json.Marshal(order{
		Build: build, Number: number, Sequence: sequence, Report: y.api.URL + "/report", Pages: pages,
	})
	req, err := http.NewRequest(http.MethodPost, y.web.URL+"/build", bytes.NewReader(body))
	if err != nil {
		y.t.Fatal(err)
	}
	if secret != "" {
		if err := outbound.Sign(req.Header, secret, build, time.Now(), body); err != nil {
			y.t.Fatal(err)
		}
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		y.t.Fatal(err)
	}
	resp.Body.Close()
	return resp.StatusCode
}

func (y *yard) page(path string) (int, string) {
	y.t.Helper()
	resp, err := http.Get(y.web.URL + path)
	if err != nil {
		y.t.Fatal(err)
	}
	defer resp.Body.Close()
	body, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(body)
}

func TestBuildReadsRendersSwapsAndReports(t *testing.T) {
	y := open(t)
	if code, _ := y.page("/"); code != 503 {
		t.Errorf("before the first build: %d", code)
	}
	if code := y.order("", "b1", 1, 7); code != 401 {
		t.Errorf("without a signature: %d", code)
	}
	if code := y.order("whsec_ZXZpbA==", "b1", 1, 7); code != 401 {
		t.Errorf("with another secret: %d", code)
	}
	// Ordered while nobody builds, as before a crash, and twice: taken up once.
	for range 2 {
		if code := y.order(secret, "b1", 1, 7); code != 202 {
			t.Fatalf("not taken: %d", code)
		}
	}
	y.run()
	testkit.Eventually(t, "it is reported", func() bool { return y.g.reported() == "started, finished" })
	code, page := y.page("/dispatches/one/")
	if code != 200 || !strings.Contains(page, `<meta name="ubiquon-sequence" content="7">`) ||
		!strings.Contains(page, "<h1>First &lt;one&gt;</h1>") ||
		!strings.Contains(page, "<p>Safe</p>") {
		t.Errorf("%d %s", code, page)
	}
	y.g.mu.Lock()
	y.g.title, y.g.sequence = "Second", 9
	y.g.mu.Unlock()
	y.order(secret, "b2", 2, 9)
	testkit.Eventually(
		t, "the second is swapped in",
		func() bool { _, page := y.page("/dispatches/one/"); return strings.Contains(page, "<h1>Second</h1>") },
	)
	testkit.Eventually(t, "it is listed", func() bool {
		_, list := y.page("/builds")
		return strings.Contains(list, `"build":"b2"`) && strings.Contains(list, `"pages":9`)
	})
}

func TestFailedBuildLeavesSiteUnchanged(t *testing.T) {
	y := open(t)
	y.run()
	y.order(secret, "b1", 1, 7)
	testkit.Eventually(t, "the first is built", func() bool { return y.g.reported() == "started, finished" })
	y.g.mu.Lock()
	y.g.broken = true
	y.g.mu.Unlock()
	y.order(secret, "b2", 2, 8)
	testkit.Eventually(
		t, "the failure is reported",
		func() bool { return strings.Contains(y.g.reported(), "failed /dispatches") },
	)
	if code, page := y.page("/"); code != 200 || !strings.Contains(page, "Skerry Line") {
		t.Errorf("the site after a failure: %d %s", code, page)
	}
	y.g.mu.Lock()
	y.g.broken = false
	y.g.mu.Unlock()
	y.order(secret, "b3", 3, 100)
	testkit.Eventually(
		t, "an answer older than the order is a failure",
		func() bool { return strings.Contains(y.g.reported(), errTooOld.Error()) },
	)
}

// TestABuildOfSomePagesKeepsTheOthers builds a site, and then one page of it.
func TestABuildOfSomePagesKeepsTheOthers(t *testing.T) {
	y := open(t)
	y.run()
	y.order(secret, "b1", 1, 7)
	testkit.Eventually(t, "the first is built", func() bool { return y.g.reported() == "started, finished" })
	y.g.mu.Lock()
	if n := y.g.marks[`""; build="1"`]; n != 4 || y.g.marks[`"/dispatches/one"; build="1"`] != 2 {
		t.Errorf("read for %v", y.g.marks)
	}
	y.g.title, y.g.sequence, y.g.marks = "Second", 9, nil
	y.g.mu.Unlock()
	y.order(secret, "b2", 2, 9, "/dispatches/one", "/nowhere")
	testkit.Eventually(t, "the second is built", func() bool { return strings.Count(y.g.reported(), "finished") == 2 })
	y.g.mu.Lock()
	defer y.g.mu.Unlock()
	if len(y.g.marks) != 2 || y.g.marks[`"/dispatches/one"; build="2"`] != 2 {
		t.Errorf("read for %v", y.g.marks)
	}
	for path, want := range map[string]string{
		"/dispatches/one/": `content="9"`, "/dispatches/": `content="7"`, "/": `content="7"`, "/piers/one/": `content="7"`,
	} {
		if code, page := y.page(path); code != 200 || !strings.Contains(page, want) {
			t.Errorf("%s: %d, without %s: %s", path, code, want, page)
		}
	}
}
