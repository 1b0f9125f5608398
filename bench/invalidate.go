package main

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"strconv"
	"time"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/depend"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/model"
)

const invalidateModel = `
locales: {en: {}}
types:
  notice:
    fields:
      title:  {kind: text}
      slug:   {kind: slug}
      code:   {kind: text}
      number: {kind: integer}
`

// bulk is a cache full of responses, each made of so many documents, of one page of
// one of a thousand filtered lists, and of one search for a slug.
type bulk struct {
	n, documents int
	filters      []*filter.Filter
	cache        *cache.Cache
	header       map[string][]string
}

const filterCount = 1000

var byID = []depend.Sort{}

func newBulk(m *model.Model, n, documents int, equal bool) (*bulk, error) {
	b := &bulk{n: n, documents: documents, header: map[string][]string{"Content-Type": {"application/json"}}}
	for k := range filterCount {
		text := "number >= " + strconv.Itoa(k)
		if equal {
			text = "code = 'c" + strconv.Itoa(k) + "' AND number >= 0"
		}
		f, err := filter.Parse(text, m, m.Type("notice"))
		if err != nil {
			return nil, err
		}
		b.filters = append(b.filters, f)
	}
	b.cache = cache.New(cache.Options{Bytes: 16 << 30}, 1)
	for i := range n {
		if err := b.store(i, 1); err != nil {
			return nil, err
		}
	}
	return b, nil
}

// store puts a response into the cache. Each document is read by ten of them.
func (b *bulk) store(i int, sequence int64) error {
	set := &depend.Set{Edition: content.Published, Lookups: []depend.Lookup{{Type: "notice", Locale: "en", Slug: "slug-" + strconv.Itoa(i)}}}
	for j := range b.documents {
		set.Entries = append(set.Entries, depend.Entry{ID: b.document(i, j), Locale: "en", Fields: []string{"about.path", "title"}})
	}
	page := i / filterCount % 20
	l := depend.List{Type: "notice", Locale: "en", Filter: b.filters[i%filterCount], Sort: byID, Window: depend.Window{Limit: 10, Tells: true}}
	for j := range 13 { // three are past the page
		l.Window.Rows = append(l.Window.Rows, depend.PlaceOf(byID, nil, fmt.Sprintf("a%04d", page*10+j)))
	}
	if page > 0 {
		l.Window.After = depend.PlaceOf(byID, nil, fmt.Sprintf("a%04d", page*10-1))
	}
	set.Lists = []depend.List{l}
	return b.cache.Renew(context.Background(), strconv.Itoa(i), func(context.Context) (*cache.Response, *depend.Set, error) {
		return &cache.Response{Status: 200, Header: b.header, ETag: []string{strconv.Itoa(i)}, Length: []string{"0"}, Sequence: sequence}, set, nil
	})
}

// document is the jth that the ith response was made of.
func (b *bulk) document(i, j int) string {
	per := max(1, b.n/10)
	return "d" + strconv.Itoa(j*per+i%per)
}

// invalidate measures how long it takes to find and expire what one change affects,
// and what cached responses take.
func (y *yard) invalidate(context.Context) error {
	m, err := readModel(invalidateModel)
	if err != nil {
		return err
	}
	for _, equal := range []bool{true, false} {
		for _, n := range []int{10_000, 100_000, 1_000_000} {
			b, err := newBulk(m, n, 10, equal)
			if err != nil {
				return err
			}
			runtime.GC()
			var took []time.Duration
			for i := range 400 {
				sequence := int64(i + 2)
				values := content.Fields{"slug": "x", "title": "T", "code": "c" + strconv.Itoa(i), "number": float64(500)}
				c := content.Change{Kind: content.ContentChange, Edition: content.Published, Entry: b.document(i*7, i%10), Type: "notice", Sequence: sequence, Commit: sequence, At: time.Now(),
					Fields: map[string][]string{"en": {"title"}}, Before: map[string]content.Fields{"en": values}, After: map[string]content.Fields{"en": values}}
				begin := time.Now()
				hit := b.cache.Apply([]content.Change{c})
				took = append(took, time.Since(begin))
				if len(hit) != 10 {
					return fmt.Errorf("a change of %s affects %d responses, not 10", c.Entry, len(hit))
				}
				per := max(1, n/10)
				for k := range 10 {
					if err := b.store(i*7%per+k*per, sequence); err != nil {
						return err
					}
				}
			}
			slices.Sort(took)
			what := "filters of ranges, tried one by one"
			if equal {
				what = "filters found by an equality"
			}
			fmt.Printf("  %9d responses, %s: one change that affects ten, p50 %v, p99 %v\n", n, what, took[len(took)/2], took[len(took)*99/100])
			b.cache.Purge(nil)
		}
	}
	for _, documents := range []int{10, 58} {
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		const n = 200_000
		b, err := newBulk(m, n, documents, true)
		if err != nil {
			return err
		}
		runtime.GC()
		runtime.ReadMemStats(&after)
		fmt.Printf("  %d dependencies each: %d bytes a response beside its body and request (the cache counts %d)\n", documents+2, (after.HeapAlloc-before.HeapAlloc)/n, b.cache.Stats().Bytes/n)
		runtime.KeepAlive(b)
	}
	return nil
}
