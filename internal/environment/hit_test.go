package environment_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/server"
	"ubiquon/internal/testkit"
)

// hit is one request, again and again, whose answer is held.
type hit struct {
	handler http.Handler
	request *http.Request
	body    *strings.Reader
	header  http.Header
	status  int
	bytes   int
}

func (h *hit) Header() http.Header               { return h.header }
func (h *hit) WriteHeader(status int)            { h.status = status }
func (h *hit) Write(p []byte) (int, error)       { h.bytes += len(p); return len(p), nil }
func (h *hit) WriteString(s string) (int, error) { h.bytes += len(s); return len(s), nil }

func (h *hit) serve() {
	clear(h.header)
	h.body.Seek(0, io.SeekStart)
	h.status, h.bytes = 0, 0
	h.handler.ServeHTTP(h, h.request)
}

// hits are requests for the same list, in all spellings.
func hits(t testing.TB) map[string]*hit {
	secret := access.NewSecret()
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), secret)
	for i := range 20 {
		publish(t, n, fmt.Sprint("p", i), "pier", content.Fields{"name": fmt.Sprint("Pier ", i)})
	}
	handler := server.New(server.Options{Environment: n.Environment})
	base := "/content/" + n.Replica.Environment() + "/published/"
	out := map[string]*hit{}
	add := func(name, method, path, body string, headers ...string) {
		h := &hit{handler: handler, body: strings.NewReader(body), header: http.Header{}}
		h.request = httptest.NewRequest(method, base+path, io.NopCloser(h.body))
		h.request.ContentLength = int64(len(body))
		h.request.Header = http.Header{"Authorization": {"Bearer " + secret}, "Content-Type": {"application/json"}}
		for i := 0; i < len(headers); i += 2 {
			h.request.Header.Set(headers[i], headers[i+1])
		}
		h.serve() // computes it
		h.serve()
		if status := h.header.Get("Cache-Status"); !strings.HasPrefix(status, "Ubiquon; hit") {
			t.Fatalf("%s: %d, %q", name, h.status, status)
		}
		out[name] = h
	}
	const list, query = "piers?fields=name,slug,about(published,revision)&sort=name", `{"query":"query Piers($n: Int) { piers(first: $n, sort: [\"name\"]) { nodes { id name slug } } }","variables":{"n":20}}`
	add("REST", "GET", list, "")
	add("REST in an encoding", "GET", list, "", "Accept-Encoding", "gzip, br")
	add("REST, not modified", "GET", list, "", "If-None-Match", out["REST"].header.Get("Etag"))
	add("GraphQL", "POST", "graphql", query)
	return out
}

// TestHitAllocations counts what a hit allocates between the connection and
// the answer's bytes: the router's copy of the request, three headers that are never the
// same, and of a POST its body.
func TestHitAllocations(t *testing.T) {
	all := hits(t)
	for name, want := range map[string]float64{
		"REST": 10, "REST in an encoding": 10, "REST, not modified": 10,
		"GraphQL": 14,
	} {
		h := all[name]
		if got := testing.AllocsPerRun(200, h.serve); got > want {
			t.Errorf("%s: a hit allocates %v times, at most %v was meant", name, got, want)
		} else {
			t.Logf("%s: %v allocations, %d bytes, %d", name, got, h.bytes, h.status)
		}
	}
}

func BenchmarkHit(b *testing.B) {
	for name, h := range hits(b) {
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				h.serve()
			}
		})
	}
}
