package gateway

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/depend"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/store"
)

// HeldAnswer is an answer in this node's cache.
type HeldAnswer struct {
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

func (g *Gateway) heldAnswer(r *cache.Response) HeldAnswer {
	out := HeldAnswer{Key: r.Key(), Asked: asked(r.Asked), Edition: r.Edition, Status: r.Status, Bytes: r.Bytes(), Body: len(r.Body), Hits: r.Hits(), Sequence: r.Sequence, Made: r.Made(), Types: []string{}}
	if ends := r.Ends(); !ends.IsZero() {
		out.Ends = &ends
	}
	for _, u := range g.cache.Dependencies(r).Uses {
		if u.Type != "" && !slices.Contains(out.Types, u.Type) {
			out.Types = append(out.Types, u.Type)
		}
	}
	return out
}

// HeldQuery says which answers of the cache are meant: all conditions that are
// given must hold.
type HeldQuery struct {
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

// Held lists answers of this node's cache, the most asked for first, so many at
// most, and says how many there are.
func (g *Gateway) Held(q HeldQuery, limit int) ([]HeldAnswer, int) {
	all := slices.DeleteFunc(g.cache.All(), func(r *cache.Response) bool { return !g.meant(q, r) })
	switch q.Sort {
	case "bytes":
		slices.SortStableFunc(all, func(a, b *cache.Response) int { return b.Bytes() - a.Bytes() })
	case "age":
		slices.SortStableFunc(all, func(a, b *cache.Response) int { return a.Made().Compare(b.Made()) })
	}
	out := []HeldAnswer{}
	for _, r := range all[:min(limit, len(all))] {
		out = append(out, g.heldAnswer(r))
	}
	return out, len(all)
}

func (g *Gateway) meant(q HeldQuery, r *cache.Response) bool {
	if q.Edition != "" && r.Edition != q.Edition || q.Key != "" && r.Key() != q.Key || !strings.Contains(r.Asked, q.Search) {
		return false
	}
	if q.Type == "" && q.Entry == "" {
		return true
	}
	deps := g.cache.Dependencies(r)
	return (q.Type == "" || slices.ContainsFunc(deps.Uses, func(u depend.Use) bool { return u.Type == q.Type })) &&
		(q.Entry == "" || slices.ContainsFunc(deps.Entries, func(e depend.Entry) bool { return e.ID == q.Entry }))
}

// ExplainedAnswer is an answer of the cache with what it was made of.
type ExplainedAnswer struct {
	HeldAnswer
	Dependencies *depend.Set       `json:"dependencies"`
	Titles       map[string]string `json:"titles,omitempty"`
}

// ExplainHeld says what an answer of the cache was made of, by its key. Its error is
// store.ErrNotFound.
func (g *Gateway) ExplainHeld(ctx context.Context, key string) (ExplainedAnswer, error) {
	r := g.cache.Lookup(key)
	if r == nil {
		return ExplainedAnswer{}, fmt.Errorf("an answer with the key %s: %w", key, store.ErrNotFound)
	}
	e := Examined{Dependencies: g.cache.Dependencies(r)}
	err := g.NameDependencies(ctx, &e)
	return ExplainedAnswer{g.heldAnswer(r), e.Dependencies, e.Titles}, err
}

// PurgeHeld throws away the answers that are meant and returns how many there were.
func (g *Gateway) PurgeHeld(q HeldQuery) int {
	return g.cache.Purge(func(r *cache.Response) bool { return g.meant(q, r) })
}

// Warmed says what became of a request that was to be computed ahead.
type Warmed struct {
	Request string `json:"request"`
	Error   string `json:"error,omitempty"`
}

// maxWarmed bounds how many requests are computed at once.
const maxWarmed = 1000

// WarmAll computes answers before anybody asks: of the requests given, as they stand
// behind the service's address, and of the hottest so many that are remembered.
func (g *Gateway) WarmAll(ctx context.Context, requests []string, hottest int) ([]Warmed, error) {
	if hottest > 0 {
		remembered, err := g.store.HottestRequests(ctx, min(hottest, maxWarmed))
		if err != nil {
			return nil, err
		}
		requests = append(requests, remembered...)
	}
	if len(requests) > maxWarmed {
		return nil, &BadWarmError{fmt.Sprintf("%d requests are to be computed, at most %d at once", len(requests), maxWarmed)}
	}
	out := make([]Warmed, len(requests))
	var wg sync.WaitGroup
	slots := make(chan struct{}, 4)
	for i, text := range requests {
		out[i].Request = asked(text)
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			if err := g.Warm(ctx, text); err != nil {
				out[i].Error = err.Error()
			}
		})
	}
	wg.Wait()
	return out, ctx.Err()
}

// BadWarmError is the error of asking for what cannot be computed ahead.
type BadWarmError struct{ Detail string }

func (e *BadWarmError) Error() string { return e.Detail }

// Supposition is a change that is supposed, and what it would do on this node.
type Supposition struct {
	What    string       `json:"what"`
	Changes int          `json:"changes"`
	Expires []HeldAnswer `json:"expires"`
	Of      int          `json:"of"` // answers held
	// Rules says for each rule whether it would fire, or why not.
	Rules []RuleVerdict `json:"rules"`
	// Sites that would be rebuilt.
	Sites []string `json:"sites"`
}

// RuleVerdict is what a rule makes of a change.
type RuleVerdict struct {
	Rule  string `json:"rule"`
	Fires bool   `json:"fires"`
	Why   string `json:"why,omitempty"`
}

