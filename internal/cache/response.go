package cache

import (
	"slices"
	"sync/atomic"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/invalidation"
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

	addresses atomic.Pointer[[]string] // see NoteAddress

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
	// While it is recomputed.
	While time.Duration
	// IfError: when computing it again fails.
	IfError time.Duration
}

// overhead is about what a held response takes besides its body and what it
// depends on.
const overhead = 440

func (r *Response) weigh(deps *invalidation.Set) {
	r.deps = uint32(deps.Size())
	r.weight = uint32(min(len(r.Body)+len(r.Body)/16+len(r.Asked)+len(r.key)+int(r.deps)+overhead, 1<<31))
}

// addressBytes bounds the addresses that are noted of one response, in bytes.
const addressBytes = 1 << 10

// NoteAddress notes an address under which others may hold the response. Of one that is
// asked for in more ways than can be noted, AnyAddress is.
func (r *Response) NoteAddress(address string) {
	for {
		noted := r.addresses.Load()
		var all []string
		if noted != nil {
			all = *noted
		}
		if slices.Contains(all, address) || slices.Contains(all, AnyAddress) {
			return
		}
		length := len(address)
		for _, one := range all {
			length += len(one)
		}
		if length > addressBytes {
			address = AnyAddress
		}
		next := append(slices.Clip(all), address)
		if r.addresses.CompareAndSwap(noted, &next) {
			return
		}
	}
}

// AnyAddress stands for addresses that are not known.
const AnyAddress = "*"

// Addresses are those under which others may hold the response.
func (r *Response) Addresses() []string {
	if noted := r.addresses.Load(); noted != nil {
		return *noted
	}
	return nil
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

// endBy lets the response end at a time of the database's clock; zero: never.
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
