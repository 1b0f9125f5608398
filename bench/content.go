package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/service"
	"ubiquon/internal/store/cluster"
)

// The content measurement has an environment of its own: a model with
// translations and references, and as many notices as are asked for.
const contentModel = `
locales: {en: {}, nb: {fallback: [en]}, de: {fallback: [en]}, ja: {}}
types:
  route:
    path: /routes/{slug}
    fields: {name: {kind: text, translated: true, required: true}, slug: {kind: slug, madeFrom: name}, number: {kind: integer}}
  notice:
    path: /notices/{slug}
    fields:
      title:      {kind: text, translated: true, required: true, max: 120}
      slug:       {kind: slug, madeFrom: title}
      severity:   {kind: choice, options: {information: Information, delay: Delay}}
      text:       {kind: prose, translated: true}
      routes:     {kind: reference, types: [route], several: true, inverse: notices}
      validUntil: {kind: datetime}
`

// contentLine writes a line of the import.
func contentLine(w io.Writer, i int) error {
	if i < 100 {
		_, err := fmt.Fprintf(
			w,
			`{"id":"route-%d","type":"route","fields":{"name":{"en":"Route %d","nb":"Rute %d"},"number":%d},"published":"2026-01-01T08:00:00Z"}`+"\n",
			i, i, i, i%99+1,
		)
		return err
	}
	_, err := fmt.Fprintf(
		w,
		`{"id":"notice-%d","type":"notice","fields":{"title":{"en":"Notice %d of the line","nb":"Varsel %d fra linja"},"severity":"%s","text":{"en":"The boat of %d is **late**. Use the *stairs on the left*; the crew will help with prams, bicycles and bread."},"routes":["route-%d","route-%d"],"validUntil":"2027-01-01T00:00:00Z"},"published":"2026-02-01T08:00:00Z"}`+"\n",
		i, i, i, []string{"information", "delay"}[i%2], i, i%100, (i*7)%100,
	)
	return err
}

// aService is a service of a measurement's own.
type aService struct {
	client   *client.Client // may do everything
	database string
}

// ownService starts a service with a model of its own.
func ownService(ctx context.Context, text string) (own aService, stop func(), err error) {
	dir, err := os.MkdirTemp("/tmp", "ubiquon-bench-")
	if err != nil {
		return own, nil, err
	}
	var s *service.Service
	stop = func() {
		if s != nil {
			s.Close()
		}
		os.RemoveAll(dir)
	}
	defer func() {
		if err != nil {
			stop()
		}
	}()
	if err := os.Chmod(dir, 0o755); err != nil {
		return own, nil, err
	}
	m, err := readModel(text)
	if err != nil {
		return own, nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return own, nil, err
	}
	if s, err = service.Open(ctx, service.Options{
		Data: dir, Environment: "main", Listener: l, Model: m, Outbound: reachable,
	}); err != nil {
		return own, nil, err
	}
	if err := s.Start(ctx); err != nil {
		return own, nil, err
	}
	key, err := s.FirstKey(ctx)
	if err != nil {
		return own, nil, err
	}
	own.client = &client.Client{Address: s.Address, Key: key}
	own.database, err = cluster.RunningURL(dir)
	return own, stop, err
}

// content measures writing: import, publishing, and a model change.
func (y *harness) content(ctx context.Context) error {
	return y.withContent(ctx, (*contentHarness).againstCopy, (*contentHarness).roundTrips,
		(*contentHarness).oneByOne, (*contentHarness).eightAtOnce,
		func(c *contentHarness, ctx context.Context) error { return c.besideSnapshot(ctx, 40*time.Second) },
		(*contentHarness).convert)
}

// imports measures the import alone.
func (y *harness) imports(ctx context.Context) error {
	return y.withContent(ctx, (*contentHarness).againstCopy)
}

// conversion measures a model change alone.
func (y *harness) conversion(ctx context.Context) error {
	return y.withContent(ctx, (*contentHarness).convert)
}

