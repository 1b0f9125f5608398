package breakwater

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ubiquon/internal/outbound"
)

const secret = "whsec_c2tlcnJ5IGJyZWFrd2F0ZXIgc2VjcmV0IQ=="

// harbour is a gateway that counts what it is asked, and how often, and a breakwater
// before it.
type harbour struct {
	t     *testing.T
	asked atomic.Int64
	cdn   atomic.Pointer[string] // CDN-Cache-Control
	web   *httptest.Server
	close func()
}

func newHarbour(t *testing.T) *harbour {
	h := &harbour{t: t}
	h.says("max-age=60")
	gateway := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := h.asked.Add(1)
		if v := *h.cdn.Load(); v != "" {
			w.Header().Set("CDN-Cache-Control", v)
		}
		w.Header().Set("Cache-Groups", `"notice", "entry-n1"`)
		w.Header().Set("Cache-Status", "Ubiquon; hit")
		if strings.Contains(r.URL.Path, "none") {
			w.WriteHeader(http.StatusNotFound)
		}
		fmt.Fprintf(w, "%d %s %s", n, r.Header.Get("Accept-Language"), r.Header.Get("Accept-Encoding"))
	}))
	h.web, h.close = httptest.NewServer(New(Options{Gateway: gateway.URL, Secret: secret})), gateway.Close
	t.Cleanup(func() { h.web.Close(); gateway.Close() })
	return h
}

func (h *harbour) says(cdn string) { h.cdn.Store(&cdn) }

// get reads through the breakwater and returns the answer's text and its Cache-Status.
func (h *harbour) get(path string, headers ...string) (status int, body, how string) {
	h.t.Helper()
	req, err := http.NewRequest(http.MethodGet, h.web.URL+path, nil)
	if err != nil {
		h.t.Fatal(err)
	}
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := h.web.Client().Do(req)
	if err != nil {
		h.t.Fatal(err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	all := resp.Header.Values("Cache-Status")
	if len(all) == 0 {
		all = []string{""}
	}
	return resp.StatusCode, string(text), all[len(all)-1]
}

// tell tells the breakwater what changed, signed with a secret.
func (h *harbour) tell(body, with string) int {
	h.t.Helper()
	req, err := http.NewRequest(http.MethodPost, h.web.URL+"/invalidations", strings.NewReader(body))
	if err != nil {
		h.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/cloudevents+json")
	if err := outbound.Sign(req.Header, with, "msg-1", time.Now(), []byte(body)); err != nil {
		h.t.Fatal(err)
	}
	resp, err := h.web.Client().Do(req)
	if err != nil {
		h.t.Fatal(err)
	}
	resp.Body.Close()
	return resp.StatusCode
}

func TestOpenContentIsStoredDownstream(t *testing.T) {
	h := newHarbour(t)
	const list = "/content/main/published/notices?limit=3"
	_, first, how := h.get(list)
	if how != "Breakwater; fwd=uri-miss; stored" {
		t.Errorf("at first: %s", how)
	}
	if _, again, how := h.get(list); how != "Breakwater; hit" || again != first {
		t.Errorf("again: %s, %q", how, again)
	}
	for name, headers := range map[string][]string{
		"another language": {"Accept-Language", "nb"},
		"another encoding": {"Accept-Encoding", "br"}, "with a key": {"Authorization", "Bearer x"},
	} {
		if _, other, how := h.get(list, headers...); how == "Breakwater; hit" || other == first {
			t.Errorf("%s: %s, %q", name, how, other)
		}
	}
	if _, _, how := h.get(list, "Authorization", "Bearer x"); strings.Contains(how, "stored") ||
		how == "Breakwater; hit" {
		t.Errorf("what a key reads is kept: %s", how)
	}
	if status, _, how := h.get("/content/main/published/notices/none"); status != http.StatusNotFound ||
		strings.Contains(how, "stored") {
		t.Errorf("nothing is kept: %d %s", status, how)
	}
	for _, cdn := range []string{"", "no-store", "max-age=0", "max-age=x"} {
		h.says(cdn)
		if _, _, how := h.get("/content/main/published/piers?cdn=" + cdn); strings.Contains(how, "stored") {
			t.Errorf("CDN-Cache-Control %q: %s", cdn, how)
		}
	}
	if resp, err := http.Head(h.web.URL + list); err != nil || resp.StatusCode != http.StatusOK ||
		resp.Header.Get("Cache-Status") == "" {
		t.Errorf("HEAD: %v %v", resp, err)
	}
	if resp, err := http.Get(h.web.URL + "/control/keys"); err != nil || resp.StatusCode != http.StatusNotFound {
		t.Errorf("what is no content: %v %v", resp, err)
	}
	h.close()
	if status, _, _ := h.get("/content/main/published/fares"); status != http.StatusBadGateway {
		t.Errorf("with the gateway away: %d", status)
	}
	if _, again, how := h.get(list); how != "Breakwater; hit" || again != first {
		t.Errorf("what is kept, with the gateway away: %s %q", how, again)
	}
}

func TestPurgeCalls(t *testing.T) {
	for name, c := range map[string]struct {
		body, secret string
		status       int
		gone         bool
	}{
		"a group":      {`{"specversion":"1.0","data":{"sequence":7,"groups":["entry-n1"]}}`, secret, 204, true},
		"an address":   {`{"specversion":"1.0","data":{"sequence":7,"addresses":["/content/main/published/notices"]}}`, secret, 204, true},
		"other groups": {`{"specversion":"1.0","data":{"sequence":7,"groups":["pier"],"addresses":["/content/main/published/piers"]}}`, secret, 204, false},
		"a forged one": {
			`{"specversion":"1.0","data":{"groups":["notice"]}}`,
			"whsec_Zm9yZ2VkIGZvcmdlZCBmb3JnZWQgZm9yZ2VkIQ==", 400, false,
		},
		"another version":  {`{"specversion":"0.3","data":{"groups":["notice"]}}`, secret, 400, false},
		"what is no event": {`groups: notice`, secret, 400, false},
	} {
		h := newHarbour(t)
		h.get("/content/main/published/notices")
		if got := h.tell(c.body, c.secret); got != c.status {
			t.Errorf("%s: %d, want %d", name, got, c.status)
		}
		if _, _, how := h.get("/content/main/published/notices"); (how != "Breakwater; hit") != c.gone {
			t.Errorf("%s: after it %s", name, how)
		}
	}
}