// Suppose says what publishing the newest state of an entry would expire and
// rebuild, or unpublishing it; or what a change that was made would, if it were made
// now.
func (g *Gateway) Suppose(ctx context.Context, entry, what string, sequence int64) (Supposition, error) {
	var changes []content.Change
	var err error
	if sequence > 0 {
		if changes, err = g.store.ChangesFrom(ctx, sequence-1, 1); err == nil && (len(changes) == 0 || changes[0].Sequence != sequence) {
			err = fmt.Errorf("the change %d: %w", sequence, store.ErrNotFound)
		}
	} else if changes, err = g.store.SupposedChanges(ctx, g.Model(), entry, what); err == nil && len(changes) > 0 {
		changes[0].At = time.Now()
	}
	if err != nil {
		return Supposition{}, err
	}
	out := Supposition{What: what, Changes: len(changes), Expires: []HeldAnswer{}, Of: g.cache.Stats().Responses, Rules: []RuleVerdict{}, Sites: []string{}}
	for _, r := range g.cache.Simulate(changes) {
		out.Expires = append(out.Expires, g.heldAnswer(r))
	}
	for i := range changes {
		out.What = changes[i].What
		for j := range g.rules {
			fires, why := g.rules[j].Fires(&changes[i])
			out.Rules = append(out.Rules, RuleVerdict{g.rules[j].Name, fires, why})
			if fires {
				out.Sites = append(out.Sites, sitesOf(&g.rules[j])...)
			}
		}
	}
	slices.Sort(out.Sites)
	out.Sites = slices.Compact(out.Sites)
	return out, nil
}

func sitesOf(r *rule.Rule) []string {
	var out []string
	for _, step := range r.Do {
		out = append(out, step.Rebuild.Site)
	}
	return out
}

// Changes lists changes of the log, the newest first, below a sequence if that is
// not 0.
func (g *Gateway) Changes(ctx context.Context, entry string, below int64, limit int) ([]content.Change, error) {
	return g.store.Changes(ctx, entry, below, limit)
}

// Change returns one change of the log. Its error is store.ErrNotFound.
func (g *Gateway) Change(ctx context.Context, sequence int64) (content.Change, error) {
	found, err := g.store.ChangesFrom(ctx, sequence-1, 1)
	if err == nil && (len(found) == 0 || found[0].Sequence != sequence) {
		err = fmt.Errorf("the change %d: %w", sequence, store.ErrNotFound)
	}
	if err != nil {
		return content.Change{}, err
	}
	return found[0], nil
}

const (
	// rememberEvery is how often the hottest requests are written down.
	rememberEvery = 30 * time.Second
	// hottest is how many are, and are computed when a node starts.
	hottest = 200
)

// rememberHottest writes down what is asked for most, so that a node that starts has
// it at once.
func (g *Gateway) rememberHottest(ctx context.Context) {
	for sleep(ctx, rememberEvery, nil) {
		if err := g.noteHottest(ctx); err != nil && ctx.Err() == nil {
			g.log.Debug("the hottest requests were not written down", "error", err)
		}
	}
}

func (g *Gateway) noteHottest(ctx context.Context) error {
	var texts []string
	var hits []int
	for _, r := range g.cache.All() {
		if len(texts) == hottest || r.Hits() < popular {
			break
		}
		if r.Status == 200 && r.Asked != "" && r.Edition == content.Published {
			texts, hits = append(texts, r.Asked), append(hits, r.Hits())
		}
	}
	if texts == nil {
		return nil
	}
	return g.store.RememberRequests(ctx, texts, hits, hottest)
}

// popular is how often a request was answered that is worth remembering.
const popular = 2

// warmStart computes what was asked for most before this node was started.
func (g *Gateway) warmStart(ctx context.Context) {
	out, err := g.WarmAll(ctx, nil, hottest)
	if errors.Is(err, context.Canceled) {
		return
	}
	n := len(slices.DeleteFunc(out, func(w Warmed) bool { return w.Error != "" }))
	if err != nil {
		g.log.Warn("the hottest answers were not computed ahead", "error", err)
	} else if n > 0 {
		g.log.Info("the hottest answers are computed", "answers", n)
	}
}

// Sample is how the cache did at a moment.
type Sample struct {
	At      time.Time `json:"at"`
	Hits    int64     `json:"hits"` // since the sample before
	Misses  int64     `json:"misses"`
	Expired int64     `json:"expired"`
	Held    int       `json:"held"`
	Bytes   uint64    `json:"bytes"`
}

const (
	sampleEvery = 10 * time.Second
	maxSamples  = 360 // an hour
)

type samples struct {
	mu   sync.Mutex
	all  []Sample
	last cache.Stats
}

// sampling notes how the cache does.
func (g *Gateway) sampling(ctx context.Context) {
	for ok := true; ok; ok = sleep(ctx, sampleEvery, nil) {
		g.sample()
	}
}

func (g *Gateway) sample() {
	now := g.cache.Stats()
	g.samples.mu.Lock()
	defer g.samples.mu.Unlock()
	was := g.samples.last
	g.samples.last = now
	g.samples.all = append(g.samples.all, Sample{time.Now(), now.Hits - was.Hits, now.Misses - was.Misses + now.Joined - was.Joined, now.Expired - was.Expired, now.Responses, now.Bytes})
	if over := len(g.samples.all) - maxSamples; over > 0 {
		g.samples.all = slices.Clone(g.samples.all[over:])
	}
}

// CacheHistory is how the cache did in the last hour, in steps of ten seconds; the
// last one is up to now.
func (g *Gateway) CacheHistory() []Sample {
	g.samples.mu.Lock()
	defer g.samples.mu.Unlock()
	return slices.Clone(g.samples.all)
}