// publishes measures publishes from eight writers alone.
func (y *harness) publishes(ctx context.Context) error {
	return y.withContent(ctx, (*contentHarness).eightAtOnce)
}

// withContent imports entries into a service of its own, and measures there.
func (y *harness) withContent(ctx context.Context, all ...func(*contentHarness, context.Context) error) error {
	own, stop, err := ownService(ctx, contentModel)
	if err != nil {
		return err
	}
	defer stop()
	c := contentHarness{y: y, c: own.client, url: own.database}
	if err := c.load(ctx); err != nil {
		return err
	}
	for _, f := range all {
		if err := f(&c, ctx); err != nil {
			return err
		}
	}
	return nil
}

type contentHarness struct {
	y   *harness
	c   *client.Client
	url string
	n   int // rising, so that every title differs
	// spans are how long publishes took that rate has made.
	spans []time.Duration
}

// load imports the entries through the service, as the command line does.
func (c *contentHarness) load(ctx context.Context) error {
	in, out := io.Pipe()
	go func() {
		var err error
		for i := 0; i < c.y.entries && err == nil; i++ {
			err = contentLine(out, i)
		}
		out.CloseWithError(err)
	}()
	begin := time.Now()
	var last api.ImportProgress
	peak := int64(0)
	if err := c.c.Entries().Import(ctx, in, api.ImportOptions{}, func(p api.ImportProgress) {
		last = p
		peak = max(peak, resident())
	}); err != nil {
		return err
	}
	took := time.Since(begin)
	fmt.Printf(
		"  import of %d entries: %s, %.0f/s, %d bad; this process, service and load together, holds %d MB at "+
			"most, %d MB after\n",
		last.Written, took.Round(100*time.Millisecond), float64(last.Written)/took.Seconds(), last.Bad, peak>>20,
		resident()>>20,
	)
	c.y.note("import, entries a second", float64(last.Written)/took.Seconds())
	return nil
}

// resident is how much memory this process holds, in bytes.
func resident() int64 { return residentOf("self") }

// residentOf is how much memory a process holds, in bytes; 0 if there is none.
func residentOf(pid string) int64 {
	src, err := os.ReadFile("/proc/" + pid + "/statm")
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(src))
	pages, _ := strconv.ParseInt(fields[1], 10, 64) // the kernel's own
	return pages * int64(os.Getpagesize())
}

// publish saves and publishes one notice again.
func (c *contentHarness) publish(ctx context.Context, i, n int) error {
	_, err := c.c.Entries().Edit(
		ctx,
		api.Edit{ID: fmt.Sprintf("notice-%d", i), Type: "notice", Do: "publish", Save: map[string]any{
			"title": map[string]any{
				"en": fmt.Sprintf("Notice %d, word %d", i, n),
				"nb": fmt.Sprintf("Varsel %d", i),
			}, "slug": fmt.Sprintf("notice-%d", i), "severity": "delay",
			"text": map[string]any{"en": "The boat is **late**."}, "routes": []any{fmt.Sprintf("route-%d", i%100)},
		}},
	)
	return err
}

// roundTrips counts what one publish sends to PostgreSQL, on a store of its own.
func (c *contentHarness) roundTrips(ctx context.Context) error {
	trips, statements, err := countPublish(ctx, c.url)
	fmt.Printf("  one publish: %d statements in %d round trips\n", statements, trips)
	return err
}

func (c *contentHarness) oneByOne(ctx context.Context) error {
	var spans []time.Duration
	for i := range 300 {
		c.n++
		begin := time.Now()
		if err := c.publish(ctx, 100+i%50, c.n); err != nil {
			return err
		}
		spans = append(spans, time.Since(begin))
	}
	slices.Sort(spans)
	fmt.Printf(
		"  publishes, one after another: p50 %s, p95 %s (through HTTP, until this node serves nothing older)\n",
		spans[len(spans)/2].Round(10*time.Microsecond), spans[len(spans)*95/100].Round(10*time.Microsecond),
	)
	return nil
}

