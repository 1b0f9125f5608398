package diagnose

import (
	"context"
	"slices"

	"ubiquon/internal/api"
)

// Status returns the present status.
func (d *Service) Status(ctx context.Context) (api.Status, error) {
	p50, p99, n := d.delivery.Reading.Quantiles()
	s := api.Status{
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
	last, err := d.ingest.Events(ctx, api.EventFilter{Limit: 100})
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

func freshness(events []api.EventTrace) api.Freshness {
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
	out := api.Freshness{Events: len(answer)}
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
