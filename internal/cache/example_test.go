package cache_test

import (
	"context"
	"fmt"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
)

// A read is computed once and held until a change affects it.
func ExampleCache() {
	c := cache.New(cache.Options{}, 10)
	mella := invalidation.Entry{ID: "mella", Locale: "en", Fields: []string{"name"}}
	compute := func(context.Context) (*cache.Response, *invalidation.Set, error) {
		r := &cache.Response{
			Status: 200, Content: cache.NewContent([]byte(`{"name":"Mella"}`)), Edition: content.Published, Sequence: c.Applied(),
		}
		return r, &invalidation.Set{Edition: content.Published, Entries: []invalidation.Entry{mella}}, nil
	}
	read := func() {
		_, outcome, err := c.Read(context.Background(), cache.Request{Key: "pier mella"}, compute)
		fmt.Println(outcome == cache.Hit, err)
	}
	read()
	read()
	fields := content.Fields{"slug": "mella"}
	expired := c.Apply(invalidation.Deltas(content.Change{
		Kind: content.ContentChange, Sequence: 11, Commit: 11, Edition: content.Published, Entry: "mella",
		Type: "pier", Fields: map[string][]string{"en": {"name"}},
		Before: map[string]content.Fields{"en": fields}, After: map[string]content.Fields{"en": fields},
	}))
	fmt.Println(len(expired), "expired")
	read()
	// Output:
	// false <nil>
	// true <nil>
	// 1 expired
	// false <nil>
}
