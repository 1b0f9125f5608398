package cache

import (
	"cmp"
	"context"
	"sync"
	"sync/atomic"
	"time"
	"weak"

	"github.com/maypok86/otter/v2"

	"ubiquon/internal/admission"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
)

// Outcome says how Read came by a response.
type Outcome int

// How a response may be come by.
const (
	Hit Outcome = iota
	Miss
	Joined   // computed for somebody else who asked at the same time
	Bypassed // computed although it may have been there
	Expired  // known to be expired, and served while it is computed, or because that failed
	Passed   // computed, and not kept
	Blind    // held, but the node cannot tell whether it is still good
)

// Compute makes a response and says what it was made of.
type Compute func(context.Context) (*Response, *invalidation.Set, error)

// Options of New.
type Options struct {
	// Bytes bounds what is held, bodies and bookkeeping together; 0 means 256 MiB.
	Bytes uint64
	// Remember is how many changes are kept for responses that were read before
	// them and come to be stored after; 0 means 2,000.
	Remember int
	// Keep tells, of a response that nothing which a change of the model touches was
	// read for, whether the same request gives it under the new model; nil: never.
	Keep func(*Response) bool
	// Refresh is told of responses that were asked for often, and have expired.
	Refresh func(*Response)
	// Published is where readers of the published edition stand: see New.
	Published int64
	// Admission bounds the computations under way; nil: there is no bound.
	Admission *admission.Queue
}

// Popular is how often a response was served that is recomputed when it expires,
// before anybody asks, and that is worth remembering for the next start.
const Popular = 3

// Cache is one node's responses of one environment. It may be used by many at
// once.
type Cache struct {
	held  *otter.Cache[string, *Response]
	index *invalidation.Index[*Response]
	limit uint64
	o     Options

	// guessed is what the responses that are held were taken to depend on, in bytes.
	guessed atomic.Int64
	// encoded is what bodies take in other encodings.
	encoded *encodedBytes
	// applied is the sequence up to which all changes are applied.
	applied atomic.Int64
	// published is the end of the last commit up to there that readers of the published
	// edition could see something of.
	published atomic.Int64

	mu         sync.Mutex // guards what follows
	ring       []invalidation.Delta
	ringFrom   int64 // every change after this sequence is in the ring
	generation int64
	bodies     map[string]weak.Pointer[Content] // by entity tag; nobody is held by this
	sweepAt    int                              // how many bodies there are when they are next looked through

	flightsMu sync.Mutex
	flights   map[string]*flight

	hits, misses, joined, stored, expirations, refused, evicted, kept, stale, purged atomic.Int64
}

// Request is what Read is asked for.
type Request struct {
	Key string
	// Fresh computes the response whatever is held; what is computed is stored all the
	// same.
	Fresh bool
	// Current takes no response that is known to have expired, even if it may be served.
	Current bool
	// Principal whose turn a computation takes, and whether it is heavy (see
	// admission.Queue).
	Principal string
	Heavy     bool
}

// New returns an empty cache that has applied every change up to at. The last commit
// that readers of the published edition could see something of ended at o.Published, or,
// if that is 0, at the same sequence.
func New(o Options, at int64) *Cache {
	if o.Bytes == 0 {
		o.Bytes = 256 << 20
	}
	if o.Remember == 0 {
		o.Remember = 2_000
	}
	c := &Cache{
		index:    invalidation.NewIndex[*Response](),
		o:        o,
		ringFrom: at,
		flights:  map[string]*flight{},
		bodies:   map[string]weak.Pointer[Content]{},
		limit:    o.Bytes,
	}
	c.applied.Store(at)
	c.published.Store(cmp.Or(o.Published, at))
	c.encoded = &encodedBytes{grown: c.keepBound}
	c.held = otter.Must(&otter.Options[string, *Response]{
		MaximumWeight: o.Bytes - o.Bytes/boundSpare,
		Weigher:       func(_ string, r *Response) uint32 { return r.weight },
		// In the deletion itself, not after it: nobody is subscribed who is not held.
		OnAtomicDeletion: func(e otter.DeletionEvent[string, *Response]) {
			c.guessed.Add(-int64(e.Value.deps))
			c.unsubscribe(e.Value)
			if e.WasEvicted() {
				c.evicted.Add(1)
			}
		},
	})
	return c
}

