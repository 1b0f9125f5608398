package ingest

import (
	"context"
	"slices"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/records"
)

// Events lists events with their traces, the newest first.
func (in *Service) Events(ctx context.Context, f api.EventFilter) ([]api.EventTrace, error) {
	where, err := records.EventFilter(f.Filter)
	if err != nil {
		return nil, err
	}
	events, err := in.store.Events.List(ctx, f, where)
	if err != nil {
		return nil, err
	}
	out := make([]api.EventTrace, len(events))
	if len(events) == 0 {
		return out, nil
	}
	oldest := events[len(events)-1].Received.Add(
		-time.Minute,
	) // a build that an event joins may have been asked for before
	builds, err := in.store.Builds.List(ctx, api.BuildFilter{Since: oldest, Limit: 500})
	if err != nil {
		return nil, err
	}
	for i := range events {
		out[i] = traced(events[i], builds)
	}
	return out, in.noteLive(ctx, out)
}

// noteLive says of events when visitors got what they announce.
func (in *Service) noteLive(ctx context.Context, traces []api.EventTrace) error {
	var sequences []int64
	for i := range traces {
		if s := traces[i].Sequence; s != nil {
			sequences = append(sequences, *s)
		}
	}
	if len(sequences) == 0 {
		return nil
	}
	live, err := in.store.Live.LiveOf(ctx, sequences)
	for i := range traces {
		e := &traces[i]
		if e.Sequence == nil {
			continue
		}
		if on, is := live[*e.Sequence]; is {
			if e.Pages = &on; on.Waiting == 0 {
				e.Trace.Live = on.Last
			}
		}
	}
	return err
}

// Event returns one event; db.ErrNotFound if there is none.
func (in *Service) Event(ctx context.Context, id string) (api.EventDetail, error) {
	e, err := in.store.Events.Get(ctx, id)
	if err != nil {
		return api.EventDetail{}, err
	}
	builds, err := in.store.Builds.List(ctx, api.BuildFilter{Event: id, Sequence: e.Sequence})
	if err != nil {
		return api.EventDetail{}, err
	}
	one := []api.EventTrace{traced(e, builds)}
	if err := in.noteLive(ctx, one); err != nil {
		return api.EventDetail{}, err
	}
	d := api.EventDetail{EventTrace: one[0], Body: string(e.Body)}
	d.Rules, err = in.store.Runs.OfEvent(ctx, e.ID, e.Sequence)
	return d, err
}

func traced(e api.Event, builds []rebuild.Build) api.EventTrace {
	out := api.EventTrace{
		Event:  e,
		Trace:  api.FreshnessTrace{Accepted: &e.Received, Stored: e.Stored, Expired: e.Expired},
		Builds: []rebuild.Build{},
	}
	if e.Decoded != nil {
		out.Trace.Published = e.Decoded.At
	}
	for _, b := range builds {
		if !slices.ContainsFunc(
			b.Causes,
			func(c rebuild.Cause) bool { return c.Event == e.ID || e.Sequence != nil && c.Sequence == *e.Sequence },
		) {
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
