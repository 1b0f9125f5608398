package cache

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"iter"
	"maps"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"
	"weak"

	"github.com/maypok86/otter/v2"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/depend"
)

// Response is one answer, ready to be sent. It does not change once it is stored.
type Response struct {
	Status int
	// Header holds what every answer to its request has. All such answers share it.
	Header map[string][]string
	// Content is shared by all responses with the same bytes.
	*Content
	// Sequence is the state of content that it was read from.
	Sequence int64
	// Terms, if not nil, say what else goes for the response.
	Terms *Terms
	// Asked is the request that it was computed for, and Edition what it is of.
	Asked   string
	Edition string
	// Stale says how long the response may be served after it has expired; the zero
	// Stale is not at all.
	Stale Stale

	key     string
	made    int64 // in nanoseconds
	weight  uint32
	deps    uint32 // of the weight, what it depends on
	handle  atomic.Uint32
	hits    atomic.Uint32
	expired atomic.Int64 // when, in nanoseconds
	ends    atomic.Int64 // when it is over by itself, in nanoseconds; 0 for never
}

// Terms are what goes for few responses.
type Terms struct {
	// Needs are the grants that only the result could tell; the others were
	// checked before.
	Needs []access.Need
	// Found are the entries that a preview's roots were found to be; none if one of
	// them is a list, or found nothing.
	Found []string
	// Ahead is how far this clock is ahead of the database's, at least, for
	// responses that depend on the time.
	Ahead time.Duration
}

// Needs are the grants that only the result could tell.
func (r *Response) Needs() []access.Need {
	if r.Terms == nil {
		return nil
	}
	return r.Terms.Needs
}

// Found are the entries that a preview's roots were found to be.
func (r *Response) Found() []string {
	if r.Terms == nil {
		return nil
	}
	return r.Terms.Found
}

// Stale says for how long after a response expired it may be served all the same.
type Stale struct {
	// While it is computed anew.
	While time.Duration
	// IfError: when computing it anew fails.
	IfError time.Duration
}

// overhead is about what a held response takes besides its body and what it
// depends on.
const overhead = 440

func (r *Response) weigh(deps *depend.Set) {
	r.deps = uint32(deps.Size())
	r.weight = uint32(min(len(r.Body)+len(r.Body)/16+len(r.Asked)+len(r.key)+int(r.deps)+overhead, 1<<31))
}

// Ends is when the response is no longer good even if nothing changes; zero for
// never.
func (r *Response) Ends() time.Time {
	if ends := r.ends.Load(); ends != 0 {
		return time.Unix(0, ends)
	}
	return time.Time{}
}

// EndAt says when the response is no longer good even if nothing changes. Others call
// it before the response is stored.
func (r *Response) EndAt(at time.Time) { r.ends.Store(at.UnixNano()) }

// endBy lets the response end at a moment of the database's clock; zero: never.
func (r *Response) endBy(at time.Time) {
	switch {
	case at.IsZero():
		r.ends.Store(0)
		return
	case r.Terms != nil:
		at = at.Add(r.Terms.Ahead)
	}
	r.EndAt(at)
}

// Key is what the response is held under.
func (r *Response) Key() string { return r.key }

// Made is when it was computed.
func (r *Response) Made() time.Time { return time.Unix(0, r.made) }

// Hits is how often it was served.
func (r *Response) Hits() int { return int(r.hits.Load()) }

// Bytes is what it takes in all.
func (r *Response) Bytes() int { return int(r.weight) }

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
type Compute func(context.Context) (*Response, *depend.Set, error)

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
}

// Popular is how often a response was served that is computed anew when it expires,
// before anybody asks, and that is worth remembering for the next start.
const Popular = 3

// Cache is one node's responses of one environment. It may be used by many at
// once.
type Cache struct {
	held  *otter.Cache[string, *Response]
	index *depend.Index[*Response]
	limit uint64
	o     Options

	// guessed is what the responses that are held were taken to depend on, in bytes.
	guessed atomic.Int64
	// encoded is what bodies take in other encodings.
	encoded *encodedBytes
	// applied is the sequence up to which all changes are applied.
	applied atomic.Int64

	mu         sync.Mutex // guards what follows
	ring       []content.Change
	ringFrom   int64 // every change after this sequence is in the ring
	generation int64
	bodies     map[string]weak.Pointer[Content] // by entity tag; nobody is held by this
	sweepAt    int                              // how many bodies there are when they are next looked through

	flightsMu sync.Mutex
	flights   map[string]*flight

	hits, misses, joined, stored, expirations, refused, evicted, kept, stale, purged atomic.Int64
}

