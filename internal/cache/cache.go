package cache

import (
	"context"
	"fmt"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"github.com/maypok86/otter/v2"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/depend"
)

// Response is one answer, ready to be sent, with what it was made of. It does
// not change once it is stored.
type Response struct {
	Status int
	// Header holds what every request for it gets, such as ETag. Readers share it.
	Header map[string][]string
	ETag   string
	Body   []byte
	// Sequence is the state of content that it was read from.
	Sequence int64
	Deps     *depend.Set
	// Until is when the response is no longer good even if nothing changes; zero
	// for never.
	Until time.Time
	// Needs are the grants that only the result could tell; the others were
	// checked before.
	Needs []access.Need
	// Found are the entries that a preview's roots were found to be; none if one of
	// them is a list, or found nothing.
	Found []string
	// Asked is the request that it was first computed for, for people to read.
	Asked string

	key      string
	expired  atomic.Bool
	variants variants
}

func (r *Response) size() int {
	return len(r.Body) + len(r.key) + len(r.Asked) + r.Deps.Size() + 700 + r.encodedSize()
}

// encodedSize is set aside for the body in other encodings.
func (r *Response) encodedSize() int {
	if len(r.Body) < MinEncoded {
		return 0
	}
	return len(r.Body) / 2
}

// Outcome says how Read came by a response.
type Outcome int

// How a response may be come by.
const (
	Hit Outcome = iota
	Miss
	Joined   // computed for somebody else who asked at the same time
	Bypassed // computed although it may have been there
)

// Options of New.
type Options struct {
	// Bytes bounds what is held, bodies and bookkeeping together; 0 means 256 MiB.
	Bytes uint64
	// Remember is how many changes are kept for responses that were read before
	// them and come to be stored after; 0 means 10,000.
	Remember int
}

// Cache is one node's responses of one environment. It may be used by many at
// once.
type Cache struct {
	held  *otter.Cache[string, *Response]
	index *depend.Index[*Response]
	limit uint64

	// applied is the sequence up to which all changes are applied.
	applied atomic.Int64

	mu         sync.Mutex // guards what follows
	ring       []content.Change
	ringFrom   int64 // every change after this sequence is in the ring
	remember   int
	generation int64

	flightsMu sync.Mutex
	flights   map[string]*flight

	hits, misses, joined, stored, expirations, refused, evicted atomic.Int64
}

type flight struct {
	done     chan struct{}
	response *Response
	err      error
}

// New returns an empty cache that has applied every change up to at.
func New(o Options, at int64) *Cache {
	if o.Bytes == 0 {
		o.Bytes = 256 << 20
	}
	if o.Remember == 0 {
		o.Remember = 2_000
	}
	c := &Cache{index: depend.NewIndex[*Response](), remember: o.Remember, ringFrom: at, flights: map[string]*flight{}, limit: o.Bytes}
	c.applied.Store(at)
	c.held = otter.Must(&otter.Options[string, *Response]{
		MaximumWeight: o.Bytes,
		Weigher:       func(_ string, r *Response) uint32 { return uint32(min(r.size(), 1<<31)) },
		// In the deletion itself, not after it: nobody is subscribed who is not held.
		OnAtomicDeletion: func(e otter.DeletionEvent[string, *Response]) {
			c.index.Remove(e.Value)
			if e.WasEvicted() {
				c.evicted.Add(1)
			}
		},
	})
	return c
}

// Applied is the sequence up to which all changes are applied.
func (c *Cache) Applied() int64 { return c.applied.Load() }

// Get returns the response for the key if there is a good one.
func (c *Cache) Get(key string) (*Response, bool) {
	r, ok := c.held.GetIfPresent(key)
	if !ok || r.expired.Load() {
		return nil, false
	}
	if !r.Until.IsZero() && !time.Now().Before(r.Until) {
		c.expire(r)
		return nil, false
	}
	return r, true
}

// CountHit records that a response that Get found was served.
func (c *Cache) CountHit() { c.hits.Add(1) }

// Read returns the response for the key, computing it if need be. Of those who
// ask for the same key at the same time one computes. A computation that fails
// is not kept; all who waited for it get its error. With fresh, what is held is
// not looked at, but what is computed is stored all the same.
//
// The computation goes on when the one who began it gives up, since others may
// be waiting; compute gets a context that only ends with the process.
func (c *Cache) Read(ctx context.Context, key string, fresh bool, compute func(context.Context) (*Response, error)) (*Response, Outcome, error) {
	if fresh {
		r, err := c.computeAndStore(ctx, key, compute)
		return r, Bypassed, err
	}
	for {
		if r, ok := c.Get(key); ok {
			c.CountHit()
			return r, Hit, nil
		}
		arrived := c.applied.Load()
		f, mine := c.join(key)
		if mine {
			c.misses.Add(1)
			go c.fly(context.WithoutCancel(ctx), key, f, compute)
		}
		select {
		case <-f.done:
		case <-ctx.Done():
			return nil, Miss, ctx.Err()
		}
		if mine {
			return f.response, Miss, f.err
		}
		if f.err != nil {
			return nil, Joined, f.err
		}
		if c.goodSince(f.response, arrived) {
			c.joined.Add(1)
			return f.response, Joined, nil
		}
	}
}

func (c *Cache) join(key string) (*flight, bool) {
	c.flightsMu.Lock()
	defer c.flightsMu.Unlock()
	if f := c.flights[key]; f != nil {
		return f, false
	}
	f := &flight{done: make(chan struct{})}
	c.flights[key] = f
	return f, true
}

