package main

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/demo"
	"ubiquon/internal/environment"
	"ubiquon/internal/server"
	"ubiquon/internal/store"
	"ubiquon/internal/store/db"
)

// access measures what it costs to find out who asks and what they may: its share
// of a hit, how soon a revoked key is refused everywhere, and what very many keys
// take.
func (y *harness) access(ctx context.Context) error {
	if err := y.check(ctx); err != nil {
		return err
	}
	if err := y.guesses(ctx); err != nil {
		return err
	}
	if err := y.revocation(ctx); err != nil {
		return err
	}
	return y.manyKeys(ctx)
}

// check holds the time of the check against that of a whole hit, and hits with a
// key against hits without one.
func (y *harness) check(ctx context.Context) error {
	g, secret := y.demo.Environment, y.demo.Connection.Keys.Published
	needs := []access.Need{{Verb: access.Read, Edition: content.Published, Type: "notice", Locale: "en"}}
	const times = 500_000
	once := func(do func()) time.Duration {
		begin := time.Now()
		for range times {
			do()
		}
		return time.Since(begin) / times
	}
	var all, hash []time.Duration
	for range y.rounds {
		hash = append(hash, once(func() { access.HashSecret(secret) }))
		all = append(all, once(func() {
			now := time.Now()
			reader, err := g.Keys.Authenticate(ctx, secret, "", now)
			if err != nil {
				panic(err)
			}
			reader.Meter.Due(now)
			reader.Meter.Admit(now)
			if _, missing := reader.Rights.Missing(needs); missing {
				panic("the demo's key may not read")
			}
			reader.Meter.Hit()
		}))
	}
	slices.Sort(all)
	slices.Sort(hash)
	half := all[len(all)/2]
	fmt.Printf(
		"  the check alone                                %v, of which SHA-256 of the key %v\n", half,
		hash[len(hash)/2],
	)
	admin := &client.Client{Address: y.demo.Connection.Gateway, Key: y.demo.Connection.Keys.Admin}
	if _, err := admin.Keys().ChangePublicGrants(ctx, []string{"read published notice"}, nil); err != nil {
		return err
	}
	defer admin.Keys().ChangePublicGrants(context.WithoutCancel(ctx), nil, []string{"read published notice"})
	if _, err := y.read(ctx); err != nil {
		return err
	}
	var ratios, rates []float64
	for range y.rounds {
		with, err := y.load(ctx, y.demo.Connection.Gateway+reading)
		if err != nil {
			return err
		}
		without, err := y.loadBare(ctx, y.demo.Connection.Gateway+reading)
		if err != nil {
			return err
		}
		ratios, rates = append(ratios, with/without), append(rates, with)
	}
	slices.Sort(ratios)
	slices.Sort(rates)
	rate := rates[len(rates)/2]
	// The load takes part of the cores too, so a request has less than this.
	perRequest := time.Duration(float64(runtime.NumCPU()) / rate * float64(time.Second))
	fmt.Printf(
		"  a hit with a key                               %.0f/s: %v of all cores for each; the check is %.1f %% "+
			"of it\n",
		rate, perRequest.Round(100*time.Nanosecond), 100*float64(half)/float64(perRequest),
	)
	fmt.Printf(
		"  hits with a key against hits without           %.3f (%.3f to %.3f)\n", ratios[len(ratios)/2], ratios[0],
		ratios[len(ratios)-1],
	)
	return nil
}

// guesses measures how a reader fares while somebody tries keys as fast as they
// can, beside how it fares while somebody reads as fast as they can.
func (y *harness) guesses(ctx context.Context) error {
	for _, beside := range []struct{ name, key string }{
		{"guesses", access.NewSecret()},
		{"hits", y.demo.Connection.Keys.Published},
	} {
		loading, stop := context.WithCancel(ctx)
		over := make(chan float64, 1)
		go func() {
			out, _ := exec.CommandContext(loading, "wrk", "-t1", "-c16", "-d4s", "-H", "Authorization: Bearer "+
				beside.key, y.demo.Connection.Gateway+reading).
				Output()
			rate := 0.0
			if found := perSecond.FindSubmatch(out); found != nil {
				rate, _ = strconv.ParseFloat(string(found[1]), 64)
			}
			over <- rate
		}()
		var spans []time.Duration
		for begin := time.Now(); time.Since(begin) < 3*time.Second; {
			one := time.Now()
			if _, err := y.read(ctx); err != nil {
				stop()
				return err
			}
			spans = append(spans, time.Since(one))
		}
		rate := <-over
		stop()
		slices.Sort(spans)
		fmt.Printf(
			"  a reader beside %.0f %s a second%*s p50 %v, p99 %v\n", rate, beside.name,
			22-len(fmt.Sprintf("%.0f", rate))-len(beside.name), "", spans[len(spans)/2].Round(10*time.Microsecond),
			spans[len(spans)*99/100].Round(10*time.Microsecond),
		)
	}
	return nil
}

