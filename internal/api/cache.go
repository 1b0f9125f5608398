package api

import (
	"time"

	"ubiquon/internal/core/invalidation"
)

// Stats is what the cache has done since it began.
type CacheStats struct {
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

// Downstream is how far a cache downstream has been told of what changed.
type Downstream struct {
	Name string `json:"name"`
	// Sequence up to which it knows, and how many changes are behind that.
	Sequence int64 `json:"sequence"`
	Behind   int64 `json:"behind"`
	// Told is when it took a call last; Calls is how many it took in all.
	Told  *time.Time `json:"told,omitempty"`
	Calls int64      `json:"calls"`
	// Attempts failed since, the last of them with Failed; the next is at Next.
	Attempts int        `json:"attempts,omitempty"`
	Failed   string     `json:"failed,omitempty"`
	Next     *time.Time `json:"next,omitempty"`
}

// CacheEntry is an answer in this node's cache.
type CacheEntry struct {
	Key      string    `json:"key"`
	Asked    string    `json:"asked"`
	Edition  string    `json:"edition"`
	Status   int       `json:"status"`
	Bytes    int       `json:"bytes"` // with what it takes besides its body
	Body     int       `json:"body"`
	Hits     int       `json:"hits"`
	Sequence int64     `json:"sequence"`
	Made     time.Time `json:"made"`
	// Ends is when it is over by itself, if it depends on the time.
	Ends *time.Time `json:"ends,omitempty"`
	// Types that it was read of.
	Types []string `json:"types"`
}

// CacheQuery says which answers of the cache are meant: all conditions that are
// given must hold.
type CacheQuery struct {
	Edition string `json:"edition,omitempty"`
	Type    string `json:"type,omitempty"`
	// Entry that something was read of, in whatever edition and locale.
	Entry string `json:"entry,omitempty"`
	// Search is a part of the request.
	Search string `json:"search,omitempty"`
	Key    string `json:"key,omitempty"`
	// Sort: hits, bytes or age; the default is hits.
	Sort string `json:"sort,omitempty"`
}

// CacheSum is what the answers come to that were read of a type.
type CacheSum struct {
	Answers int `json:"answers"`
	Bytes   int `json:"bytes"`
	Hits    int `json:"hits"`
}

// CacheEntries are answers of this node's cache: some, how many there are, and what
// those of each type come to.
type CacheEntries struct {
	Items  []CacheEntry        `json:"items"`
	Total  int                 `json:"total"`
	ByType map[string]CacheSum `json:"byType"`
}

// ExplainedEntry is an answer of the cache with what it was made of.
type ExplainedEntry struct {
	CacheEntry
	Dependencies *invalidation.Set `json:"dependencies"`
	Titles       map[string]string `json:"titles,omitempty"`
}

// Warmed says what became of a request that was to be computed ahead.
type Warmed struct {
	Request string `json:"request"`
	Error   string `json:"error,omitempty"`
}

// CacheListing says which answers of the node's cache are listed.
type CacheListing struct {
	Edition string `query:"edition" json:"-"`
	Type    string `query:"type"    json:"-"`
	// Entry that something was read of, in whatever edition and locale.
	Entry string `query:"entry"   json:"-"`
	// Search is a part of the request.
	Search string `query:"search"  json:"-"`
	// Sort is hits (the default), bytes or age.
	Sort string `query:"sort"    json:"-" enum:"hits,bytes,age"`
	// Limit is 100 if it is not given, and 1000 at most.
	Limit int `query:"limit"   json:"-"`
}

// CacheKey names an answer of the node's cache.
type CacheKey struct {
	Key string `path:"key" json:"-"`
}

// CachePurge says which answers of this node are thrown away. Without conditions these are all.
type CachePurge struct {
	CacheQuery
	// Check only counts them.
	Check bool `json:"check,omitempty"`
}

// CachePurged says how many answers were thrown away, or would be.
type CachePurged struct {
	Purged *int `json:"purged,omitempty"`
	Would  *int `json:"would,omitempty"`
}

// CacheWarming has answers computed before anybody asks.
type CacheWarming struct {
	// Requests are addresses below /content/, or from the plural on.
	Requests []string `json:"requests,omitempty"`
	// Hottest computes so many of those that are asked most, if they are not held.
	Hottest int `json:"hottest,omitempty"`
	// Paths computes requests with {path} in them for each path of the site.
	Paths bool `json:"paths,omitempty"`
}

// ChangeFilter says which changes are listed.
type ChangeFilter struct {
	Entry string `query:"entry" json:"-"`
	// Below lists the changes before the one with this sequence.
	Below int64 `query:"below" json:"-"`
	// Limit is 50 if it is not given, and 500 at most.
	Limit int `query:"limit" json:"-"`
}

// ChangeRef names a change.
type ChangeRef struct {
	Sequence int64 `path:"sequence" json:"-"`
}

// SimulatedChange is a change that is not made: of an entry, or one of the log.
type SimulatedChange struct {
	Entry string `json:"entry,omitempty"`
	// What happens to the entry: publish (the default) or unpublish.
	What string `json:"what,omitempty"`
	// Change is the sequence of a change that was made.
	Change int64 `json:"change,omitempty"`
}

// HistorySpan says how far back the history goes.
type HistorySpan struct {
	// Span is hour (in steps of a minute), day (of ten minutes) or week (of an hour); without
	// it, hour.
	Span string `query:"span" json:"-" enum:"hour,day,week"`
}

// CacheSample is what all nodes did over one step of the history.
type CacheSample struct {
	// At is the beginning of the step.
	At      time.Time `json:"at"`
	Hits    int64     `json:"hits"`
	Misses  int64     `json:"misses"`
	Expired int64     `json:"expired"`
	// Held and Bytes are what the caches held at most.
	Held  int    `json:"held"`
	Bytes uint64 `json:"bytes"`
	// P50 and P99 are the times of reads, in milliseconds; 0 where there were none.
	P50 float64 `json:"p50ms"`
	P99 float64 `json:"p99ms"`
}