func (c *Cache) fly(ctx context.Context, key string, f *flight, compute func(context.Context) (*Response, error)) {
	defer func() {
		// Nobody above would catch it here: those who wait get an error instead.
		if p := recover(); p != nil {
			f.response, f.err = nil, fmt.Errorf("computing the answer panicked: %v\n%s", p, debug.Stack())
		}
		c.flightsMu.Lock()
		delete(c.flights, key)
		c.flightsMu.Unlock()
		close(f.done)
	}()
	f.response, f.err = c.computeAndStore(ctx, key, compute)
}

// computeAndStore stores what it computes unless the cache has begun anew
// meanwhile: then it was read from a log that is not followed any more.
func (c *Cache) computeAndStore(ctx context.Context, key string, compute func(context.Context) (*Response, error)) (*Response, error) {
	c.mu.Lock()
	generation := c.generation
	c.mu.Unlock()
	r, err := compute(ctx)
	if err == nil {
		c.store(key, r, generation)
	}
	return r, err
}

// goodSince tells whether none of the changes up to the given sequence affects
// the response.
func (c *Cache) goodSince(r *Response, sequence int64) bool {
	if r.Sequence >= sequence {
		return true
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	affected, known := c.affected(r, sequence)
	return known && !affected
}

// affected looks through the remembered changes after the response's sequence,
// up to the given one. known is false if they are not all remembered.
func (c *Cache) affected(r *Response, upTo int64) (affected, known bool) {
	if r.Sequence < c.ringFrom {
		return false, false
	}
	for i := len(c.ring) - 1; i >= 0 && c.ring[i].Sequence > r.Sequence; i-- {
		if c.ring[i].Sequence <= upTo && r.Deps.Affected(&c.ring[i]) {
			return true, true
		}
	}
	return false, true
}

// store makes a response findable, unless a change has affected it already.
func (c *Cache) store(key string, r *Response, generation int64) {
	r.key = key
	if over := !r.Until.IsZero() && !time.Now().Before(r.Until); over || uint64(r.size()) > c.limit/8 {
		c.refused.Add(1)
		return
	}
	c.index.Add(r, r.Deps)
	c.mu.Lock()
	defer c.mu.Unlock()
	const all = 1<<63 - 1
	if affected, known := c.affected(r, all); affected || !known || generation != c.generation {
		c.index.Remove(r)
		c.refused.Add(1)
		return
	}
	if held, ok := c.held.GetIfPresent(key); ok && !held.expired.Load() && held.Sequence >= r.Sequence {
		c.index.Remove(r)
		return
	}
	c.held.Set(key, r)
	c.stored.Add(1)
}

// Apply expires what the changes of whole commits affect. They come in order
// and without gaps. When it returns, no response is found any more that was
// read before one of them and is affected by it. It returns how many expired.
func (c *Cache) Apply(changes []content.Change) int {
	if len(changes) == 0 {
		return 0
	}
	c.mu.Lock()
	c.ring = append(c.ring, changes...)
	// It may grow by a quarter before it is cut, so that it is not copied each time.
	if over := len(c.ring) - c.remember; over > c.remember/4 {
		c.ringFrom = c.ring[over-1].Sequence
		c.ring = append(c.ring[:0:0], c.ring[over:]...)
	}
	c.mu.Unlock()
	n := 0
	for i := range changes {
		for _, r := range c.index.Match(&changes[i]) {
			if r.Sequence >= changes[i].Sequence {
				continue // it knows of the change
			}
			if c.expire(r) {
				n++
			}
		}
	}
	c.applied.Store(changes[len(changes)-1].Sequence)
	c.expirations.Add(int64(n))
	return n
}

func (c *Cache) expire(r *Response) bool {
	if r.expired.Swap(true) {
		return false
	}
	c.index.Remove(r)
	c.held.ComputeIfPresent(r.key, func(held *Response) (*Response, otter.ComputeOp) {
		if held == r {
			return nil, otter.InvalidateOp
		}
		return held, otter.CancelOp
	})
	return true
}

// Reset forgets everything, for when the change log does not go on from where
// this node is. The cache then stands at the given sequence.
func (c *Cache) Reset(at int64) {
	c.mu.Lock()
	c.generation++
	c.ring, c.ringFrom = nil, at
	c.mu.Unlock()
	c.Purge()
	c.applied.Store(at)
}

// Purge throws away every response and returns how many there were.
func (c *Cache) Purge() int {
	n := 0
	for _, r := range c.held.All() {
		if c.expire(r) {
			n++
		}
	}
	return n
}

// MadeOf returns the responses that something of an entry was read for, in an
// edition and a locale.
func (c *Cache) MadeOf(edition, entry, locale string) []*Response {
	return c.index.Reading(edition, entry, locale)
}

// Stats is what the cache has done since it began.
type Stats struct {
	Responses   int    `json:"responses"`
	Bytes       uint64 `json:"bytes"`
	Limit       uint64 `json:"limit"`
	Hits        int64  `json:"hits"`
	Misses      int64  `json:"misses"`
	Joined      int64  `json:"joined"` // waited for somebody else's computation
	Stored      int64  `json:"stored"`
	Expired     int64  `json:"expired"` // by a change
	Evicted     int64  `json:"evicted"` // for want of room
	Refused     int64  `json:"refused"` // not stored: affected already, or too large
	Subscribers int    `json:"subscribers"`
	Applied     int64  `json:"applied"`
}

// Stats returns the present figures.
func (c *Cache) Stats() Stats {
	return Stats{Responses: c.held.EstimatedSize(), Bytes: c.held.WeightedSize(), Limit: c.limit, Hits: c.hits.Load(), Misses: c.misses.Load(),
		Joined: c.joined.Load(), Stored: c.stored.Load(), Expired: c.expirations.Load(), Evicted: c.evicted.Load(), Refused: c.refused.Load(),
		Subscribers: c.index.Len(), Applied: c.applied.Load()}
}
