package cache

import (
	"slices"
	"time"

	"github.com/maypok86/otter/v2"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
)

// Apply expires what the changes of whole commits affect. They come in order
// and without gaps. When it returns, no response is found any more that was
// read before one of them and is affected by it. It returns those that expired.
func (c *Cache) Apply(changes []invalidation.Delta) []*Response {
	if len(changes) == 0 {
		return nil
	}
	c.mu.Lock()
	c.ring = append(c.ring, changes...)
	// It may grow by a quarter before it is cut, so that it is not copied each time.
	if over := len(c.ring) - c.o.Remember; over > c.o.Remember/4 {
		c.ringFrom = c.ring[over-1].Sequence
		c.ring = append(c.ring[:0:0], c.ring[over:]...)
	}
	c.mu.Unlock()
	var expired []*Response
	published := c.published.Load()
	for commit := range invalidation.Commits(changes) {
		if slices.ContainsFunc(commit, func(one *invalidation.Delta) bool {
			return one.Kind != content.ContentChange || one.Edition == content.Published
		}) {
			published = commit[len(commit)-1].Sequence
		}
		hit, kept := c.hitBy(commit, c.match)
		c.kept.Add(int64(kept))
		for _, r := range hit {
			if r.Sequence >= commit[0].Sequence {
				continue // it knows of all of it
			}
			if c.expire(r) {
				expired = append(expired, r)
			}
		}
	}
	c.published.Store(published)
	c.applied.Store(changes[len(changes)-1].Sequence)
	c.expirations.Add(int64(len(expired)))
	for _, r := range expired {
		if c.o.Refresh != nil && r.hits.Load() >= Popular {
			c.o.Refresh(r)
		}
	}
	return expired
}

func (c *Cache) match(commit ...*invalidation.Delta) []*Response {
	out, moved := c.index.Match(commit...)
	for _, one := range moved {
		one.Subscriber.endBy(one.Deadline)
	}
	return out
}

// hitBy returns what a commit may affect, and how many are kept through a change of
// the model, which is the first of its commit.
func (c *Cache) hitBy(
	commit []*invalidation.Delta, match func(...*invalidation.Delta) []*Response,
) (out []*Response, kept int) {
	if commit[0].Kind != content.ModelChange {
		return match(commit...), 0
	}
	out = append(c.index.Using(commit[0]), match(commit[1:]...)...)
	hit := make(map[*Response]bool, len(out))
	for _, r := range out {
		hit[r] = true
	}
	for _, r := range c.held.All() {
		if hit[r] || r.expired.Load() != 0 {
			continue
		}
		if c.o.Keep == nil || !c.o.Keep(r) {
			out = append(out, r)
		} else {
			kept++
		}
	}
	return out, kept
}

// Simulate returns the responses that the changes would expire.
func (c *Cache) Simulate(changes []invalidation.Delta) []*Response {
	var out []*Response
	seen := map[*Response]bool{}
	for commit := range invalidation.Commits(changes) {
		hit, _ := c.hitBy(commit, c.index.Simulate)
		for _, r := range hit {
			if !seen[r] && r.expired.Load() == 0 {
				seen[r] = true
				out = append(out, r)
			}
		}
	}
	return out
}

// Probes returns what must be known of the entries that changed, as of after the
// changes, to tell what they affect.
func (c *Cache) Probes(change *invalidation.Delta) []invalidation.Probe {
	return c.index.Probes(change)
}

// expire ends a response. One that may be served all the same stays to be found by
// those who know that.
func (c *Cache) expire(r *Response) bool {
	if !r.expired.CompareAndSwap(0, time.Now().UnixNano()) {
		return false
	}
	c.unsubscribe(r)
	if r.Stale == (Stale{}) {
		c.drop(r)
	}
	return true
}

func (c *Cache) drop(r *Response) {
	c.held.ComputeIfPresent(r.key, func(held *Response) (*Response, otter.ComputeOp) {
		if held == r {
			return nil, otter.InvalidateOp
		}
		return held, otter.CancelOp
	})
}

// Reset forgets everything, for when the change log does not go on from where
// this node is. The cache then stands at the given sequence.
func (c *Cache) Reset(at int64) {
	c.mu.Lock()
	c.generation++
	c.ring, c.ringFrom = nil, at
	c.mu.Unlock()
	c.Purge(nil)
	c.published.Store(at)
	c.applied.Store(at)
}
