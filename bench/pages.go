package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/rebuild"
)

// display is a site that renders at once what it is told is stale, and shows its visitors what it has
// rendered.
type display struct {
	mu       sync.Mutex
	told     map[string]time.Time
	sequence int64
}

func (d *display) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodGet {
		d.mu.Lock()
		defer d.mu.Unlock()
		w.Header().Set("Ubiquon-Sequence", strconv.FormatInt(d.sequence, 10))
		return
	}
	var event struct {
		Data struct {
			Sequence int64
			Pages    []struct{ Path string }
		}
	}
	_ = json.NewDecoder(r.Body).Decode(&event) // nothing else calls here
	done := []string{}
	d.mu.Lock()
	d.sequence = max(d.sequence, event.Data.Sequence)
	for _, p := range event.Data.Pages {
		d.told[p.Path] = time.Now()
		done = append(done, p.Path)
	}
	d.mu.Unlock()
	_ = json.NewEncoder(w).Encode(map[string]any{"done": done})
}

// pages measures what it costs to know which page shows what, and how soon a site is told.
func (y *harness) pages(ctx context.Context) error {
	if err := y.registering(ctx); err != nil {
		return err
	}
	for _, n := range []int{300, 10_000, 100_000} {
		if n > 10_000 && n > y.entries {
			continue
		}
		if err := y.refreshing(ctx, n); err != nil {
			return err
		}
	}
	return y.storm(ctx)
}

// registering compares hits that say for which page they are with hits that do not.
func (y *harness) registering(ctx context.Context) error {
	address := y.demo.Connection.Gateway + reading
	key := "Authorization: Bearer " + y.demo.Connection.Keys.Site
	var rates, costs []float64
	for range y.rounds {
		var rate, micros [2]float64
		for i, headers := range [][]string{{key}, {key, `Ubiquon-Page: "/bench"; render="1"`}} {
			before := processorTime()
			r, err := y.loadBare(ctx, address, headers...)
			if err != nil {
				return err
			}
			rate[i] = r
			micros[i] = float64((processorTime() - before).Microseconds()) / (r * float64(y.seconds))
		}
		rates, costs = append(rates, rate[1]/rate[0]), append(costs, micros[0]/micros[1])
	}
	slices.Sort(rates)
	slices.Sort(costs)
	m := y.rounds / 2
	fmt.Printf(
		"  a hit with registration against one without: %.2f by rate, %.2f by processor time\n",
		rates[m],
		costs[m],
	)
	return nil
}

// refreshing has a site of so many pages, and publishes what 1, 10 and 300 of them show.
func (y *harness) refreshing(ctx context.Context, n int) error {
	own, stop, err := ownService(ctx, automationModel)
	if err != nil {
		return err
	}
	defer stop()
	d := &display{told: map[string]time.Time{}}
	address, end, err := beside(d)
	if err != nil {
		return err
	}
	defer end()
	if err := put(ctx, own.client, "site", "display", rebuild.Site{
		Address: address, Refresh: &rebuild.Refresh{Call: address}, Live: &rebuild.Live{Probe: "pages"},
	}); err != nil {
		return err
	}
	_, secret, err := own.client.Keys().Create(ctx, api.NewKey{
		Name: "display", Site: "display", Grants: []string{"read published *"},
	})
	if err != nil {
		return err
	}
	for i := range 3 {
		if _, err := own.client.Entries().Edit(ctx, numbered(i)); err != nil {
			return err
		}
	}
	before := heap()
	if err := register(ctx, &client.Client{Address: own.client.Address, Key: secret}, n); err != nil {
		return err
	}
	var l api.PageLedger
	begin := time.Now()
	for l.Pages < n || l.Unjudged > 0 {
		found, err := own.client.Builds().Pages(ctx, api.PageFilter{Site: "display", Limit: 1})
		if err != nil {
			return err
		}
		l = found.Ledger
	}
	fmt.Printf(
		"  %d pages, %d requests: %.1f KB of memory a page, with the answers that are held; known %v after the last read\n",
		l.Pages,
		l.Reads,
		float64(heap()-before)/1024/float64(n),
		time.Since(begin).Round(time.Millisecond),
	)
	for i, shown := range []int{1, 10, 300} {
		var took []time.Duration
		for round := range 20 {
			e := numbered(200*(round+1) + i)
			begin := time.Now()
			if _, err := own.client.Entries().Edit(ctx, e); err != nil {
				return err
			}
			var last time.Time
			if err := until(ctx, func() (bool, error) {
				d.mu.Lock()
				defer d.mu.Unlock()
				n := 0
				for _, at := range d.told {
					if at.After(begin) {
						n++
						last = later(last, at)
					}
				}
				return n >= shown, nil
			}); err != nil {
				return fmt.Errorf("%d pages are not told of: %w", shown, err)
			}
			took = append(took, last.Sub(begin))
		}
		p50, p99 := spread(took)
		fmt.Printf("    shown on %d: from the publish to the last page told and rendered: p50 %v, worst %v\n", shown,
			p50.Round(time.Millisecond), p99.Round(time.Millisecond))
	}
	return until(ctx, func() (bool, error) {
		sites, err := own.client.Settings().Sites(ctx)
		if err != nil || sites[0].Liveness.Waiting > 0 {
			return false, err
		}
		l := sites[0].Liveness
		fmt.Printf(
			"    until visitors got it, of %d pages looked at: p50 %.0f ms, p95 %.0f ms, worst %.0f ms\n",
			l.Pages,
			l.P50,
			l.P95,
			l.Worst,
		)
		return true, nil
	})
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

func heap() int64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// register has every page read: what it alone shows, what ten show, what 300 show.
func register(ctx context.Context, c *client.Client, n int) error {
	var wg sync.WaitGroup
	errs := make(chan error, 8)
	for worker := range 8 {
		wg.Go(func() {
			for i := worker; i < n; i += 8 {
				reads := []string{
					"/notices?fields=title&filter=" + url.QueryEscape(fmt.Sprintf("number = %d", 1_000_000+i)),
				}
				for e, shown := range []int{1, 10, 300} {
					if i < shown {
						reads = append(reads, fmt.Sprintf("/entries/n%d?fields=title", e))
					}
				}
				for _, r := range reads {
					h := http.Header{"Ubiquon-Page": {fmt.Sprintf("\"/page/%d\"; render=\"1\"", i)}}
					a, err := c.Do(ctx, http.MethodGet, "/content/main/published"+r, h, nil)
					if err == nil {
						err = a.Err()
					}
					if err != nil {
						errs <- err
						return
					}
				}
			}
		})
	}
	wg.Wait()
	close(errs)
	return <-errs
}
