package delivery

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/store/db"
)

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

// CacheEntry describes a response of the cache.
func (d *Service) CacheEntry(r *cache.Response) CacheEntry {
	out := CacheEntry{
		Key:      r.Key(),
		Asked:    DisplayText(r.Asked),
		Edition:  r.Edition,
		Status:   r.Status,
		Bytes:    r.Bytes(),
		Body:     len(r.Body),
		Hits:     r.Hits(),
		Sequence: r.Sequence,
		Made:     r.Made(),
		Types:    []string{},
	}
	if ends := r.Ends(); !ends.IsZero() {
		out.Ends = &ends
	}
	out.Types = append(out.Types, d.typesOf(r)...)
	return out
}

// typesOf lists the types that an answer was read of.
func (d *Service) typesOf(r *cache.Response) []string {
	var out []string
	for _, u := range d.cache.Uses(r) {
		if u.Type != "" && !slices.Contains(out, u.Type) {
			out = append(out, u.Type)
		}
	}
	return out
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

// Entries lists answers of this node's cache, the most asked for first, so many at most.
func (d *Service) Entries(q CacheQuery, limit int) CacheEntries {
	order := cache.ByHits
	switch q.Sort {
	case "bytes":
		order = func(a, b *cache.Response) int { return b.Bytes() - a.Bytes() }
	case "age":
		order = func(a, b *cache.Response) int { return a.Made().Compare(b.Made()) }
	}
	out := CacheEntries{Items: []CacheEntry{}, ByType: map[string]CacheSum{}}
	for _, r := range d.cache.First(limit, order, func(r *cache.Response) bool {
		if !d.matches(q, r) {
			return false
		}
		out.Total++
		for _, t := range d.typesOf(r) {
			sum := out.ByType[t]
			out.ByType[t] = CacheSum{sum.Answers + 1, sum.Bytes + r.Bytes(), sum.Hits + r.Hits()}
		}
		return true
	}) {
		out.Items = append(out.Items, d.CacheEntry(r))
	}
	return out
}

func (d *Service) matches(q CacheQuery, r *cache.Response) bool {
	return (q.Edition == "" || r.Edition == q.Edition) && (q.Key == "" || r.Key() == q.Key) &&
		strings.Contains(r.Asked, q.Search) &&
		(q.Type == "" || slices.Contains(d.typesOf(r), q.Type)) &&
		(q.Entry == "" || slices.ContainsFunc(d.cache.Dependencies(r).Entries,
			func(e invalidation.Entry) bool { return e.ID == q.Entry }))
}

// ExplainedEntry is an answer of the cache with what it was made of.
type ExplainedEntry struct {
	CacheEntry
	Dependencies *invalidation.Set `json:"dependencies"`
	Titles       map[string]string `json:"titles,omitempty"`
}

// ExplainEntry says what an answer of the cache was made of, by its key. Its error is
// db.ErrNotFound.
func (d *Service) ExplainEntry(ctx context.Context, key string) (ExplainedEntry, error) {
	r := d.cache.Lookup(key)
	if r == nil {
		return ExplainedEntry{}, fmt.Errorf("an answer with the key %s: %w", key, db.ErrNotFound)
	}
	e := Examined{Dependencies: d.cache.Dependencies(r)}
	err := d.NameDependencies(ctx, &e)
	return ExplainedEntry{d.CacheEntry(r), e.Dependencies, e.Titles}, err
}

// Purge throws away the answers that are meant and returns how many there were.
func (d *Service) Purge(q CacheQuery) int {
	return d.cache.Purge(func(r *cache.Response) bool { return d.matches(q, r) })
}
