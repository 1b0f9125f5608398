package ingest

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/event"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/replication"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/events"
)

// ErrUnknownOrigin is the error of an announcement from nowhere we know.
var ErrUnknownOrigin = errors.New("there is no origin of that name")

// UndecodableError is the error of a proven announcement that cannot be read.
// It is kept under the id.
type UndecodableError struct {
	ID     string
	Reason error
}

// Error implements error.
func (e *UndecodableError) Error() string { return e.Reason.Error() }

// Unwrap returns the error beneath.
func (e *UndecodableError) Unwrap() error { return e.Reason }

// Receive takes in an announcement: it proves it, keeps it and queues it, all
// before it returns. The same message twice is one event. Its error is
// ErrUnknownOrigin, event.ErrNotProven or an *UndecodableError; the last two
// are kept too, as refused.
// Of announcements that are not proven so many are kept of one address in a minute, and
// so many of each origin (see limits.Limits); beyond that the error is ErrTooMany.
func (in *Service) Receive(
	ctx context.Context, name string, header http.Header, body []byte, address string,
) (id string, duplicate bool, err error) {
	ctx = db.For(ctx, db.Receiving)
	source := in.known()[name]
	if source == nil {
		return "", false, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	}
	e := api.Event{
		Origin:      name,
		MessageID:   access.Printable(header.Get("webhook-id")),
		ContentType: access.Printable(header.Get("Content-Type")),
		Body:        body,
		State:       events.EventWaiting,
	}
	refuse := func(reason error) (string, error) {
		e.State, e.Detail = events.EventRefused, access.Printable(reason.Error())
		// Anybody can be refused, and is not to fill the database.
		e.Body = body[:min(len(body), 4<<10)]
		err := in.store.Events.AddRefused(ctx, &e, in.limits.RefusedHooksKept)
		in.news.Tell("events")
		// Anybody can be refused: one a minute is told of.
		in.signal(ctx, rule.HookFails, name, e.Detail, time.Minute)
		return e.ID, err
	}
	if err := event.Prove(source.Config.Prove.StandardWebhooks, header, body, time.Now()); err != nil {
		if !in.unproven.Allow(access.Network(address), time.Now()) {
			in.uncounted.Add(1)
			return "", false, access.ErrTooMany
		}
		if _, kept := refuse(err); kept != nil {
			return "", false, kept
		}
		return "", false, err
	}
	decoded, err := event.DecodeCloudEvent(e.ContentType, body)
	if err == nil && decoded.Kind != event.Ping {
		if _, known := source.TypeOf(decoded.OriginKind); !known {
			err = fmt.Errorf(
				"the event is about a %q, which is none of the kinds configured for this origin", decoded.OriginKind,
			)
		}
	}
	if err != nil {
		id, kept := refuse(err)
		if kept != nil {
			return "", false, kept
		}
		return "", false, &UndecodableError{ID: id, Reason: err}
	}
	e.Decoded = &decoded
	duplicate, err = in.store.Events.Add(ctx, &e, func(tx pgx.Tx, id string) error {
		_, err := in.jobs.InsertTx(ctx, tx, eventJob{Event: id}, in.queued(name))
		return err
	})
	in.news.Tell("events")
	return e.ID, duplicate, err
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
