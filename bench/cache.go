package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ubiquon/internal/client"
	"ubiquon/internal/core/content"
	"ubiquon/internal/environment"
	"ubiquon/internal/store/writing"
)

// cache measures hits, a stampede, how soon a publish is known on another node, and
// what exact expiry is worth against two that are not.
func (y *harness) cache(ctx context.Context) error {
	if err := y.hit(ctx); err != nil {
		return err
	}
	if err := y.posted(ctx); err != nil {
		return err
	}
	if err := y.stampede(ctx); err != nil {
		return err
	}
	if err := y.known(ctx); err != nil {
		return err
	}
	return y.trace(ctx)
}

// graphQLReading is the body of what posted sends: the list of reading.
const graphQLReading = `{"query":"{notices(first:20,sort:[\"title\"]){nodes{title slug severity validUntil ` +
	`about{path}}}}"}`

// posted is hit for a GraphQL request with POST, and what the slowest of a hundred
// takes, both ways, when as many come as would on a busy day.
func (y *harness) posted(ctx context.Context) error {
	const at = "/content/main/published/graphql"
	key := y.demo.Connection.Keys.Published
	c := &client.Client{Address: y.demo.Connection.Gateway, Key: key}
	var a *client.Answer
	var err error
	for range 2 {
		if a, err = c.Do(ctx, http.MethodPost, at, nil, json.RawMessage(graphQLReading)); err == nil {
			err = a.Err()
		}
		if err != nil {
			return err
		}
	}
	bare, stop, err := beside(saying(a))
	if err != nil {
		return err
	}
	defer stop()
	script, err := os.CreateTemp("", "bench-*.lua")
	if err != nil {
		return err
	}
	defer os.Remove(script.Name())
	fmt.Fprintf(
		script, "wrk.method = 'POST'\nwrk.body = [==[%s]==]\nwrk.headers['Content-Type'] = 'application/json'\n",
		graphQLReading,
	)
	script.Close()
	y.script = script.Name()
	fmt.Printf("  GraphQL with POST, %d bytes, %s\n", len(a.Body), a.Header.Get("Cache-Status"))
	y.what = "hit, GraphQL POST"
	err = y.compare(ctx, y.demo.Connection.Gateway+at, bare+at)
	if y.script, y.what = "", ""; err != nil {
		return err
	}
	var ours, theirs []time.Duration
	for range y.rounds {
		for _, side := range []struct {
			address string
			into    *[]time.Duration
		}{{y.demo.Connection.Gateway, &ours}, {bare, &theirs}} {
			p99, err := y.paced(ctx, side.address+at, key)
			if err != nil {
				return err
			}
			*side.into = append(*side.into, p99)
		}
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	m := y.rounds / 2
	fmt.Printf(
		"  at %d requests a second: p99 ours %v, reference %v: ratio %.2f\n", pace, ours[m].Round(time.Microsecond),
		theirs[m].Round(time.Microsecond), float64(ours[m])/float64(theirs[m]),
	)
	return nil
}

// pace is how many requests a second paced makes.
const pace = 2000

// paced sends requests at an even pace, whether the ones before are answered or not,
// and returns the time that 99 of 100 took at most, from when each was due.
func (y *harness) paced(ctx context.Context, address, key string) (time.Duration, error) {
	web := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	defer web.CloseIdleConnections()
	n := pace * y.seconds
	took := make([]time.Duration, n)
	var failed atomic.Int64
	var next atomic.Int64
	begin := time.Now()
	var all sync.WaitGroup
	for range 16 {
		all.Go(func() {
			for i := next.Add(1) - 1; int(i) < n; i = next.Add(1) - 1 {
				due := begin.Add(time.Duration(i) * time.Second / pace)
				time.Sleep(time.Until(due))
				req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(graphQLReading))
				if err != nil {
					failed.Add(1)
					continue
				}
				req.Header.Set("Authorization", "Bearer "+key)
				req.Header.Set("Content-Type", "application/json")
				resp, err := web.Do(req)
				if err != nil || resp.StatusCode != 200 {
					failed.Add(1)
					continue
				}
				_, _ = io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
				took[i] = time.Since(due)
			}
		})
	}
	all.Wait()
	if n := failed.Load(); n > 0 {
		return 0, fmt.Errorf("%d requests of %s failed", n, address)
	}
	slices.Sort(took)
	return took[n*99/100], nil
}

func (y *harness) stampede(ctx context.Context) error {
	reader := &client.Client{Address: y.demo.Connection.Gateway, Key: y.demo.Connection.Keys.Published}
	before := y.demo.Environment.Delivery.CacheStats()
	var wg sync.WaitGroup
	for range 1000 {
		wg.Go(func() {
			_, _ = reader.Do(
				ctx, http.MethodGet,
				"/content/main/published/routes?fields=name,number,piers(name,location)&sort=-number", nil, nil,
			)
		})
	}
	wg.Wait()
	after := y.demo.Environment.Delivery.CacheStats()
	fmt.Printf("  a thousand readers of what nobody has           %d computations\n", after.Misses-before.Misses)
	return nil
}

// known measures from a publish on one of three nodes until another one cannot give
// an older answer.
func (y *harness) known(ctx context.Context) error {
	var nodes []*environment.Environment
	for range 3 {
		g, stop, err := y.node(ctx, "bench-known")
		if err != nil {
			return err
		}
		defer stop()
		nodes = append(nodes, g)
	}
	var spans []time.Duration
	for i := range 300 {
		begin := time.Now()
		done, err := nodes[0].Authoring.Apply(
			ctx,
			[]writing.Edit{
				{
					ID:     "p1",
					Type:   "pier",
					Origin: content.Local,
					Save:   content.Fields{"name": fmt.Sprint("Mella ", i)},
					Live:   writing.PublishNewest,
				},
			},
			"bench",
			content.Cause{Kind: "user"},
		)
		if err != nil {
			return err
		}
		for nodes[2].Replica.Applied() < done.Sequence {
			time.Sleep(50 * time.Microsecond)
		}
		spans = append(spans, time.Since(begin))
	}
	slices.Sort(spans)
	fmt.Printf(
		"  publish on one node → expired on another        p50 %v, p99 %v\n",
		spans[len(spans)/2].Round(10*time.Microsecond), spans[len(spans)*99/100].Round(10*time.Microsecond),
	)
	return nil
}
