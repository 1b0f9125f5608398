package cli

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"ubiquon/internal/testkit"
)

// front shares requests between nodes that say that they are ready, as a load balancer
// does, and sends none twice.
type front struct {
	nodes []*faultNode
	ready []atomic.Bool
	next  atomic.Int64
}

func (f *front) watch(ctx context.Context) {
	web := &http.Client{Timeout: time.Second}
	for ctx.Err() == nil {
		for i, n := range f.nodes {
			resp, err := web.Get(n.address + "/health/ready")
			f.ready[i].Store(err == nil && resp.StatusCode == http.StatusOK)
			if err == nil {
				resp.Body.Close()
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func (f *front) handler() http.Handler {
	return &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			for range f.nodes {
				i := int(f.next.Add(1)) % len(f.nodes)
				if f.ready[i].Load() {
					to, _ := url.Parse(f.nodes[i].address) // they are ours
					r.SetURL(to)
					return
				}
			}
		}, Transport: &http.Transport{MaxIdleConnsPerHost: 16},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			http.Error(w, err.Error(), http.StatusBadGateway)
		},
	}
}

// TestRollingRestartFailsNoRequest ends and starts one node after another with SIGTERM while
// readers and a writer come through a front: no request may fail. Streams end with word
// to connect again.
func TestRollingRestartFailsNoRequest(t *testing.T) {
	f := newFaults(t)
	between := &front{nodes: f.nodes, ready: make([]atomic.Bool, len(f.nodes))}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var all sync.WaitGroup
	all.Go(func() { between.watch(ctx) })
	testkit.Eventually(t, "all nodes are ready", func() bool {
		for i := range between.ready {
			if !between.ready[i].Load() {
				return false
			}
		}
		return true
	})
	server := httptest.NewServer(between.handler())
	t.Cleanup(server.Close)
	var asked, failed atomic.Int64
	var first atomic.Pointer[string]
	ask := func(method, path, body string) {
		req, err := http.NewRequestWithContext(t.Context(), method, server.URL+path, strings.NewReader(body))
		if err != nil {
			t.Error(err)
			return
		}
		req.Header.Set("Authorization", "Bearer "+f.key)
		asked.Add(1)
		resp, err := http.DefaultClient.Do(req)
		says := ""
		if err != nil {
			says = err.Error()
		} else {
			answer, err := io.ReadAll(resp.Body)
			resp.Body.Close()
			if err != nil || resp.StatusCode >= 300 {
				says = resp.Status + " " + string(answer)
			}
		}
		if says != "" {
			failed.Add(1)
			first.CompareAndSwap(nil, &says)
		}
	}
	for range 4 {
		all.Go(func() {
			for ctx.Err() == nil {
				ask(http.MethodGet, "/content/main/published/"+"piers", "")
				time.Sleep(2 * time.Millisecond)
			}
		})
	}
	for i, n := range f.nodes {
		stream, err := http.NewRequestWithContext(
			t.Context(), http.MethodGet, n.address+"/content/main/published/changes", nil,
		)
		if err != nil {
			t.Fatal(err)
		}
		stream.Header.Set("Authorization", "Bearer "+f.key)
		stream.Header.Set("Accept", "text/event-stream")
		resp, err := http.DefaultClient.Do(stream)
		if err != nil || resp.StatusCode != http.StatusOK {
			t.Fatal(resp, err)
		}
		begin := time.Now()
		if err := n.cmd.Process.Signal(syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
		told, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if err != nil || !strings.HasSuffix(string(told), "retry: 1000\n\n") {
			t.Errorf("node %d: a stream ends with %q, %v", i, told, err)
		}
		<-n.ended
		if took := time.Since(begin); took > 8*time.Second {
			t.Errorf("node %d took %v to end", i, took)
		}
		n.start()
		testkit.Eventually(t, "the node is ready again", between.ready[i].Load)
	}
	stop()
	all.Wait()
	t.Logf("%d requests, %d failed", asked.Load(), failed.Load())
	if failed.Load() > 0 {
		t.Errorf("%d of %d requests failed: %s", failed.Load(), asked.Load(), *first.Load())
	}
}

// TestServeWaitsForItsDatabase starts a node whose database is not there: it is live, not
// ready, and goes on when the database comes.
func TestServeWaitsForItsDatabase(t *testing.T) {
	f := newFaults(t)
	n := f.nodes[1]
	n.kill()
	n.between.refuses.Store(true)
	n.run()
	status := func(path string) int {
		resp, err := http.Get(n.address + path)
		if err != nil {
			return 0
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	testkit.Eventually(t, "it is live", func() bool { return status("/health/live") == http.StatusOK })
	if got := status("/health/ready"); got != http.StatusServiceUnavailable {
		t.Errorf("readiness without a database: %d", got)
	}
	n.between.refuses.Store(false)
	testkit.Eventually(t, "it is ready", func() bool { return status("/health/ready") == http.StatusOK })
}

// TestSIGHUPEndsService sends SIGHUP, as a terminal does that is closed.
func TestSIGHUPEndsService(t *testing.T) {
	n := newFaults(t).nodes[0]
	if err := n.cmd.Process.Signal(syscall.SIGHUP); err != nil {
		t.Fatal(err)
	}
	<-n.ended
	if !n.cmd.ProcessState.Success() {
		t.Errorf("it ended with %v, and said last:\n%s", n.cmd.ProcessState, &n.says)
	}
	if code, out, _ := run(t, "--version"); code != exitFine || !strings.HasPrefix(out, "ubiquon ") {
		t.Errorf("--version: %d %q", code, out)
	}
}
