package delivery

import (
	"context"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
)

// sampleEvery is how often a node adds what it did to the history.
const sampleEvery = 10 * time.Second

// samples is what the history has of this node.
type samples struct {
	mu   sync.Mutex
	last api.CacheStats
}

// sampling records how the cache and the reads do, until the context ends. What a sample
// that could not be stored counted is part of the next one.
func (d *Service) sampling(ctx context.Context) {
	for background.Sleep(ctx, sampleEvery, nil) {
		if err := d.sample(ctx); err != nil && ctx.Err() == nil {
			d.log.Debug("a sample of the history is not stored", "error", err)
		}
	}
}

// sample stores what happened since the sample before; where nothing did, nothing is written.
func (d *Service) sample(ctx context.Context) error {
	d.samples.mu.Lock()
	defer d.samples.mu.Unlock()
	now, was := d.cache.Stats(), d.samples.last
	s := api.CacheSample{
		Hits:    now.Hits - was.Hits,
		Misses:  now.Misses - was.Misses + now.Joined - was.Joined,
		Expired: now.Expired - was.Expired,
		Held:    now.Responses,
		Bytes:   now.Bytes,
	}
	if s.Hits+s.Misses+s.Expired == 0 {
		return nil
	}
	p50, p99, n := d.Reading.Quantiles()
	if n > 0 {
		s.P50, s.P99 = p50.Seconds()*1000, p99.Seconds()*1000
	}
	if err := d.store.Changes.AddSample(ctx, d.replica.Node.ID, s); err != nil {
		return err
	}
	d.samples.last = now
	return nil
}

// spans are what the history is shown over, and in which steps.
var spans = map[string]struct{ all, step time.Duration }{
	"hour": {time.Hour, time.Minute},
	"day":  {24 * time.Hour, 10 * time.Minute},
	"week": {7 * 24 * time.Hour, time.Hour},
}

// CacheHistory returns what all nodes did over the last hour, day or week. What this node did
// up to now is part of it.
func (d *Service) CacheHistory(ctx context.Context, span string) ([]api.CacheSample, error) {
	of, ok := spans[span]
	if !ok {
		return nil, api.BadParameter("span", "%q is no span of the history; take hour, day or week", span)
	}
	if err := d.sample(ctx); err != nil {
		return nil, err
	}
	return d.store.Changes.Samples(ctx, of.all, of.step)
}
