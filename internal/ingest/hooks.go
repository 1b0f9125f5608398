package ingest

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/proof"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/origin"
	"ubiquon/internal/replication"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/events"
)

// ErrUnknownOrigin is the error of an announcement from nowhere we know.
var ErrUnknownOrigin = errors.New("there is no origin of that name")

// UndecodableError is the error of a proven announcement that cannot be read.
type UndecodableError struct{ Reason error }

// Error implements error.
func (e *UndecodableError) Error() string { return e.Reason.Error() }

// Unwrap returns the error beneath.
func (e *UndecodableError) Unwrap() error { return e.Reason }

// Received is what became of a call.
type Received struct {
	// Events are the ids of what it announces; Duplicates counts those that were known, or
	// that one which waits stands for.
	Events     []string
	Duplicates int
	// Captured says that the call is kept, and that nothing is done.
	Captured bool
	// Unknown says why nothing is done about what is understood by nobody.
	Unknown string
}

// Receive takes in a call of a hook: it proves it, keeps what it announces and queues it, all before
// it returns. The same message twice is one event, and so are pings that come before the first is
// begun. While calls are captured it is only kept. Its error is ErrUnknownOrigin, proof.ErrNotProven
// or an *UndecodableError; the last two are kept too, as refused.
// Of announcements that are not proven so many are kept of one address in a minute, and
// so many of each origin (see limits.Limits); beyond that, and where an origin announces more than
// limits.HooksPerMinute, the error is ErrTooMany.
func (in *Service) Receive(ctx context.Context, name string, m *proof.Message) (out Received, err error) {
	ctx = db.For(ctx, db.Receiving)
	until, err := in.store.Events.CapturedUntil(ctx, name)
	switch source := in.known()[name]; {
	case err != nil:
		return out, err
	case until != nil:
		return in.capture(ctx, name, m)
	case source == nil:
		return out, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	default:
		return in.receive(ctx, source, m)
	}
}

func (in *Service) receive(ctx context.Context, source *origin.Source, m *proof.Message) (out Received, err error) {
	now := time.Now()
	e := api.Event{
		Origin:      source.Name,
		MessageID:   access.Printable(m.Header.Get("webhook-id")),
		ContentType: access.Printable(m.Header.Get("Content-Type")),
		Body:        m.Body,
	}
	if err := in.prove(ctx, source, m, now); err != nil {
		if !errors.Is(err, proof.ErrNotProven) {
			return out, err
		}
		if !in.unproven.Allow(access.Network(m.Address.String()), now) {
			in.uncounted.Add(1)
			return out, access.ErrTooMany
		}
		if kept := in.keepIdle(ctx, e, events.EventRefused, err.Error()); kept != nil {
			return out, kept
		}
		return out, err
	}
	if !in.announced.Allow(source.Name, now) {
		in.uncounted.Add(1)
		return out, access.ErrTooMany
	}
	if source.Config.Standby {
		out.Unknown = "the origin stands by"
		return out, in.keepIdle(ctx, e, events.EventUnknown, out.Unknown)
	}
	all, err := source.Decode(m.Header, m.Body)
	if err != nil {
		if kept := in.keepIdle(ctx, e, events.EventRefused, err.Error()); kept != nil {
			return out, kept
		}
		return out, &UndecodableError{Reason: err}
	}
	var add []*api.Event
	for i := range all {
		one := e
		one.State, one.Decoded, one.Body = events.EventWaiting, &all[i].Decoded, all[i].Body
		switch {
		case one.MessageID == "":
			one.MessageID = access.Printable(all[i].ID)
		case len(all) > 1:
			one.MessageID += fmt.Sprintf("/%d", i)
		}
		if all[i].Unknown != "" {
			one.Decoded, one.MessageID, out.Unknown = nil, "", access.Printable(all[i].Unknown)
			if err := in.keepIdle(ctx, one, events.EventUnknown, all[i].Unknown); err != nil {
				return out, err
			}
			continue
		}
		add = append(add, &one)
	}
	if len(add) == 0 {
		return out, nil
	}
	out.Duplicates, err = in.store.Events.Add(ctx, add, func(tx pgx.Tx, id string) error {
		_, err := in.jobs.InsertTx(ctx, tx, eventJob{Event: id}, in.queued(source.Name))
		return err
	})
	for _, one := range add {
		out.Events = append(out.Events, one.ID)
	}
	in.news.Tell("events")
	return out, err
}

// prove decides whether a call comes from an origin, or from the hub of a feed.
func (in *Service) prove(ctx context.Context, source *origin.Source, m *proof.Message, now time.Time) error {
	if source.Feed() && source.Config.Prove.Describe() == "" {
		return in.fromHub(ctx, source.Name, m, now)
	}
	return source.Prove(m, now)
}

// keepIdle keeps an announcement that nothing is done about, and says why.
func (in *Service) keepIdle(ctx context.Context, e api.Event, state, why string) error {
	e.State, e.Detail = state, access.Printable(why)
	// Anybody can be refused, and is not to fill the database.
	e.Body = e.Body[:min(len(e.Body), 4<<10)]
	err := in.store.Events.AddIdle(ctx, &e, in.limits.RefusedHooksKept)
	in.news.Tell("events")
	// Anybody can be refused: one a minute is told of.
	in.signal(ctx, rule.HookFails, e.Origin, e.Detail, time.Minute)
	return err
}

// DroppedHooks is how many announcements were not proven, and too many to be kept.
func (in *Service) DroppedHooks() int64 { return in.uncounted.Load() }

// ConfirmEvent waits until an announcement is carried out, and every node knows of
// what came of it. It returns the event's state, and the names of the nodes that are
// not known to be that far when the time is over.
func (in *Service) ConfirmEvent(
	ctx context.Context, id string, patience time.Duration,
) (state string, open []string, err error) {
	begin := time.Now()
	waiting, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		e, err := in.store.Events.Get(ctx, id)
		if err != nil {
			return "", nil, err
		}
		if e.State == events.EventDone && e.Sequence != nil {
			open, err := in.replica.Confirm(ctx, *e.Sequence, patience-time.Since(begin))
			return e.State, open, err
		}
		if e.State == events.EventDone || e.State == events.EventFailed ||
			!background.Sleep(waiting, replication.ConfirmEvery, nil) {
			return e.State, nil, nil
		}
	}
}