// revocation revokes keys on one of three nodes, and waits until all refuse them.
func (y *harness) revocation(ctx context.Context) error {
	const keys = 40
	var nodes []*client.Client
	var first *environment.Environment
	for range 3 {
		g, stop, err := y.node(ctx, "bench-revocation")
		if err != nil {
			return err
		}
		defer stop()
		web := httptest.NewServer(server.New(server.Options{Environment: g}))
		defer web.Close()
		nodes = append(nodes, &client.Client{Address: web.URL})
		if first == nil {
			first = g
		}
	}
	ask := func(c *client.Client, secret string) (int, error) {
		one := *c
		one.Key = secret
		a, err := one.Do(ctx, http.MethodGet, "/content/bench-revocation/published/piers?fields=name", nil, nil)
		if err != nil {
			return 0, err
		}
		return a.Status, nil
	}
	var spans []time.Duration
	for i := range keys {
		k, secret, err := first.Keys.CreateKey(
			ctx,
			access.Key{
				Name:   fmt.Sprintf("bench %d", i),
				Grants: access.Grants{{Verb: access.Read, Edition: content.Published, Type: access.Any}},
			},
			"bench",
		)
		if err != nil {
			return err
		}
		for _, n := range nodes {
			if err := until(ctx, func() (bool, error) {
				status, err := ask(n, secret)
				return status == 200, err
			}); err != nil {
				return err
			}
		}
		begin := time.Now()
		if _, err := first.Keys.RevokeKey(ctx, k.ID, "bench"); err != nil {
			return err
		}
		for _, n := range nodes {
			for {
				status, err := ask(n, secret)
				if err != nil {
					return err
				}
				if status != 200 {
					break
				}
			}
		}
		spans = append(spans, time.Since(begin))
	}
	slices.Sort(spans)
	fmt.Printf(
		"  revoke → refused on the last of three nodes    p50 %v, p95 %v, worst %v, over %d (the lease is 2 s)\n",
		spans[keys/2].Round(100*time.Microsecond), spans[keys*95/100].Round(100*time.Microsecond),
		spans[keys-1].Round(100*time.Microsecond), keys,
	)
	return nil
}

// node opens a gateway of its own on the demo's database.
func (y *harness) node(ctx context.Context, name string) (*environment.Environment, func(), error) {
	m, err := demo.Model()
	if err != nil {
		return nil, nil, err
	}
	s, err := store.Open(ctx, name, db.Options{URL: y.database, MaxConns: 4})
	if err != nil {
		return nil, nil, err
	}
	g, err := environment.Open(ctx, environment.Options{Store: s, Model: m})
	if err == nil {
		err = g.Start(ctx)
	}
	if err != nil {
		s.DB.Close()
		return nil, nil, err
	}
	return g, func() { g.Close(); s.DB.Close() }, nil
}

// manyKeys measures what a node holds of very many keys, and how long it takes to
// load them.
func (y *harness) manyKeys(ctx context.Context) error {
	const keys = 100_000
	_, stop, err := y.node(ctx, "bench-keys")
	if err != nil {
		return err
	}
	stop()
	conn, err := pgx.Connect(ctx, y.database)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	grants := []string{
		`[{"verb":"read","edition":"published","type":"*"}]`,
		`[{"verb":"read","edition":"published","type":"notice"},{"verb":"read","edition":"published","type":"route"}]`,
		`[{"verb":"read","edition":"preview","type":"*","locales":["nb"]}]`,
	}
	if _, err := conn.CopyFrom(ctx, pgx.Identifier{"access_key"}, []string{
		"environment", "id", "name", "hash",
		"grants", "by", "expires",
	}, pgx.CopyFromSlice(keys, func(i int) ([]any, error) {
		hash := sha256.Sum256(binary.BigEndian.AppendUint64(nil, uint64(i)))
		return []any{
			"bench-keys", fmt.Sprintf("key%07d", i), fmt.Sprintf("display at pier %d", i), hash[:],
			grants[i%len(grants)], "bench", time.Now().AddDate(1, 0, 0),
		}, nil
	})); err != nil {
		return err
	}
	held := func() uint64 {
		runtime.GC()
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	empty, stop, err := y.node(ctx, "bench-empty")
	if err != nil {
		return err
	}
	before := held()
	stop()
	runtime.KeepAlive(empty)
	begin := time.Now()
	full, stop, err := y.node(ctx, "bench-keys")
	if err != nil {
		return err
	}
	took := time.Since(begin)
	after := held()
	fmt.Printf(
		"  100,000 keys                                   %d bytes each; a node that has them starts in %v\n",
		(after-min(before, after))/keys, took.Round(time.Millisecond),
	)
	runtime.KeepAlive(full)
	stop()
	return nil
}
