package cache

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"time"

	"ubiquon/internal/admission"
	"ubiquon/internal/core/invalidation"
)

// flight is one computation, for all who ask for the same key meanwhile.
type flight struct {
	done     chan struct{}
	response *Response
	deps     *invalidation.Set
	err      error

	ticket *admission.Ticket // nil: computed without waiting for a turn
	ctx    context.Context   // of the computation
	// cancel ends the computation when nobody waits for it any more. waiting, guarded by
	// the cache's flightsMu, is how many do; kept says that it goes on without them.
	cancel  context.CancelFunc
	waiting int
	kept    bool
}

// Read returns the response for the key, computing it if need be. Of those who
// ask for the same key at the same time one computes. A computation that fails
// is not kept; all who waited for it get its error, or the expired response if
// that may still be served. A computation waits for its turn in Options.Admission;
// its error is admission.ErrOverloaded if that does not come.
//
// The computation goes on when the one who began it leaves, as long as others wait
// for it; the context of compute ends when nobody does.
func (c *Cache) Read(ctx context.Context, r Request, compute Compute) (*Response, Outcome, error) {
	if r.Fresh {
		leave, err := c.enter(ctx, r)
		if err != nil {
			return nil, Bypassed, err
		}
		defer leave()
		out, _, err := c.computeAndStore(ctx, r.Key, compute)
		return out, Bypassed, err
	}
	for {
		if held, ok := c.Get(r.Key); ok {
			c.CountHit(held)
			return held, Hit, nil
		}
		arrived := c.applied.Load()
		f, mine := c.join(ctx, r)
		if mine {
			c.misses.Add(1)
			go c.fly(r.Key, f, compute)
		}
		if held := c.servable(r, func(s Stale) time.Duration { return s.While }); held != nil {
			c.leave(r.Key, f, true)
			return held, Expired, nil
		}
		select {
		case <-f.done:
			c.leave(r.Key, f, false)
		case <-ctx.Done():
			c.leave(r.Key, f, false)
			return nil, Miss, ctx.Err()
		}
		if f.err != nil {
			if !mine && (errors.Is(f.err, admission.ErrOverloaded) || errors.Is(f.err, context.Canceled)) &&
				ctx.Err() == nil {
				continue // that was for others' sake
			}
			if held := c.servable(r, func(s Stale) time.Duration { return s.IfError }); held != nil {
				return held, Expired, nil
			}
			return nil, Joined, f.err
		}
		if mine {
			return f.response, Miss, nil
		}
		if c.goodSince(f, arrived) {
			c.joined.Add(1)
			return f.response, Joined, nil
		}
	}
}

// Pass computes a response that is not stored, when its turn has come.
func (c *Cache) Pass(ctx context.Context, r Request, compute Compute) (*Response, error) {
	leave, err := c.enter(ctx, r)
	if err != nil {
		return nil, err
	}
	defer leave()
	out, _, err := compute(ctx)
	return out, err
}

// enter waits for the turn of a computation that is nobody else's.
func (c *Cache) enter(ctx context.Context, r Request) (leave func(), err error) {
	if c.o.Admission == nil {
		return func() {}, nil
	}
	return c.o.Admission.Enter(ctx, r.Principal, r.Heavy)
}

// join returns the flight for a request, and whether it is one that the caller must
// start. Who joins one that has not got its turn yet asks for it, too: nobody waits
// longer than if the others were not there.
func (c *Cache) join(ctx context.Context, r Request) (*flight, bool) {
	c.flightsMu.Lock()
	f := c.flights[r.Key]
	mine := f == nil
	if mine {
		f = &flight{done: make(chan struct{})}
		f.ctx, f.cancel = context.WithCancel(context.WithoutCancel(ctx))
		if c.o.Admission != nil {
			f.ticket = c.o.Admission.Ticket(r.Heavy)
		}
		c.flights[r.Key] = f
	}
	f.waiting++
	c.flightsMu.Unlock()
	if f.ticket != nil {
		f.ticket.Bid(r.Principal)
	}
	return f, mine
}

// leave takes somebody off those who wait for a flight. The last one to go ends it,
// unless it is kept.
func (c *Cache) leave(key string, f *flight, keep bool) {
	c.flightsMu.Lock()
	defer c.flightsMu.Unlock()
	f.waiting--
	f.kept = f.kept || keep
	if f.waiting == 0 && !f.kept {
		f.cancel()
		if c.flights[key] == f {
			delete(c.flights, key) // whoever comes now starts again
		}
	}
}

func (c *Cache) fly(key string, f *flight, compute Compute) {
	defer func() {
		// Nobody above would catch it here: those who wait get an error instead.
		if p := recover(); p != nil {
			f.response, f.err = nil, fmt.Errorf("computing the answer panicked: %v\n%s", p, debug.Stack())
		}
		c.flightsMu.Lock()
		if c.flights[key] == f {
			delete(c.flights, key)
		}
		c.flightsMu.Unlock()
		f.cancel()
		close(f.done)
	}()
	if f.ticket != nil {
		defer f.ticket.Done()
		if f.err = f.ticket.Wait(f.ctx); f.err != nil {
			return
		}
	}
	f.response, f.deps, f.err = c.computeAndStore(f.ctx, key, compute)
}

// computeAndStore stores what it computes unless the cache has begun again
// meanwhile: then it was read from a log that is not followed any more.
func (c *Cache) computeAndStore(ctx context.Context, key string,
	compute Compute,
) (*Response, *invalidation.Set, error) {
	c.mu.Lock()
	generation := c.generation
	c.mu.Unlock()
	r, deps, err := compute(ctx)
	if err == nil {
		c.store(key, r, deps, generation)
	}
	return r, deps, err
}

// Renew computes the response for the key again, unless somebody does so already.
func (c *Cache) Renew(ctx context.Context, r Request, compute Compute) error {
	if _, ok := c.Get(r.Key); ok {
		return nil
	}
	f, mine := c.join(ctx, r)
	defer c.leave(r.Key, f, true)
	if !mine {
		return nil
	}
	stop := context.AfterFunc(ctx, f.cancel)
	defer stop()
	c.fly(r.Key, f, compute)
	return f.err
}
