// Bench measures side by side, in one run: each line is a ratio against a
// reference that does the same by hand, or a span of time. Figures are never
// asserted; docs/performance.md says what they were.
//
//	go run ./bench [-rounds 5] [-seconds 3] [hit] [miss] [freshness] [content] [access] [read] [abuse] [faults]
//	    [automation] [files] [origins] [pages]
package main

import (
	"bytes"
	"cmp"
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"runtime/pprof"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"ubiquon/internal/client"
	"ubiquon/internal/demo"
	"ubiquon/internal/store/cluster"
)

// harness is what the measurements share.
type harness struct {
	script   string // for wrk, if it is to do something else than GET
	demo     *demo.Demo
	stopDemo func()
	database string
	rounds   int
	seconds  int
	entries  int    // of the content and read measurements
	plot     string // the file, for the trace
	profile  string // what the files of profiles begin with; "" for comparing
	history  string // the file that figures are added to
	what     string // is compared, for the table
	figures  map[string]float64
}

func main() {
	if len(os.Args) == 2 && os.Args[1] == attackFrom {
		if err := attackFromInput(os.Stdin); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
		}
		return
	}
	y := harness{}
	flag.IntVar(&y.rounds, "rounds", 5, "how often each side is measured, alternating")
	flag.IntVar(&y.seconds, "seconds", 3, "how long each time")
	flag.IntVar(&y.entries, "entries", 100_000, "how many entries content and read import")
	flag.StringVar(
		&y.profile, "profile", "", "write a CPU profile of each side of each comparison to files that begin so, instead",
	)
	flag.StringVar(&y.history, "history", "", "add the figures of quick to this file")
	flag.StringVar(&y.plot, "plot", "", "draw the trace of cache in this file, as SVG")
	flag.Parse()
	if err := y.run(flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func (y *harness) run(which []string) error {
	if len(which) == 0 {
		which = []string{
			"hit", "miss", "freshness", "content", "access", "read", "invalidate", "cache", "abuse", "faults",
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 40*time.Minute)
	defer cancel()
	dir, err := os.MkdirTemp("/tmp", "ubiquon-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	y.demo, err = demo.Start(
		ctx,
		demo.Options{
			Data:      dir,
			Listen:    "127.0.0.1:0",
			Office:    "127.0.0.1:0",
			Slipway:   "127.0.0.1:0",
			Reconcile: time.Hour,
		},
	)
	if err != nil {
		return err
	}
	y.stopDemo = sync.OnceFunc(y.demo.Close)
	defer y.stopDemo()
	if y.database, err = cluster.RunningURL(dir); err != nil {
		return err
	}
	for _, name := range which {
		measure, ok := map[string]func(context.Context) error{
			"hit": y.hit, "miss": y.miss,
			"freshness": y.freshness, "content": y.content, "access": y.access, "read": y.reads,
			"invalidate": y.invalidate, "cache": y.cache, "abuse": y.abuse, "faults": y.faults, "posted": y.posted,
			"trace": y.trace, "automation": y.automation, "files": y.files, "origins": y.origins,
			"pages": y.pages, "storm": y.storm, "quick": y.quick, "import": y.imports, "publishes": y.publishes,
			"conversion": y.conversion,
		}[name]
		if !ok {
			return fmt.Errorf(
				"there is no measurement %q; there are hit, miss, freshness, content, access, read, invalidate, "+
					"cache, abuse, faults, automation, files, origins, pages, and posted and trace, which are parts of cache, "+
					"storm, of pages, import, publishes and conversion, of content, and quick, all that there are goals for",
				name,
			)
		}
		fmt.Printf("\n%s\n", name)
		if err := measure(ctx); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// reading is the list that hit and miss read: about 2 KB.
const reading = "/content/main/published/notices?fields=title,slug,severity,validUntil,about(path)&sort=title&limit=20"

func (y *harness) read(ctx context.Context) (*client.Answer, error) {
	c := &client.Client{Address: y.demo.Connection.Gateway, Key: y.demo.Connection.Keys.Published}
	a, err := c.Do(ctx, http.MethodGet, reading, nil, nil)
	if err == nil {
		err = a.Err()
	}
	return a, err
}

// saying is the bare handler: it writes an answer's status, bytes and headers, and looks at
// nothing.
func saying(a *client.Answer) http.Handler {
	a.Header.Del("Date")
	empty := a.Status == http.StatusNotModified || len(a.Body) == 0
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body) // so that the connection can be used again
		h := w.Header()
		for name, values := range a.Header {
			h[name] = values
		}
		w.WriteHeader(a.Status)
		if !empty {
			_, _ = w.Write(a.Body) // who asks may be gone
		}
	})
}

// beside serves a handler for comparison and returns its address.
func beside(h http.Handler) (address string, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	s := &http.Server{Handler: h}
	go s.Serve(l)
	return "http://" + l.Addr().String(), func() { s.Close() }, nil
}

var (
	perSecond = regexp.MustCompile(`Requests/sec:\s+([\d.]+)`)
	failures  = regexp.MustCompile(`Non-2xx.*|Socket errors.*`)
)

// load returns how many requests a second an address answers that are sent with
// the demo's key for reading.
func (y *harness) load(ctx context.Context, address string, headers ...string) (float64, error) {
	return y.loadBare(
		ctx,
		address,
		append([]string{"Authorization: Bearer " + y.demo.Connection.Keys.Published}, headers...)...)
}

// loadBare is load with these headers alone.
func (y *harness) loadBare(ctx context.Context, address string, headers ...string) (float64, error) {
	args := []string{"-t1", "-c16", fmt.Sprintf("-d%ds", y.seconds)}
	for _, h := range headers {
		args = append(args, "-H", h)
	}
	if y.script != "" {
		args = append(args, "-s", y.script)
	}
	out, err := exec.CommandContext(ctx, "wrk", append(args, address)...).Output()
	if err != nil {
		return 0, fmt.Errorf("wrk (apt-get install wrk): %w", err)
	}
	if bad := failures.Find(out); bad != nil {
		return 0, fmt.Errorf("%s: %s", address, bad)
	}
	found := perSecond.FindSubmatch(out)
	if found == nil {
		return 0, fmt.Errorf("wrk says %s", out)
	}
	return strconv.ParseFloat(string(found[1]), 64)
}

// compare measures two addresses, alternating, and prints the median of the
// rounds' ratios: what slows the machine down slows both sides of a round.
func (y *harness) compare(ctx context.Context, ours, reference string, headers ...string) error {
	if y.profile != "" {
		if err := y.profiled(ctx, "ours", ours, headers...); err != nil {
			return err
		}
		return y.profiled(ctx, "reference", reference, headers...)
	}
	var a, b, ratios, spentA, spentB, spent []float64
	for range y.rounds {
		x, timeA, err := y.spending(ctx, ours, headers...)
		if err != nil {
			return err
		}
		z, timeB, err := y.spending(ctx, reference, headers...)
		if err != nil {
			return err
		}
		a, b, ratios = append(a, x), append(b, z), append(ratios, x/z)
		spentA, spentB, spent = append(spentA, timeA), append(spentB, timeB), append(spent, timeB/timeA)
	}
	for _, l := range [][]float64{a, b, ratios, spentA, spentB, spent} {
		slices.Sort(l)
	}
	m, last := y.rounds/2, y.rounds-1
	fmt.Printf(
		"  ours %.0f/s, reference %.0f/s: ratio %.2f (%.2f to %.2f)\n", a[m], b[m], ratios[m], ratios[0],
		ratios[last],
	)
	fmt.Printf(
		"  processor time for a request: ours %.1f µs, reference %.1f µs: ratio %.2f (%.2f to %.2f)\n", spentA[m],
		spentB[m], spent[m], spent[0], spent[last],
	)
	if y.what != "" {
		y.note(y.what, spent[m])
	}
	return nil
}

// profiled writes a CPU profile of what it takes to answer a request again and again, and says how often it was.
func (y *harness) profiled(ctx context.Context, side, address string, headers ...string) error {
	f, err := os.Create(y.profile + "." + strings.ReplaceAll(cmp.Or(y.what, "miss"), " ", "-") + "." + side)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := pprof.StartCPUProfile(f); err != nil {
		return err
	}
	rate, spent, err := y.spending(ctx, address, headers...)
	pprof.StopCPUProfile()
	fmt.Printf("    %s: %.0f answers, %.1f µs of processor time each\n", f.Name(), rate*float64(y.seconds), spent)
	return err
}

// spending is load, and how many microseconds of processor time this process, in which
// both sides are served, takes for a request: whoever else uses the machine changes that
// less.
func (y *harness) spending(ctx context.Context, address string, headers ...string) (rate, micros float64, err error) {
	before := processorTime()
	rate, err = y.load(ctx, address, headers...)
	return rate, float64((processorTime() - before).Microseconds()) / (rate * float64(y.seconds)), err
}

func processorTime() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u) // cannot fail
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// hit compares a cached list with a bare handler that writes the same bytes
// and headers.
func (y *harness) hit(ctx context.Context) error {
	if _, err := y.read(ctx); err != nil {
		return err
	}
	a, err := y.read(ctx)
	if err != nil {
		return err
	}
	address, stop, err := beside(saying(a))
	if err != nil {
		return err
	}
	defer stop()
	fmt.Printf("  %d bytes, %s\n", len(a.Body), a.Header.Get("Cache-Status"))
	y.what = "hit, REST GET"
	defer func() { y.what = "" }()
	return y.compare(ctx, y.demo.Connection.Gateway+reading, address+reading)
}

// miss compares the same list, recomputed each time, with a handler that
// does it by hand.
func (y *harness) miss(ctx context.Context) error {
	hand, err := newByHand(ctx, y.database)
	if err != nil {
		return err
	}
	defer hand.pool.Close()
	address, stop, err := beside(hand)
	if err != nil {
		return err
	}
	defer stop()
	ours, err := y.read(ctx)
	if err != nil {
		return err
	}
	theirs, err := (&client.Client{Address: address}).Do(ctx, http.MethodGet, "/", nil, nil)
	if err != nil {
		return err
	}
	if !bytes.Equal(ours.Body, theirs.Body) {
		return fmt.Errorf("the two sides differ:\n%s\n%s", ours.Body, theirs.Body)
	}
	return y.compare(ctx, y.demo.Connection.Gateway+reading, address+reading, "Prefer: recompute")
}
