package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/client"
	"ubiquon/internal/server"
)

// goal is what a figure is to be: a ratio of processor time against the reference, a number a second, or
// something of which less is better.
type goal struct {
	name string
	goal float64
	most bool // the figure is to be at most this
}

// met tells whether a figure is what it is to be.
func (g goal) met(figure float64) bool {
	if g.most {
		return figure <= g.goal
	}
	return figure >= g.goal
}

// share is how near a figure is to its goal: 1 when it is met.
func (g goal) share(figure float64) float64 {
	switch {
	case g.met(figure):
		return 1
	case g.most:
		return g.goal / figure
	}
	return figure / g.goal
}

// goals are for what quick measures. There is none for the filtered list: among few entries the database sorts all
// of them for the reference, and the ratio flatters. There is none for HEAD: the load generator waits for a body.
// A million entries take hours to make; docs/performance.md has what they cost.
var goals = []goal{
	{"hit, REST GET", 0.95, false},
	{"hit, not modified", 0.95, false},
	{"hit, in an encoding", 0.95, false},
	{"hit, GraphQL POST", 0.92, false},
	{"allocations of a hit", 3, true},
	{"allocations of a hit, GraphQL POST", 7, true},
	{"miss, one by slug", 0.85, false},
	{"miss, page 1, by the same order", 0.85, false},
	{"miss, page far down, by cursor", 0.9, false},
	{"miss, depth 3", 0.9, false},
	{"miss, the same in GraphQL", 0.9, false},
	{"import, of COPY of the same", 0.25, false},
	{"import, entries a second", 5000, false},
	{"publishes from eight writers a second", 1000, false},
	{"publish, the slowest of a hundred, ms", 30, true},
	{"publishes beside a snapshot", 0.95, false},
	{"model change, entries a second", 10_000, false},
	{"start with an existing database, s", 0.5, true},
	{"memory of an idle service, MB", 80, true},
}

// note keeps a figure for the table.
func (y *harness) note(name string, figure float64) {
	if y.figures == nil {
		y.figures = map[string]float64{}
	}
	y.figures[name] = figure
}

// quick measures what there are goals for, shortly, and prints the table; with a history each figure is added
// to it as a line: day, commit, name, figure.
func (y *harness) quick(ctx context.Context) error {
	y.rounds, y.seconds, y.entries = 3, 1, 3000
	for _, f := range []func(context.Context) error{
		y.hit, y.hitForms, y.posted, y.allocations, y.reads, y.writes, y.startAnew,
	} {
		if err := f(ctx); err != nil {
			return err
		}
	}
	fmt.Printf("\n  %-42s %10s %8s\n", "", "figure", "goal")
	for _, g := range goals {
		figure, known := y.figures[g.name]
		verdict := "missed"
		switch {
		case !known:
			return fmt.Errorf("%s was not measured", g.name)
		case g.met(figure):
			verdict = "met"
		}
		fmt.Printf("  %-42s %10.4g %8.4g  %s\n", g.name, figure, g.goal, verdict)
	}
	return y.remember()
}

// hitForms compares hits that are answered without a body, and with an encoded one.
func (y *harness) hitForms(ctx context.Context) error {
	c := &client.Client{Address: y.demo.Connection.Gateway, Key: y.demo.Connection.Keys.Published}
	held, err := y.read(ctx)
	if err != nil {
		return err
	}
	for _, form := range []struct{ name, header, value string }{
		{"hit, not modified", "If-None-Match", held.Header.Get("Etag")},
		{"hit, in an encoding", "Accept-Encoding", "br"},
	} {
		a, err := c.Do(ctx, http.MethodGet, reading, http.Header{form.header: {form.value}}, nil)
		if err != nil {
			return err
		}
		address, stop, err := beside(saying(a))
		if err != nil {
			return err
		}
		y.what = form.name
		fmt.Printf("  %s: %d, %d bytes\n", form.name, a.Status, len(a.Body))
		err = y.compare(ctx, y.demo.Connection.Gateway+reading, address+reading, form.header+": "+form.value)
		y.what = ""
		stop()
		if err != nil {
			return err
		}
	}
	return nil
}

