package depend

import (
	"sync"

	"ubiquon/internal/core/content"
)

// Index finds who is affected by a change without asking everybody. It is
// generic over its subscribers. It may be used by many at once.
type Index[S comparable] struct {
	mu      sync.Mutex
	sets    map[S]*Set
	entries map[entryKey]map[S]struct{}
	lookups map[lookupKey]map[S]struct{}
	lists   map[listKey]map[S]struct{}
	paths   map[pathKey]map[S]struct{}
	backs   map[backKey]map[S]struct{}
}

type (
	entryKey  struct{ edition, id, locale string }
	lookupKey struct{ edition, typ, locale, slug string }
	listKey   struct{ edition, typ, locale string }
	pathKey   struct{ edition, locale, path string }
	backKey   struct{ edition, typ, locale, field, target string }
)

// NewIndex returns an empty index.
func NewIndex[S comparable]() *Index[S] {
	return &Index[S]{sets: map[S]*Set{}, entries: map[entryKey]map[S]struct{}{}, lookups: map[lookupKey]map[S]struct{}{}, lists: map[listKey]map[S]struct{}{},
		paths: map[pathKey]map[S]struct{}{}, backs: map[backKey]map[S]struct{}{}}
}

// Add subscribes s to what affects the set. The set must not change afterwards.
func (x *Index[S]) Add(s S, set *Set) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.sets[s] = set
	for _, e := range set.Entries {
		post(x.entries, entryKey{set.Edition, e.ID, e.Locale}, s)
	}
	for _, l := range set.Lookups {
		if l.Path != "" {
			post(x.paths, pathKey{set.Edition, l.Locale, l.Path}, s)
		} else {
			post(x.lookups, lookupKey{set.Edition, l.Type, l.Locale, l.Slug}, s)
		}
	}
	for _, b := range set.Backs {
		post(x.backs, backKey{set.Edition, b.Type, b.Locale, b.Field, b.Target}, s)
	}
	for _, l := range set.Lists {
		post(x.lists, listKey{set.Edition, l.Type, l.Locale}, s)
	}
}

// Remove ends a subscription. Removing twice does no harm.
func (x *Index[S]) Remove(s S) {
	x.mu.Lock()
	defer x.mu.Unlock()
	set := x.sets[s]
	if set == nil {
		return
	}
	delete(x.sets, s)
	for _, e := range set.Entries {
		drop(x.entries, entryKey{set.Edition, e.ID, e.Locale}, s)
	}
	for _, l := range set.Lookups {
		if l.Path != "" {
			drop(x.paths, pathKey{set.Edition, l.Locale, l.Path}, s)
		} else {
			drop(x.lookups, lookupKey{set.Edition, l.Type, l.Locale, l.Slug}, s)
		}
	}
	for _, b := range set.Backs {
		drop(x.backs, backKey{set.Edition, b.Type, b.Locale, b.Field, b.Target}, s)
	}
	for _, l := range set.Lists {
		drop(x.lists, listKey{set.Edition, l.Type, l.Locale}, s)
	}
}

// Match returns every subscriber that the change may affect, each once.
func (x *Index[S]) Match(c *content.Change) []S {
	x.mu.Lock()
	defer x.mu.Unlock()
	var out []S
	if c.Kind == content.ModelChange {
		for s := range x.sets {
			out = append(out, s)
		}
		return out
	}
	seen := map[S]struct{}{}
	consider := func(bucket map[S]struct{}) {
		for s := range bucket {
			if _, done := seen[s]; done {
				continue
			}
			seen[s] = struct{}{}
			if x.sets[s].Affected(c) {
				out = append(out, s)
			}
		}
	}
	for locale := range c.Fields {
		consider(x.entries[entryKey{c.Edition, c.Entry, locale}])
		consider(x.lists[listKey{c.Edition, c.Type, locale}])
		was, is := slugOf(c.Before[locale]), slugOf(c.After[locale])
		if was != is {
			consider(x.lookups[lookupKey{c.Edition, c.Type, locale, was}])
			consider(x.lookups[lookupKey{c.Edition, c.Type, locale, is}])
		}
		if was, is := pathOf(c.Before[locale]), pathOf(c.After[locale]); was != is {
			consider(x.paths[pathKey{c.Edition, locale, was}])
			consider(x.paths[pathKey{c.Edition, locale, is}])
		}
		if len(x.backs) == 0 {
			continue
		}
		for _, values := range []content.Fields{c.Before[locale], c.After[locale]} {
			for field, v := range values {
				x.backsOf(c, locale, field, v, consider)
			}
		}
	}
	return out
}

// Reading returns who has read something of an entry in an edition and a locale.
func (x *Index[S]) Reading(edition, entry, locale string) []S {
	x.mu.Lock()
	defer x.mu.Unlock()
	var out []S
	for s := range x.entries[entryKey{edition, entry, locale}] {
		out = append(out, s)
	}
	return out
}

// backsOf considers who has read the entries that refer to what the value names.
func (x *Index[S]) backsOf(c *content.Change, locale, field string, v any, consider func(map[S]struct{})) {
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	for _, one := range list {
		if target, ok := one.(string); ok {
			consider(x.backs[backKey{c.Edition, c.Type, locale, field, target}])
		}
	}
}

// Len returns how many are subscribed.
func (x *Index[S]) Len() int {
	x.mu.Lock()
	defer x.mu.Unlock()
	return len(x.sets)
}

func post[K, S comparable](m map[K]map[S]struct{}, key K, s S) {
	bucket := m[key]
	if bucket == nil {
		bucket = map[S]struct{}{}
		m[key] = bucket
	}
	bucket[s] = struct{}{}
}

func drop[K, S comparable](m map[K]map[S]struct{}, key K, s S) {
	bucket := m[key]
	delete(bucket, s)
	if len(bucket) == 0 {
		delete(m, key)
	}
}
