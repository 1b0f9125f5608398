package gateway

import (
	"cmp"
	"context"
	"log/slog"
	"maps"
	"slices"
	"time"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/store"
)

// Trace says when a publish reached each step on its way to visitors; nil for
// a step that it has not reached, or has no need of.
type Trace struct {
	Published *time.Time `json:"published"` // by the origin's clock
	Accepted  *time.Time `json:"accepted"`
	Stored    *time.Time `json:"stored"`
	Expired   *time.Time `json:"expired"`
	Called    *time.Time `json:"called"` // the first build that has it
	Built     *time.Time `json:"built"`
}

// EventTrace is an event with its way.
type EventTrace struct {
	store.Event
	Trace Trace `json:"trace"`
	// Builds are those that the event asked for.
	Builds []rebuild.Build `json:"builds"`
}

// Events lists events with their traces, the newest first.
func (g *Gateway) Events(ctx context.Context, f store.EventFilter) ([]EventTrace, error) {
	events, err := g.store.ListEvents(ctx, f)
	if err != nil {
		return nil, err
	}
	out := make([]EventTrace, len(events))
	if len(events) == 0 {
		return out, nil
	}
	oldest := events[len(events)-1].Received.Add(-time.Minute) // a build that an event joins may have been asked for before
	builds, err := g.store.ListBuilds(ctx, store.BuildFilter{Since: oldest, Limit: 500})
	if err != nil {
		return nil, err
	}
	for i := range events {
		out[i] = traced(events[i], builds)
	}
	return out, nil
}

// EventDetail is an event with everything that came of it.
type EventDetail struct {
	EventTrace
	Body  string          `json:"body"`
	Rules []store.RuleRun `json:"rules"`
}

// Event returns one event; store.ErrNotFound if there is none.
func (g *Gateway) Event(ctx context.Context, id string) (EventDetail, error) {
	e, err := g.store.Event(ctx, id)
	if err != nil {
		return EventDetail{}, err
	}
	builds, err := g.store.ListBuilds(ctx, store.BuildFilter{Event: id, Sequence: e.Sequence})
	if err != nil {
		return EventDetail{}, err
	}
	d := EventDetail{EventTrace: traced(e, builds), Body: string(e.Body)}
	d.Rules, err = g.store.RuleRuns(ctx, &e)
	return d, err
}

func traced(e store.Event, builds []rebuild.Build) EventTrace {
	out := EventTrace{Event: e, Trace: Trace{Accepted: &e.Received, Stored: e.Stored, Expired: e.Expired}, Builds: []rebuild.Build{}}
	if e.Decoded != nil {
		out.Trace.Published = e.Decoded.At
	}
	for _, b := range builds {
		if !slices.ContainsFunc(b.Causes, func(c rebuild.Cause) bool { return c.Event == e.ID || e.Sequence != nil && c.Sequence == *e.Sequence }) {
			continue
		}
		out.Builds = append(out.Builds, b)
		out.Trace.Called = earlier(out.Trace.Called, b.Called)
		if b.State == rebuild.Finished {
			out.Trace.Built = earlier(out.Trace.Built, b.Finished)
		}
	}
	return out
}

func earlier(a, b *time.Time) *time.Time {
	if a == nil || b != nil && b.Before(*a) {
		return b
	}
	return a
}

// Status is how the service stands.
type Status struct {
	Environment string         `json:"environment"`
	Since       time.Time      `json:"since"`
	Sequence    int64          `json:"sequence"`
	Model       int64          `json:"modelVersion"`
	Cache       cache.Stats    `json:"cache"`
	Requests    uint64         `json:"requests"`
	P50         float64        `json:"p50ms"` // of the last reads, in milliseconds
	P99         float64        `json:"p99ms"`
	Entries     map[string]int `json:"entries"`
	Origins     []OriginState  `json:"origins"`
	Sites       []SiteInfo     `json:"sites"`
	Events      []EventTrace   `json:"events"`
	Freshness   Freshness      `json:"freshness"`
	// Problems are what is wrong at the moment.
	Problems []Problem     `json:"problems"`
	Backlog  store.Backlog `json:"backlog"`
}

// OriginStatus is when an origin was last heard of.
type OriginStatus struct {
	Name        string     `json:"name"`
	LastEvent   *time.Time `json:"lastEvent"`
	LastRefused *time.Time `json:"lastRefused"`
}

// Freshness sums up how long the last publishes took, in milliseconds; nil
// without any.
type Freshness struct {
	Events   int      `json:"events"`
	Answer50 *float64 `json:"answerP50ms"` // published → expired
	Answer95 *float64 `json:"answerP95ms"`
	Built50  *float64 `json:"builtP50ms"` // published → built
	Built95  *float64 `json:"builtP95ms"`
}

// Status returns the present status.
func (g *Gateway) Status(ctx context.Context) (Status, error) {
	p50, p99, n := g.reading.quantiles()
	s := Status{Environment: g.Environment(), Since: g.begun, Sequence: g.cache.Applied(), Model: g.state.Load().version, Cache: g.cache.Stats(),
		Requests: n, P50: p50.Seconds() * 1000, P99: p99.Seconds() * 1000}
	var err error
	if s.Entries, err = g.store.Counts(ctx); err != nil {
		return s, err
	}
	if s.Origins, err = g.Origins(ctx); err != nil {
		return s, err
	}
	if s.Sites, err = g.Sites(ctx); err != nil {
		return s, err
	}
	last, err := g.Events(ctx, store.EventFilter{Limit: 100})
	if err != nil {
		return s, err
	}
	s.Freshness = freshness(last)
	s.Events = last[:min(len(last), 12)]
	if s.Backlog, err = g.Backlog(ctx); err != nil {
		return s, err
	}
	s.Problems, err = g.problems(ctx, s.Sites, s.Backlog)
	return s, err
}

func freshness(events []EventTrace) Freshness {
	var answer, built []float64
	for _, e := range events {
		if e.Trace.Published == nil || e.Trace.Expired == nil {
			continue
		}
		// An origin whose clock is ahead published later than we heard of it.
		from := *e.Trace.Published
		if e.Trace.Expired.Before(from) {
			from = e.Received
		}
		answer = append(answer, e.Trace.Expired.Sub(from).Seconds()*1000)
		if e.Trace.Built != nil {
			built = append(built, e.Trace.Built.Sub(from).Seconds()*1000)
		}
	}
	out := Freshness{Events: len(answer)}
	out.Answer50, out.Answer95 = quantiles(answer)
	out.Built50, out.Built95 = quantiles(built)
	return out
}

func quantiles(v []float64) (p50, p95 *float64) {
	if len(v) == 0 {
		return nil, nil
	}
	slices.Sort(v)
	return &v[len(v)/2], &v[len(v)*95/100]
}

func sortedKeys[K cmp.Ordered, V any](m map[K]V) []K { return slices.Sorted(maps.Keys(m)) }

// quietly passes on what the job queue logs when it is worth a line to us.
func quietly(log *slog.Logger) *slog.Logger {
	return slog.New(atLeast{log.Handler(), slog.LevelError})
}

type atLeast struct {
	slog.Handler
	level slog.Level
}

func (h atLeast) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= h.level && h.Handler.Enabled(ctx, l)
}
func (h atLeast) WithAttrs(a []slog.Attr) slog.Handler {
	return atLeast{h.Handler.WithAttrs(a), h.level}
}
func (h atLeast) WithGroup(n string) slog.Handler { return atLeast{h.Handler.WithGroup(n), h.level} }
