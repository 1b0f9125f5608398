package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
)

// Stats returns what the cache has done.
func (cs *Cache) Stats(ctx context.Context) (out api.CacheStats, err error) {
	return out, cs.c.call(ctx, http.MethodGet, "/cache", nil, &out)
}

// Entries lists answers of the node's cache.
func (cs *Cache) Entries(ctx context.Context, q api.CacheQuery, limit int) (out api.CacheEntries, err error) {
	return out, cs.c.call(
		ctx,
		http.MethodGet,
		"/cache/answers?"+query(api.CacheListing{
			Edition: q.Edition, Type: q.Type, Entry: q.Entry, Search: q.Search, Sort: q.Sort, Limit: limit,
		}),
		nil,
		&out,
	)
}

// Explain says what an answer of the cache was made of, by its key.
func (cs *Cache) Explain(ctx context.Context, key string) (out api.ExplainedEntry, err error) {
	return out, cs.c.call(ctx, http.MethodGet, "/cache/answers/"+url.PathEscape(key), nil, &out)
}

// Purge throws away the cached answers that are meant and returns how many there
// were.
func (cs *Cache) Purge(ctx context.Context, q api.CacheQuery) (int, error) {
	var out api.CachePurged
	err := cs.c.call(ctx, http.MethodPost, "/cache/purge", q, &out)
	if out.Purged == nil {
		return 0, err
	}
	return *out.Purged, err
}

// Warm has answers computed before anybody asks: to requests, to so many of the
// hottest, and, with everywhere, to the requests that have {path} in them for every
// path of the site.
func (cs *Cache) Warm(
	ctx context.Context, requests []string, hottest int, everywhere bool,
) ([]api.Warmed, error) {
	var out api.Items[api.Warmed]
	err := cs.c.call(
		ctx, http.MethodPost, "/cache/warm",
		api.CacheWarming{Requests: requests, Hottest: hottest, Paths: everywhere}, &out,
	)
	return out.Items, err
}

// Nodes lists the nodes of the environment.
func (cs *Cache) Nodes(ctx context.Context) ([]api.NodeState, error) {
	var out api.Items[api.NodeState]
	err := cs.c.call(ctx, http.MethodGet, "/nodes", nil, &out)
	return out.Items, err
}

// Downstream lists the caches that are told of what changes.
func (cs *Cache) Downstream(ctx context.Context) ([]api.Downstream, error) {
	var out api.Items[api.Downstream]
	err := cs.c.call(ctx, http.MethodGet, "/downstream", nil, &out)
	return out.Items, err
}

// Changes lists changes of the log, the newest first.
func (es *Entries) Changes(ctx context.Context, entry string, below int64, limit int) ([]content.Change, error) {
	var out api.Items[content.Change]
	err := es.c.call(
		ctx, http.MethodGet,
		"/changes?"+query(api.ChangeFilter{Entry: entry, Below: below, Limit: limit}), nil, &out,
	)
	return out.Items, err
}

// Change returns one change of the log.
func (es *Entries) Change(ctx context.Context, sequence int64) (out api.ChangeDetail, err error) {
	return out, es.c.call(ctx, http.MethodGet, fmt.Sprintf("/changes/%d", sequence), nil, &out)
}

// Simulate says what publishing or unpublishing an entry would expire and rebuild; or
// what a change that was made would.
func (es *Entries) Simulate(ctx context.Context, entry, what string,
	change int64,
) (out api.Simulation, err error) {
	return out, es.c.call(
		ctx, http.MethodPost, "/changes/simulate", api.SimulatedChange{Entry: entry, What: what, Change: change},
		&out,
	)
}