// Applied is the sequence up to which all changes are applied.
func (c *Cache) Applied() int64 { return c.applied.Load() }

// AppliedIn is Applied as readers of an edition may know it: those of the published one
// cannot tell by it that somebody saves drafts.
func (c *Cache) AppliedIn(edition string) int64 {
	if edition == content.Published {
		return c.published.Load()
	}
	return c.applied.Load()
}

// Get returns the response for the key if there is a good one.
func (c *Cache) Get(key string) (*Response, bool) {
	r, ok := c.held.GetIfPresent(key)
	if !ok || r.expired.Load() != 0 {
		return nil, false
	}
	if ends := r.ends.Load(); ends != 0 && time.Now().UnixNano() >= ends {
		c.expire(r)
		return nil, false
	}
	return r, true
}

// CountHit records that a response that Get found was served.
func (c *Cache) CountHit(r *Response) {
	c.hits.Add(1)
	r.hits.Add(1)
}

// servable returns the expired response for a request if it may still be served, for
// as long as the policy says.
func (c *Cache) servable(asked Request, policy func(Stale) time.Duration) *Response {
	r, ok := c.held.GetIfPresent(asked.Key)
	if !ok || asked.Current {
		return nil
	}
	if at := r.expired.Load(); at != 0 && time.Since(time.Unix(0, at)) < policy(r.Stale) {
		c.stale.Add(1)
		return r
	}
	return nil
}

// goodSince tells whether none of the changes up to the given sequence affects
// the flight's response.
func (c *Cache) goodSince(f *flight, sequence int64) bool {
	if f.response.Sequence >= sequence {
		return true
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	affected, known := c.affected(f.response, f.deps, sequence)
	return known && !affected
}

// affected looks through the remembered changes after the response's sequence,
// up to the given one. known is false if they are not all remembered.
func (c *Cache) affected(r *Response, deps *invalidation.Set, upTo int64) (affected, known bool) {
	if r.Sequence < c.ringFrom {
		return false, false
	}
	for i := len(c.ring) - 1; i >= 0 && c.ring[i].Sequence > r.Sequence; i-- {
		if c.ring[i].Sequence <= upTo && deps.Affected(&c.ring[i]) {
			return true, true
		}
	}
	return false, true
}

// store makes a response findable, unless a change has affected it already.
func (c *Cache) store(key string, r *Response, deps *invalidation.Set, generation int64) {
	r.key, r.made = key, time.Now().UnixNano()
	r.weigh(deps)
	if ends := r.ends.Load(); ends != 0 && r.made >= ends || uint64(r.weight) > c.limit/8 {
		c.refused.Add(1)
		return
	}
	r.handle.Store(uint32(c.index.Add(r, deps)))
	c.mu.Lock()
	defer c.mu.Unlock()
	const all = 1<<63 - 1
	if affected, known := c.affected(r, deps, all); affected || !known || generation != c.generation {
		c.unsubscribe(r)
		c.refused.Add(1)
		return
	}
	if held, ok := c.held.GetIfPresent(key); ok && held.expired.Load() == 0 && held.Sequence >= r.Sequence {
		c.unsubscribe(r)
		return
	}
	c.share(r)
	c.guessed.Add(int64(r.deps))
	c.held.Set(key, r)
	if c.stored.Add(1)%boundEvery == 0 {
		c.keepBound()
	}
}

func (c *Cache) unsubscribe(r *Response) {
	if h := r.handle.Swap(0); h != 0 {
		c.index.Remove(invalidation.Handle(h))
	}
}
