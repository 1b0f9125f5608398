package delivery

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/content"
)

// maxWarmed bounds how many requests are computed at once.
const maxWarmed = 10_000

// ExpandPaths returns the requests with each that has {path} in it, and perhaps
// {locale}, made for every path of the site at which something published lives.
func (d *Service) ExpandPaths(ctx context.Context, requests []string) ([]string, error) {
	places, err := d.store.Requests.Places(ctx, maxWarmed+1) // one too many is refused
	if err != nil {
		return nil, err
	}
	var out []string
	for _, r := range requests {
		if !strings.Contains(r, "{path}") {
			out = append(out, r)
			continue
		}
		for _, p := range places {
			out = append(
				out,
				strings.NewReplacer("{path}", url.QueryEscape(p.Path), "{locale}", url.QueryEscape(p.Locale)).
					Replace(r),
			)
		}
	}
	return out, nil
}

// WarmAll computes answers before anybody asks: of the requests given, as they stand
// behind the service's address, and of the hottest so many that are remembered.
func (d *Service) WarmAll(ctx context.Context, requests []string, hottest int) ([]api.Warmed, error) {
	if hottest > 0 {
		remembered, err := d.store.Requests.HottestRequests(ctx, min(hottest, maxWarmed))
		if err != nil {
			return nil, err
		}
		requests = append(requests, remembered...)
	}
	if len(requests) > maxWarmed {
		return nil, &BadWarmError{
			fmt.Sprintf("%d requests are to be computed, at most %d at once", len(requests), maxWarmed),
		}
	}
	out := make([]api.Warmed, len(requests))
	var wg sync.WaitGroup
	slots := make(chan struct{}, 4)
	for i, text := range requests {
		out[i].Request = DisplayText(text)
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			if _, err := d.Warm(ctx, text); err != nil {
				out[i].Error = err.Error()
			}
		})
	}
	wg.Wait()
	return out, ctx.Err()
}

// BadWarmError is the error of asking for what cannot be computed ahead.
type BadWarmError struct{ Detail string }

// Error implements error.
func (e *BadWarmError) Error() string { return e.Detail }

const (
	// rememberEvery is how often the hottest requests are written down.
	rememberEvery = 30 * time.Second
	// hottest is how many are, and are computed when a node starts.
	hottest = 200
)

// rememberPopularLoop writes down what is asked for most, so that a node that starts has
// it at once.
func (d *Service) rememberPopularLoop(ctx context.Context) {
	for background.Sleep(ctx, rememberEvery, nil) {
		if err := d.RememberPopular(ctx); err != nil && ctx.Err() == nil {
			d.log.Debug("the hottest requests were not written down", "error", err)
		}
	}
}

// RememberPopular stores which requests are asked for most, for the next start.
func (d *Service) RememberPopular(ctx context.Context) error {
	var texts []string
	var hits []int
	worth := func(r *cache.Response) bool {
		return r.Hits() >= cache.Popular && r.Status == 200 && r.Asked != "" && r.Edition == content.Published
	}
	for _, r := range d.cache.First(hottest, cache.ByHits, worth) {
		texts, hits = append(texts, r.Asked), append(hits, r.Hits())
	}
	if texts == nil {
		return nil
	}
	return d.store.Requests.RememberRequests(ctx, texts, hits, hottest)
}

// WarmFromLastRun computes what was asked for most before this node was started.
func (d *Service) WarmFromLastRun(ctx context.Context) {
	out, err := d.WarmAll(ctx, nil, hottest)
	if errors.Is(err, context.Canceled) {
		return
	}
	n := len(slices.DeleteFunc(out, func(w api.Warmed) bool { return w.Error != "" }))
	if err != nil {
		d.log.Warn("the hottest answers were not computed ahead", "error", err)
	} else if n > 0 {
		d.log.Info("the hottest answers are computed", "answers", n)
	}
}
