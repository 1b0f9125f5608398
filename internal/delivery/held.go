package delivery

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/store/db"
)

// CacheEntry describes a response of the cache.
func (d *Service) CacheEntry(r *cache.Response) api.CacheEntry {
	out := api.CacheEntry{
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

// Entries lists answers of this node's cache, the most asked for first, so many at most.
func (d *Service) Entries(q api.CacheQuery, limit int) api.CacheEntries {
	order := cache.ByHits
	switch q.Sort {
	case "bytes":
		order = func(a, b *cache.Response) int { return b.Bytes() - a.Bytes() }
	case "age":
		order = func(a, b *cache.Response) int { return a.Made().Compare(b.Made()) }
	}
	out := api.CacheEntries{Items: []api.CacheEntry{}, ByType: map[string]api.CacheSum{}}
	for _, r := range d.cache.First(limit, order, func(r *cache.Response) bool {
		if !d.matches(q, r) {
			return false
		}
		out.Total++
		for _, t := range d.typesOf(r) {
			sum := out.ByType[t]
			out.ByType[t] = api.CacheSum{
				Answers: sum.Answers + 1, Bytes: sum.Bytes + r.Bytes(), Hits: sum.Hits + r.Hits(),
			}
		}
		return true
	}) {
		out.Items = append(out.Items, d.CacheEntry(r))
	}
	return out
}

func (d *Service) matches(q api.CacheQuery, r *cache.Response) bool {
	return (q.Edition == "" || r.Edition == q.Edition) && (q.Key == "" || r.Key() == q.Key) &&
		strings.Contains(r.Asked, q.Search) &&
		(q.Type == "" || slices.Contains(d.typesOf(r), q.Type)) &&
		(q.Entry == "" || slices.ContainsFunc(d.cache.Dependencies(r).Entries,
			func(e invalidation.Entry) bool { return e.ID == q.Entry }))
}

// ExplainEntry says what an answer of the cache was made of, by its key. Its error is
// db.ErrNotFound.
func (d *Service) ExplainEntry(ctx context.Context, key string) (api.ExplainedEntry, error) {
	r := d.cache.Lookup(key)
	if r == nil {
		return api.ExplainedEntry{}, fmt.Errorf("an answer with the key %s: %w", key, db.ErrNotFound)
	}
	e := api.Examined{Dependencies: d.cache.Dependencies(r)}
	err := d.NameDependencies(ctx, &e)
	return api.ExplainedEntry{CacheEntry: d.CacheEntry(r), Dependencies: e.Dependencies, Titles: e.Titles}, err
}

// Purge throws away the answers that are meant and returns how many there were.
func (d *Service) Purge(q api.CacheQuery) int {
	return d.cache.Purge(func(r *cache.Response) bool { return d.matches(q, r) })
}
