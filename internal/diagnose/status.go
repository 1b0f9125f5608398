package diagnose

import (
	"context"
	"slices"
	"time"

	"ubiquon/internal/automation"
	"ubiquon/internal/cache"
	"ubiquon/internal/ingest"
	"ubiquon/internal/store"
	"ubiquon/internal/store/events"
)

// Status is how the service stands.
type Status struct {
	Environment string                `json:"environment"`
	Since       time.Time             `json:"since"`
	Sequence    int64                 `json:"sequence"`
	Model       int64                 `json:"modelVersion"`
	Cache       cache.Stats           `json:"cache"`
	Requests    uint64                `json:"requests"`
	P50         float64               `json:"p50ms"` // of the last reads, in milliseconds
	P99         float64               `json:"p99ms"`
	Entries     map[string]int        `json:"entries"`
	Origins     []ingest.OriginState  `json:"origins"`
	Sites       []automation.SiteInfo `json:"sites"`
	Events      []ingest.EventTrace   `json:"events"`
	Freshness   Freshness             `json:"freshness"`
	// Problems are what is wrong at the moment.
	Problems []Problem     `json:"problems"`
	Backlog  store.Backlog `json:"backlog"`
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
func (d *Service) Status(ctx context.Context) (Status, error) {
	p50, p99, n := d.delivery.Reading.Quantiles()
	s := Status{
		Environment: d.replica.Environment(),
		Since:       d.replica.Begun,
		Sequence:    d.cache.Applied(),
		Model:       d.replica.ModelVersion(),
		Cache:       d.cache.Stats(),
		Requests:    n,
		P50:         p50.Seconds() * 1000,
		P99:         p99.Seconds() * 1000,
	}
	var err error
	if s.Entries, err = d.store.Entries.Counts(ctx); err != nil {
		return s, err
	}
	if s.Origins, err = d.ingest.Origins(ctx); err != nil {
		return s, err
	}
	if s.Sites, err = d.automation.Sites(ctx); err != nil {
		return s, err
	}
	last, err := d.ingest.Events(ctx, events.EventFilter{Limit: 100})
	if err != nil {
		return s, err
	}
	s.Freshness = freshness(last)
	s.Events = last[:min(len(last), 12)]
	if s.Backlog, err = d.Backlog(ctx); err != nil {
		return s, err
	}
	s.Problems, err = d.problems(ctx, s.Sites, s.Backlog)
	return s, err
}

func freshness(events []ingest.EventTrace) Freshness {
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
