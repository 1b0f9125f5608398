package delivery

import (
	"context"
	"slices"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
)

const (
	sampleEvery = 10 * time.Second
	maxSamples  = 360 // an hour
)

type samples struct {
	mu   sync.Mutex
	all  []api.CacheSample
	last api.CacheStats
}

// sampling notes how the cache does.
func (d *Service) sampling(ctx context.Context) {
	for ok := true; ok; ok = background.Sleep(ctx, sampleEvery, nil) {
		d.sample()
	}
}

func (d *Service) sample() {
	now := d.cache.Stats()
	d.samples.mu.Lock()
	defer d.samples.mu.Unlock()
	was := d.samples.last
	d.samples.last = now
	d.samples.all = append(
		d.samples.all,
		api.CacheSample{
			At:      time.Now(),
			Hits:    now.Hits - was.Hits,
			Misses:  now.Misses - was.Misses + now.Joined - was.Joined,
			Expired: now.Expired - was.Expired,
			Held:    now.Responses,
			Bytes:   now.Bytes,
		},
	)
	if over := len(d.samples.all) - maxSamples; over > 0 {
		d.samples.all = slices.Clone(d.samples.all[over:])
	}
}

// CacheHistory is how the cache did in the last hour, in steps of ten seconds; the
// last one is up to now.
func (d *Service) CacheHistory() []api.CacheSample {
	d.samples.mu.Lock()
	defer d.samples.mu.Unlock()
	return slices.Clone(d.samples.all)
}