// writes measures the import, publishes from eight writers, and a model change.
func (y *harness) writes(ctx context.Context) error {
	return y.withContent(ctx, (*contentHarness).againstCopy, (*contentHarness).eightAtOnce,
		func(c *contentHarness, ctx context.Context) error { return c.besideSnapshot(ctx, 12*time.Second) },
		(*contentHarness).convert)
}

// allocations counts what hits allocate between the connection and the bytes of the answer.
func (y *harness) allocations(context.Context) error {
	handler := server.New(server.Options{Environment: y.demo.Environment})
	for _, one := range []struct{ name, method, path, body string }{
		{"allocations of a hit", http.MethodGet, reading, ""},
		{"allocations of a hit, GraphQL POST", http.MethodPost, "/content/main/published/graphql", graphQLReading},
	} {
		body := strings.NewReader(one.body)
		r, err := http.NewRequest(one.method, one.path, io.NopCloser(body))
		if err != nil {
			return err
		}
		r.RequestURI, r.RemoteAddr, r.ContentLength = one.path, "127.0.0.1:1", int64(len(one.body))
		r.Header = http.Header{
			"Authorization": {"Bearer " + y.demo.Connection.Keys.Published}, "Content-Type": {"application/json"},
		}
		w := &unsent{header: http.Header{}}
		serve := func() {
			clear(w.header)
			_, _ = body.Seek(0, io.SeekStart) // cannot fail
			handler.ServeHTTP(w, r)
		}
		serve()
		n := testing.AllocsPerRun(200, serve)
		if status := w.header.Get("Cache-Status"); !strings.HasPrefix(status, "Ubiquon; hit") {
			return fmt.Errorf("%s: %d, %q", one.name, w.status, status)
		}
		fmt.Printf("  %s: %g\n", one.name, n)
		y.note(one.name, n)
	}
	return nil
}

// unsent is an answer that goes nowhere.
type unsent struct {
	header http.Header
	status int
}

func (w *unsent) Header() http.Header         { return w.header }
func (w *unsent) WriteHeader(status int)      { w.status = status }
func (w *unsent) Write(p []byte) (int, error) { return len(p), nil }

// startAnew measures how long the service takes, as a process of its own, until it is ready with the database
// of the demo, and what it holds when nobody asks it anything.
func (y *harness) startAnew(ctx context.Context) error {
	y.stopDemo()
	const program = "bin/ubiquon" // make build makes it
	var spans []float64
	for range y.rounds {
		span, held, err := y.startOnce(ctx, program)
		if err != nil {
			return err
		}
		spans = append(spans, span.Seconds())
		y.note("memory of an idle service, MB", float64(held>>20))
	}
	y.note("start with an existing database, s", median(spans))
	fmt.Printf(
		"  start with an existing database: %.2f s (%.2f to %.2f); holds %.0f MB when idle\n", median(spans),
		slices.Min(spans), slices.Max(spans), y.figures["memory of an idle service, MB"],
	)
	return nil
}

// idleFor is how long a service is left alone before its memory is looked at.
const idleFor = 4 * time.Second

func (y *harness) startOnce(ctx context.Context, program string) (ready time.Duration, held int64, err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, 0, err
	}
	address := l.Addr().String()
	l.Close()
	c := exec.CommandContext(ctx, program, "serve", "--data", y.demo.Data, "--listen", address)
	begin := time.Now()
	if err := c.Start(); err != nil {
		return 0, 0, fmt.Errorf("%s: %w (make build)", program, err)
	}
	over := make(chan error, 1)
	go func() { over <- c.Wait() }()
	defer func() {
		_ = c.Process.Signal(os.Interrupt) // it may have ended
		<-over
	}()
	for ready == 0 {
		select {
		case err := <-over:
			over <- err
			return 0, 0, fmt.Errorf("%s serve ended by itself: %w", program, err)
		case <-time.After(5 * time.Millisecond):
		}
		r, err := http.Get("http://" + address + "/health/ready")
		if err != nil {
			continue
		}
		r.Body.Close()
		if r.StatusCode == http.StatusOK {
			ready = time.Since(begin)
		}
	}
	time.Sleep(idleFor)
	return ready, residentOf(strconv.Itoa(c.Process.Pid)), nil
}
