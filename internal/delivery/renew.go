package delivery

import (
	"context"
	"errors"
	"slices"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/query"
)

// Recompile returns what compiles a request.
type Recompile func(query.Request) (Compiler, error)

// SetRecompile says how requests are compiled again when nobody is asking. It must be
// set before Start.
func (d *Service) SetRecompile(f Recompile) { d.recompile = f }

// planOf compiles the request that a text stands for.
func (d *Service) planOf(text string) (*Plan, error) {
	r, err := query.ParseRequest(text)
	if err == nil && d.recompile == nil {
		err = errors.New("this request cannot be made again")
	}
	if err != nil {
		return nil, err
	}
	compile, err := d.recompile(r)
	if err != nil {
		return nil, err
	}
	return d.plan(r, compile)
}

// toldByModel are the headers that follow from the model.
var toldByModel = []string{"Cache-Control", "Cdn-Cache-Control", "Cache-Groups", "Vary", "Deprecation", "Sunset"}

// StillValid tells whether the request of a response gives it under the present model
// too, if the content that it was made of is as it was.
func (d *Service) StillValid(r *cache.Response) bool {
	p, err := d.planOf(r.Asked)
	if err != nil || p.Key != r.Key() || p.stale != r.Stale {
		return false
	}
	return !slices.ContainsFunc(
		toldByModel, func(name string) bool { return !slices.Equal(p.Base[name], r.Header[name]) },
	)
}

// maxQueuedRefreshes bounds how many popular responses wait to be recomputed; those
// beyond are computed when somebody asks.
const maxQueuedRefreshes = 1000

// QueueRefresh queues a response that was popular and has expired.
func (d *Service) QueueRefresh(r *cache.Response) {
	select {
	case d.refreshQueue <- r:
	default:
	}
}

// refreshLoop computes popular responses again, two at a time: those who ask for
// something else shall not notice.
func (d *Service) refreshLoop(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case r := <-d.refreshQueue:
			if p, err := d.planOf(r.Asked); err != nil || p.Key != r.Key() {
				continue // it was what a reader with fewer rights gets, or the model is another
			}
			if _, err := d.Warm(ctx, r.Asked); err != nil && ctx.Err() == nil {
				d.log.Debug("a popular answer was not computed anew", "request", r.Asked, "error", err)
			}
		}
	}
}

// refreshAhead is the principal of what is computed before anybody asks.
const refreshAhead = "refresh ahead"

// Warm computes the answer to a request, given by its text, unless it is held, and returns what it is held
// under.
func (d *Service) Warm(ctx context.Context, text string) (key string, err error) {
	for range 3 {
		p, err := d.planOf(text)
		if err != nil {
			return "", err
		}
		err = d.cache.Renew(
			ctx, cache.Request{Key: p.Key, Principal: refreshAhead, Heavy: p.heavy},
			func(ctx context.Context) (*cache.Response, *invalidation.Set, error) { return d.compute(ctx, p) },
		)
		if !errors.Is(err, ErrModelChanged) {
			return p.Key, err
		}
	}
	return "", ErrModelChanged
}