// rate is how many publishes a second eight writers get through.
func (c *contentHarness) rate(ctx context.Context) (float64, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Duration(c.y.seconds)*time.Second)
	defer cancel()
	var wg sync.WaitGroup
	var mu sync.Mutex
	var failed error
	done := 0
	begin := time.Now()
	for w := range 8 {
		wg.Go(func() {
			for i := 0; ctx.Err() == nil; i++ {
				sent := time.Now()
				err := c.publish(context.WithoutCancel(ctx), 200+w*100+i%100, i+int(sent.UnixNano()))
				mu.Lock()
				if err == nil {
					done++
					c.spans = append(c.spans, time.Since(sent))
				} else {
					failed = err
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	return float64(done) / time.Since(begin).Seconds(), failed
}

func (c *contentHarness) eightAtOnce(ctx context.Context) error {
	var rates []float64
	c.spans = nil
	for range c.y.rounds {
		r, err := c.rate(ctx)
		if err != nil {
			return err
		}
		rates = append(rates, r)
	}
	slices.Sort(rates)
	slices.Sort(c.spans)
	slowest := c.spans[len(c.spans)*99/100]
	fmt.Printf(
		"  publishes from eight writers at once: %.0f/s (%.0f to %.0f), p99 %s\n", rates[len(rates)/2], rates[0],
		rates[len(rates)-1], slowest.Round(100*time.Microsecond),
	)
	c.y.note("publishes from eight writers a second", rates[len(rates)/2])
	c.y.note("publish, the slowest of a hundred, ms", slowest.Seconds()*1000)
	return nil
}

// besideSnapshot publishes while another reader holds a snapshot open for a span,
// and compares with as long without one, before and after.
func (c *contentHarness) besideSnapshot(ctx context.Context, span time.Duration) error {
	free, err := c.rates(ctx, span/2)
	if err != nil {
		return err
	}
	conn, err := pgx.Connect(ctx, c.url)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, `begin isolation level repeatable read read only`); err != nil {
		return err
	}
	var n int
	if err := conn.QueryRow(ctx, `select count(*) from environment`).Scan(&n); err != nil {
		return err
	}
	held, err := c.rates(ctx, span)
	if err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, `commit`); err != nil {
		return err
	}
	after, err := c.rates(ctx, span/2)
	if err != nil {
		return err
	}
	// Towards its end is when the most versions stand in the way.
	late := held[len(held)/2:]
	without, with := median(append(free, after...)), median(late)
	fmt.Printf(
		"  beside a snapshot held open for %s: %.0f/s without, %.0f/s in its second half (%.0f to %.0f): ratio "+
			"%.2f\n",
		span, without, with, slices.Min(late), slices.Max(late), with/without,
	)
	c.y.note("publishes beside a snapshot", with/without)
	return nil
}

// rates measures one rate after another for a span.
func (c *contentHarness) rates(ctx context.Context, span time.Duration) ([]float64, error) {
	var out []float64
	for begin := time.Now(); time.Since(begin) < span; {
		r, err := c.rate(ctx)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

func median(all []float64) float64 {
	all = slices.Clone(all)
	slices.Sort(all)
	return all[len(all)/2]
}

// convert applies a model that converts every notice: a field is renamed, and
// one becomes a list.
func (c *contentHarness) convert(ctx context.Context) error {
	changed := strings.NewReplacer("severity:   {kind: choice,", "weight:   {was: severity, kind: choice, "+
		"several: true,").
		Replace(contentModel)
	begin := time.Now()
	total := 0
	err := c.c.Models().Apply(
		ctx, map[string]string{"model.yaml": changed}, false, 0, func(p api.ConversionProgress) { total = p.Total },
	)
	took := time.Since(begin)
	fmt.Printf(
		"  a model change that converts %d entries: %s, %.0f/s; %d MB held after\n", total,
		took.Round(100*time.Millisecond), float64(total)/took.Seconds(), resident()>>20,
	)
	c.y.note("model change, entries a second", float64(total)/took.Seconds())
	return err
}
