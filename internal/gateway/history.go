package gateway

import (
	"context"
	"slices"
	"sync"
	"time"

	"ubiquon/internal/cache"
)

// Sample is how the cache did at a moment.
type Sample struct {
	At      time.Time `json:"at"`
	Hits    int64     `json:"hits"` // since the sample before
	Misses  int64     `json:"misses"`
	Expired int64     `json:"expired"`
	Held    int       `json:"held"`
	Bytes   uint64    `json:"bytes"`
}

const (
	sampleEvery = 10 * time.Second
	maxSamples  = 360 // an hour
)

type samples struct {
	mu   sync.Mutex
	all  []Sample
	last cache.Stats
}

// sampling notes how the cache does.
func (g *Gateway) sampling(ctx context.Context) {
	for ok := true; ok; ok = sleep(ctx, sampleEvery, nil) {
		g.sample()
	}
}

func (g *Gateway) sample() {
	now := g.cache.Stats()
	g.samples.mu.Lock()
	defer g.samples.mu.Unlock()
	was := g.samples.last
	g.samples.last = now
	g.samples.all = append(g.samples.all, Sample{time.Now(), now.Hits - was.Hits, now.Misses - was.Misses + now.Joined - was.Joined, now.Expired - was.Expired, now.Responses, now.Bytes})
	if over := len(g.samples.all) - maxSamples; over > 0 {
		g.samples.all = slices.Clone(g.samples.all[over:])
	}
}

// CacheHistory is how the cache did in the last hour, in steps of ten seconds; the
// last one is up to now.
func (g *Gateway) CacheHistory() []Sample {
	g.samples.mu.Lock()
	defer g.samples.mu.Unlock()
	return slices.Clone(g.samples.all)
}
