package environment_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"syscall"
	"testing"
	"time"

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
// the answer's bytes: where the request leads, the time that it took, and of a POST its body, as bytes and as text.
func TestHitAllocations(t *testing.T) {
	all := hits(t)
	for name, want := range map[string]float64{
		"REST": 2, "REST in an encoding": 2, "REST, not modified": 2,
		"GraphQL": 4,
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

// BenchmarkMiss computes the same reads anew, and tells the processor time of this process for each.
func BenchmarkMiss(b *testing.B) {
	secret := access.NewSecret()
	n := open(b, testkit.Store(b, testkit.Model(b, testkit.Ferries)), secret)
	for i := range 40 {
		publish(
			b,
			n,
			fmt.Sprint("p", i),
			"pier",
			content.Fields{"name": fmt.Sprint("Pier ", i), "slug": fmt.Sprint("pier-", i)},
		)
	}
	for i := range 20 {
		publish(b, n, fmt.Sprint("r", i), "route", content.Fields{
			"name": map[string]any{"en": fmt.Sprint("Route ", i)}, "slug": fmt.Sprint("route-", i),
			"piers": []any{fmt.Sprint("p", i), fmt.Sprint("p", i+7), fmt.Sprint("p", i+20)},
		})
	}
	handler := server.New(server.Options{Environment: n.Environment})
	for name, path := range map[string]string{
		"slug":    "piers/pier-7?fields=name,slug,about(published)",
		"list":    "piers?fields=name,slug,about(published,revision)&sort=name&limit=20",
		"depth":   "routes?fields=name,piers(name,slug)&sort=name&limit=20",
		"GraphQL": "graphql?query=" + url.QueryEscape(`{routes(sort:["name"]){nodes{id name piers{id name}}}}`),
	} {
		h := &hit{handler: handler, body: strings.NewReader(""), header: http.Header{}}
		h.request = httptest.NewRequest("GET", "/content/"+n.Replica.Environment()+"/published/"+path, h.body)
		h.request.Header = http.Header{"Authorization": {"Bearer " + secret}, "Prefer": {"recompute"}}
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			before := processorTime()
			for b.Loop() {
				if h.serve(); h.status != http.StatusOK {
					b.Fatal(h.status)
				}
			}
			b.ReportMetric(float64((processorTime()-before).Microseconds())/float64(b.N), "cpu-µs/op")
		})
	}
}

func processorTime() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u) // cannot fail
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
