package cache

import (
	"cmp"
	"slices"

	"ubiquon/internal/api"
	"ubiquon/internal/core/invalidation"
)

// Lookup returns the response for the key, though it may have expired; nil if there
// is none.
func (c *Cache) Lookup(key string) *Response {
	r, _ := c.held.GetIfPresent(key)
	return r
}

// Purge throws every response away for which is is true, all with nil, and returns
// how many there were.
func (c *Cache) Purge(is func(*Response) bool) int {
	n := 0
	for _, r := range c.held.All() {
		if is != nil && !is(r) {
			continue
		}
		if c.expire(r) {
			n++
		}
		c.drop(r)
	}
	c.purged.Add(int64(n))
	return n
}

// ByHits orders responses, the most asked for first.
func ByHits(a, b *Response) int { return cmp.Compare(b.hits.Load(), a.hits.Load()) }

// First returns the first n, in an order, of what is held and good and for which is is
// true. It is asked once of each, and need not be quick: nobody waits meanwhile.
func (c *Cache) First(n int, order func(a, b *Response) int, is func(*Response) bool) []*Response {
	var out []*Response
	cut := func() {
		slices.SortFunc(out, func(a, b *Response) int { return cmp.Or(order(a, b), cmp.Compare(a.key, b.key)) })
		out = out[:min(len(out), n)]
	}
	for _, r := range c.held.All() {
		if r.expired.Load() != 0 || !is(r) {
			continue
		}
		// Of many only the first are ever kept in order.
		if out = append(out, r); len(out) > 1000+2*n {
			cut()
		}
	}
	cut()
	return out
}

// MadeOf returns the responses that something of an entry was read for, in an
// edition and a locale.
func (c *Cache) MadeOf(edition, entry, locale string) []*Response {
	return c.index.Reading(edition, entry, locale)
}

// Uses returns the types of the model that a response was read by. Nobody may change
// them.
func (c *Cache) Uses(r *Response) []invalidation.Use {
	return c.index.Uses(invalidation.Handle(r.handle.Load()))
}

// Dependencies returns what a response was made of.
func (c *Cache) Dependencies(r *Response) *invalidation.Set {
	return c.index.Set(invalidation.Handle(r.handle.Load()))
}

// HeldDependencies is Dependencies of a response that is held, and not expired: ok is false
// if it is not any more.
func (c *Cache) HeldDependencies(r *Response) (deps *invalidation.Set, ok bool) {
	h := r.handle.Load()
	if h == 0 {
		return nil, false
	}
	deps = c.index.Set(invalidation.Handle(h))
	// Handles are given to others once they are free; ours is not as long as it is noted.
	return deps, r.handle.Load() == h
}

// Stats returns the present figures.
func (c *Cache) Stats() api.CacheStats {
	bytes := uint64(max(0, c.bytes()))
	return api.CacheStats{
		Responses:   c.held.EstimatedSize(),
		Bytes:       bytes,
		Limit:       c.limit,
		Hits:        c.hits.Load(),
		Misses:      c.misses.Load(),
		Joined:      c.joined.Load(),
		Stored:      c.stored.Load(),
		Expired:     c.expirations.Load(),
		Evicted:     c.evicted.Load(),
		Refused:     c.refused.Load(),
		Purged:      c.purged.Load(),
		Kept:        c.kept.Load(),
		Stale:       c.stale.Load(),
		Subscribers: c.index.Len(),
		Applied:     c.applied.Load(),
	}
}
