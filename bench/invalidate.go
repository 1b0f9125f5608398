package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"strconv"
	"time"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/invalidation"
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
	unique       int            // how long a body of its own each has; 0 for the one of all
	encoded      bool           // it is asked for in all encodings
	body         *cache.Content // of all of them: only what is held beside it is of interest
}

const (
	filterCount = 1000
	unbounded   = 16 << 30
)

var byID = []invalidation.Sort{}

func newBulk(m *model.Model, n, documents int, equal bool, bound uint64) (*bulk, error) {
	b := &bulk{
		n:         n,
		documents: documents,
		header:    map[string][]string{"Content-Type": {"application/json"}},
		body:      cache.NewContent([]byte("{}")),
	}
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
	b.cache = cache.New(cache.Options{Bytes: bound}, 1)
	return b, nil
}

// fill stores all of them.
func (b *bulk) fill() error {
	for i := range b.n {
		if err := b.store(i, 1); err != nil {
			return err
		}
	}
	return nil
}

// store puts a response into the cache. Each document is read by ten of them.
func (b *bulk) store(i int, sequence int64) error {
	set := &invalidation.Set{
		Edition: content.Published,
		Lookups: []invalidation.Lookup{{Type: "notice", Locale: "en", Slug: "slug-" + strconv.Itoa(i)}},
	}
	for j := range b.documents {
		set.Entries = append(
			set.Entries, invalidation.Entry{ID: b.document(i, j), Locale: "en", Fields: []string{"about.path", "title"}},
		)
	}
	page := i / filterCount % 20
	l := invalidation.List{
		Type:   "notice",
		Locale: "en",
		Filter: b.filters[i%filterCount],
		Sort:   byID,
		Window: invalidation.Window{Limit: 10, Beyond: 3, StatesSize: true},
	}
	for j := range 13 { // three are past the page
		l.Window.Rows = append(l.Window.Rows, invalidation.NewSortKey(byID, nil, fmt.Sprintf("a%04d", page*10+j)))
	}
	if page > 0 {
		l.Window.After = invalidation.NewSortKey(byID, nil, fmt.Sprintf("a%04d", page*10-1))
	}
	set.Lists = []invalidation.List{l}
	var stored *cache.Response
	err := b.cache.Renew(
		context.Background(),
		cache.Request{Key: strconv.Itoa(i)},
		func(context.Context) (*cache.Response, *invalidation.Set, error) {
			content := b.body
			if b.unique > 0 {
				content = cache.NewContent(b.words(i))
			}
			stored = &cache.Response{Status: 200, Header: b.header, Content: content, Sequence: sequence}
			return stored, set, nil
		},
	)
	if err == nil && b.encoded && stored != nil {
		for e := cache.Brotli; e <= cache.Gzip; e++ {
			stored.Encoded(e)
		}
	}
	return err
}

// words are a body, of which encodings make half as much.
func (b *bulk) words(i int) []byte {
	out := make([]byte, 0, b.unique+20)
	for r := rand.New(rand.NewPCG(uint64(i), 4)); len(out) < b.unique; {
		out = fmt.Appendf(out, "%x ", r.Uint32())
	}
	return out[:b.unique]
}

// document is the jth that the ith response was made of.
func (b *bulk) document(i, j int) string {
	per := max(1, b.n/10)
	return "d" + strconv.Itoa(j*per+i%per)
}

// invalidate measures how long it takes to find and expire what one change affects,
// and what cached responses take.
func (y *harness) invalidate(context.Context) error {
	m, err := readModel(invalidateModel)
	if err != nil {
		return err
	}
	for _, equal := range []bool{true, false} {
		for _, n := range []int{10_000, 100_000, 1_000_000} {
			b, err := newBulk(m, n, 10, equal, unbounded)
			if err == nil {
				err = b.fill()
			}
			if err != nil {
				return err
			}
			runtime.GC()
			var took []time.Duration
			for i := range 400 {
				sequence := int64(i + 2)
				values := content.Fields{
					"slug":   "x",
					"title":  "T",
					"code":   "c" + strconv.Itoa(i),
					"number": float64(500),
				}
				c := content.Change{
					Kind:     content.ContentChange,
					Edition:  content.Published,
					Entry:    b.document(i*7, i%10),
					Type:     "notice",
					Sequence: sequence,
					Commit:   sequence,
					At:       time.Now(),
					Fields: map[string][]string{
						"en": {"title"},
					},
					Before: map[string]content.Fields{"en": values},
					After:  map[string]content.Fields{"en": values},
				}
				begin := time.Now()
				hit := b.cache.Apply(invalidation.Deltas(c))
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
			fmt.Printf(
				"  %9d responses, %s: one change that affects ten, p50 %v, p99 %v\n", n, what, took[len(took)/2],
				took[len(took)*99/100],
			)
			b.cache.Purge(nil)
		}
	}
	for _, documents := range []int{10, 58} {
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		const n = 200_000
		b, err := newBulk(m, n, documents, true, unbounded)
		if err == nil {
			err = b.fill()
		}
		if err != nil {
			return err
		}
		runtime.GC()
		runtime.ReadMemStats(&after)
		fmt.Printf(
			"  %d dependencies each: %d bytes a response beside its body and request (the cache counts %d)\n",
			documents+2, (after.HeapAlloc-before.HeapAlloc)/n, b.cache.Stats().Bytes/n,
		)
		runtime.KeepAlive(b)
	}
	for _, body := range []int{0, 400, 4000} {
		if err := y.bounded(m, body, false); err != nil {
			return err
		}
	}
	return y.bounded(m, 4000, true)
}

// bounded fills a cache over its bound, several times over, and measures what it
// takes then.
func (y *harness) bounded(m *model.Model, body int, encoded bool) error {
	const bound = 128 << 20
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	b, err := newBulk(m, 1_000_000, 10, true, bound) // of all of them; it is empty
	if err != nil {
		return err
	}
	b.unique, b.encoded = body, encoded
	for i := range 3 * bound / (800 + body) {
		if err := b.store(i*7919%b.n, 1); err != nil {
			return err
		}
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	took := int64(after.HeapAlloc) - int64(before.HeapAlloc)
	what := ""
	if encoded {
		what = ", each asked for in three encodings"
	}
	fmt.Printf(
		"  bodies of %d bytes of their own%s, %d MiB at most: %d responses take %.1f MiB (%.2f of the bound), by "+
			"its own count %.1f\n",
		body, what, bound>>20, b.cache.Stats().Responses, float64(took)/(1<<20), float64(took)/bound,
		float64(b.cache.Stats().Bytes)/(1<<20),
	)
	runtime.KeepAlive(b)
	return nil
}
