package demo

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
)

// TestBalancerDistributesReads asks three nodes through the front, and goes on when
// they are stopped one after another.
func TestBalancerDistributesReads(t *testing.T) {
	f := &front{}
	var nodes []*httptest.Server
	for _, name := range []string{"a", "b", "c"} {
		node := httptest.NewServer(
			http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(w, name) }),
		)
		t.Cleanup(node.Close)
		u, err := url.Parse(node.URL)
		if err != nil {
			t.Fatal(err)
		}
		nodes, f.nodes = append(nodes, node), append(f.nodes, u)
	}
	ask := func(path string, times int) string {
		t.Helper()
		var all []string
		for range times {
			r, err := http.NewRequest(http.MethodGet, "http://front.example"+path, nil)
			if err != nil {
				t.Fatal(err)
			}
			answer, err := f.RoundTrip(r)
			if err != nil {
				return err.Error()
			}
			body, _ := io.ReadAll(answer.Body)
			answer.Body.Close()
			all = append(all, string(body))
		}
		slices.Sort(all)
		return strings.Join(all, "")
	}
	for _, c := range []struct {
		stop                    int // how many are stopped before
		content, control, hooks string
	}{{0, "aabbcc", "aa", "aa"}, {1, "bbbbcc", "bb", "bb"}, {2, "cccccc", "cc", "cc"}, {3, "no node can be " +
		"reached", "no node can be reached", "no node can be reached"}} {
		if c.stop > 0 {
			nodes[c.stop-1].Close()
		}
		for path, want := range map[string]string{
			"/content/main/published/piers": c.content,
			"/control/v1/cache":             c.control, "/hooks/harbour-office": c.hooks,
		} {
			n := 2
			if strings.HasPrefix(path, "/content/") {
				n = 6
			}
			if got := ask(path, n); got != want {
				t.Errorf("with %d stopped, %s is answered by %s, want %s", c.stop, path, got, want)
			}
		}
	}
}