type flight struct {
	done     chan struct{}
	response *Response
	deps     *depend.Set
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
	c := &Cache{index: depend.NewIndex[*Response](), o: o, ringFrom: at, flights: map[string]*flight{}, bodies: map[string]weak.Pointer[Content]{}, limit: o.Bytes}
	c.applied.Store(at)
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

// Lookup returns the response for the key, though it may have expired; nil if there
// is none.
func (c *Cache) Lookup(key string) *Response {
	r, _ := c.held.GetIfPresent(key)
	return r
}

// servable returns the expired response for the key if it may still be served, for
// as long as the policy says.
func (c *Cache) servable(key string, policy func(Stale) time.Duration) *Response {
	r, ok := c.held.GetIfPresent(key)
	if !ok {
		return nil
	}
	if at := r.expired.Load(); at != 0 && time.Since(time.Unix(0, at)) < policy(r.Stale) {
		c.stale.Add(1)
		return r
	}
	return nil
}

// Read returns the response for the key, computing it if need be. Of those who
// ask for the same key at the same time one computes. A computation that fails
// is not kept; all who waited for it get its error, or the expired response if
// that may still be served. With fresh, what is held is not looked at, but what is
// computed is stored all the same.
//
// The computation goes on when the one who began it gives up, since others may
// be waiting; compute gets a context that only ends with the process.
func (c *Cache) Read(ctx context.Context, key string, fresh bool, compute Compute) (*Response, Outcome, error) {
	if fresh {
		r, _, err := c.computeAndStore(ctx, key, compute)
		return r, Bypassed, err
	}
	for {
		if r, ok := c.Get(key); ok {
			c.CountHit(r)
			return r, Hit, nil
		}
		arrived := c.applied.Load()
		f, mine := c.join(key)
		if mine {
			c.misses.Add(1)
			go c.fly(context.WithoutCancel(ctx), key, f, compute)
		}
		if r := c.servable(key, func(s Stale) time.Duration { return s.While }); r != nil {
			return r, Expired, nil
		}
		select {
		case <-f.done:
		case <-ctx.Done():
			return nil, Miss, ctx.Err()
		}
		if f.err != nil {
			if r := c.servable(key, func(s Stale) time.Duration { return s.IfError }); r != nil {
				return r, Expired, nil
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

func (c *Cache) fly(ctx context.Context, key string, f *flight, compute Compute) {
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
	f.response, f.deps, f.err = c.computeAndStore(ctx, key, compute)
}

// computeAndStore stores what it computes unless the cache has begun anew
// meanwhile: then it was read from a log that is not followed any more.
func (c *Cache) computeAndStore(ctx context.Context, key string, compute Compute) (*Response, *depend.Set, error) {
	c.mu.Lock()
	generation := c.generation
	c.mu.Unlock()
	r, deps, err := compute(ctx)
	if err == nil {
		c.store(key, r, deps, generation)
	}
	return r, deps, err
}

// Renew computes the response for the key anew, unless somebody does so already.
func (c *Cache) Renew(ctx context.Context, key string, compute Compute) error {
	if _, ok := c.Get(key); ok {
		return nil
	}
	f, mine := c.join(key)
	if !mine {
		return nil
	}
	c.fly(ctx, key, f, compute)
	return f.err
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
func (c *Cache) affected(r *Response, deps *depend.Set, upTo int64) (affected, known bool) {
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
func (c *Cache) store(key string, r *Response, deps *depend.Set, generation int64) {
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

const (
	// boundEvery is after how many responses the bound is set anew.
	boundEvery = 64
	// boundSpare is the part of the bound that is kept free for what comes until then.
	boundSpare = 64
)

// keepBound lets as much weight be held as makes the bound. What a response weighs is
// a guess of what it costs beyond itself: how many others depend on the same things
// is only known of all of them together.
func (c *Cache) keepBound() {
	guessed := c.held.WeightedSize()
	if guessed == 0 {
		return
	}
	really := max(1, c.bytes())
	c.held.SetMaximum(uint64(float64(c.limit-c.limit/boundSpare) * float64(guessed) / float64(really)))
}

// bytes is what all that is held really takes.
func (c *Cache) bytes() int64 {
	return int64(c.held.WeightedSize()) - c.guessed.Load() + int64(c.index.Bytes()) + c.encoded.bytes.Load()
}

// minShared is how long a body is that two copies of would take more than looking
// after one.
const minShared = 512

// share lets the response have the body that another one has, if that is the same.
func (c *Cache) share(r *Response) {
	if r.encoded != nil {
		r.encoded.count = c.encoded
	}
	if len(r.Body) < minShared {
		return
	}
	if len(c.bodies) > c.sweepAt {
		// Whoever has left is found out now and then, all at once: not before there are
		// twice as many, since they may all be there until they are collected.
		maps.DeleteFunc(c.bodies, func(_ string, b weak.Pointer[Content]) bool { return b.Value() == nil })
		c.sweepAt = max(1024, 2*len(c.bodies))
	}
	b := c.bodies[r.tags[0]].Value()
	if b == nil || !bytes.Equal(b.Body, r.Body) {
		c.bodies[r.tags[0]] = weak.Make(r.Content)
		return
	}
	r.Content = b
}

func (c *Cache) unsubscribe(r *Response) {
	if h := r.handle.Swap(0); h != 0 {
		c.index.Remove(depend.Handle(h))
	}
}

// Apply expires what the changes of whole commits affect. They come in order
// and without gaps. When it returns, no response is found any more that was
// read before one of them and is affected by it. It returns those that expired.
func (c *Cache) Apply(changes []content.Change) []*Response {
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
	for commit := range commits(changes) {
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
	c.applied.Store(changes[len(changes)-1].Sequence)
	c.expirations.Add(int64(len(expired)))
	for _, r := range expired {
		if c.o.Refresh != nil && r.hits.Load() >= Popular {
			c.o.Refresh(r)
		}
	}
	return expired
}

// commits takes changes apart by their commits.
func commits(changes []content.Change) iter.Seq[[]*content.Change] {
	return func(yield func([]*content.Change) bool) {
		var commit []*content.Change
		for i := range changes {
			commit = append(commit, &changes[i])
			if last := i == len(changes)-1; last || changes[i+1].Commit != changes[i].Commit {
				if !yield(commit) {
					return
				}
				commit = nil
			}
		}
	}
}

func (c *Cache) match(commit ...*content.Change) []*Response {
	out, moved := c.index.Match(commit...)
	for _, one := range moved {
		one.Subscriber.endBy(one.Deadline)
	}
	return out
}

// hitBy returns what a commit may affect, and how many are kept through a change of
// the model, which is the first of its commit.
func (c *Cache) hitBy(commit []*content.Change, match func(...*content.Change) []*Response) (out []*Response, kept int) {
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
func (c *Cache) Simulate(changes []content.Change) []*Response {
	var out []*Response
	seen := map[*Response]bool{}
	for commit := range commits(changes) {
		hit, _ := c.hitBy(commit, c.index.Supposing)
		for _, r := range hit {
			if !seen[r] && r.expired.Load() == 0 {
				seen[r] = true
				out = append(out, r)
			}
		}
	}
	return out
}

// Asks returns what must be known of the entries that changed, as of after the
// changes, to tell what they affect.
func (c *Cache) Asks(change *content.Change) []depend.Ask { return c.index.Asks(change) }

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
	c.applied.Store(at)
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
func (c *Cache) Uses(r *Response) []depend.Use { return c.index.Uses(depend.Handle(r.handle.Load())) }

// Dependencies returns what a response was made of.
func (c *Cache) Dependencies(r *Response) *depend.Set {
	return c.index.Set(depend.Handle(r.handle.Load()))
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
	Purged      int64  `json:"purged"`
	Kept        int64  `json:"kept"`  // through a change of the model
	Stale       int64  `json:"stale"` // served although known to be expired
	Subscribers int    `json:"subscribers"`
	Applied     int64  `json:"applied"`
}

// Stats returns the present figures.
func (c *Cache) Stats() Stats {
	bytes := uint64(max(0, c.bytes()))
	return Stats{Responses: c.held.EstimatedSize(), Bytes: bytes, Limit: c.limit, Hits: c.hits.Load(), Misses: c.misses.Load(),
		Joined: c.joined.Load(), Stored: c.stored.Load(), Expired: c.expirations.Load(), Evicted: c.evicted.Load(), Refused: c.refused.Load(),
		Purged: c.purged.Load(), Kept: c.kept.Load(), Stale: c.stale.Load(), Subscribers: c.index.Len(), Applied: c.applied.Load()}
}
