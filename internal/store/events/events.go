// Package events stores the announcements of origins and the items that could not be imported.
package events

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/event"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/records"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/clause"
	"ubiquon/internal/store/db"
)

// Events are the announcements of the origins of an environment. It is safe for concurrent use.
type Events struct {
	db          *db.DB
	environment string
}

// New returns the events of an environment.
func New(d *db.DB, environment string) *Events { return &Events{d, environment} }

// The states of an event.
const (
	EventWaiting = "waiting" // stored, not yet looked at
	EventDone    = "done"
	EventFailed  = "failed"  // tried in vain; Detail says why
	EventRefused = "refused" // not proven, or not readable
	EventUnknown = "unknown" // proven, and not understood; nothing is done
)

// Add keeps announcements, all or none, and, in the same transaction, lets enqueue put the
// processing of each into the job queue. The same message twice is one event, and so are pings
// without an id until the first of them is begun: then they get the first one's id, nothing is
// enqueued for them, and duplicates counts them.
func (es *Events) Add(
	ctx context.Context, all []*api.Event, enqueue func(tx pgx.Tx, id string) error,
) (duplicates int, err error) {
	err = pgx.BeginFunc(ctx, es.db.Conns(ctx), func(tx pgx.Tx) error {
		duplicates = 0
		for _, e := range all {
			added, err := es.add(ctx, tx, e)
			if err != nil {
				return err
			}
			if !added {
				duplicates++
			} else if enqueue != nil {
				if err := enqueue(tx, e.ID); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return duplicates, err
}

func (es *Events) add(ctx context.Context, tx pgx.Tx, e *api.Event) (added bool, err error) {
	if e.MessageID == "" && e.State == EventWaiting && e.Decoded != nil && e.Decoded.Kind == event.Ping {
		err := tx.QueryRow(ctx, `update event set calls = calls + 1 where environment = $1 and id = (
			select id from event where environment = $1 and origin = $2 and state = 'waiting' and begun is null
				and decoded ->> 'kind' = 'ping' order by received limit 1 for update) returning id::text`,
			es.environment, e.Origin).Scan(&e.ID)
		if !errors.Is(err, pgx.ErrNoRows) {
			return false, err
		}
	}
	id, err := uuid.NewV7()
	if err != nil {
		return false, err
	}
	if e.ID = id.String(); e.MessageID == "" {
		e.MessageID = e.ID
	}
	tag, err := tx.Exec(ctx,
		`insert into event (environment, id, origin, message_id, content_type, body, state, detail, decoded)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9) on conflict do nothing`,
		es.environment, e.ID, e.Origin, e.MessageID, e.ContentType, e.Body, e.State, e.Detail, e.Decoded)
	if err != nil || tag.RowsAffected() > 0 {
		return true, err
	}
	return false, tx.QueryRow(ctx, `select id::text from event where environment = $1 and origin = $2 and
		message_id = $3 and state <> $4`, es.environment, e.Origin, e.MessageID, EventRefused).Scan(&e.ID)
}

// Begin notes that an event is processed from now on: later pings are events of their own.
func (es *Events) Begin(ctx context.Context, id string) error {
	_, err := es.db.Conns(ctx).Exec(ctx, `update event set begun = clock_timestamp() where environment = $1 and id = $2
		and begun is null`, es.environment, id)
	return err
}

// AddIdle keeps an announcement that nothing is done about, in its state, and forgets those of the
// same origin in that state beyond the last so many.
func (es *Events) AddIdle(ctx context.Context, e *api.Event, most int) error {
	if _, err := es.Add(ctx, []*api.Event{e}, nil); err != nil {
		return err
	}
	_, err := es.db.Conns(ctx).Exec(ctx, `delete from event where environment = $1 and id in (
		select id from event where environment = $1 and origin = $2 and state = $4 order by received desc
		offset $3 limit 100)`, es.environment, e.Origin, most, e.State)
	return err
}

// Trim forgets events that were received before the span, and returns how many:
// fewer than there are, if those are many. What waits stays.
func (es *Events) Trim(ctx context.Context, keep time.Duration) (int, error) {
	tag, err := es.db.Conns(ctx).Exec(ctx, `delete from event where environment = $1 and id in (
		select id from event where environment = $1 and received < clock_timestamp() - $2::interval and state <>
		'waiting' order by received limit $3)`, es.environment, keep, changelog.TrimAtOnce)
	return int(tag.RowsAffected()), err
}

// keptBuilds is how many builds of a site stay, however old they are.
const keptBuilds = 50

// TrimBuilds forgets builds that have ended before the span, and returns how many: fewer than
// there are, if those are many.
func (es *Events) TrimBuilds(ctx context.Context, keep time.Duration) (int, error) {
	builds, err := es.db.Conns(ctx).Exec(ctx, `delete from build b where environment = $1 and id in (
		select id from (select id, finished, row_number() over (partition by site order by number desc) as nth from
		build where environment = $1 and state in ('finished', 'failed', 'cancelled')) old
		where nth > $3 and finished < clock_timestamp() - $2::interval limit
		$4)`, es.environment, keep, keptBuilds, changelog.TrimAtOnce)
	return int(builds.RowsAffected()), err
}

// Finish notes what became of an event. If it made a change, or found its
// own made by an event before, the older answers are gone by now, or were gone
// with that one.
func (es *Events) Finish(ctx context.Context, e *api.Event) error {
	_, err := es.db.Conns(ctx).
		Exec(ctx, `update event set state = $3, detail = $4, entry = $5, sequence = $6, stored = $7,
			expired = case when $6::bigint is null then null else greatest($7, coalesce((select min(o.expired) from
			event o
				where o.environment = $1 and o.entry = $5 and o.stored = $7 and o.id <> $2), clock_timestamp()))
				end, attempts = $8
		where environment = $1 and id =
		$2`, es.environment, e.ID, e.State, e.Detail, e.Entry, e.Sequence, e.Stored, e.Attempts)
	return err
}

const eventColumns = `select v.id::text, v.origin, v.message_id, v.content_type, v.body, v.received, v.state,
	v.detail, v.decoded, v.entry,
	coalesce(e.title, ''), coalesce(e.type, ''), v.sequence, v.stored, v.expired, v.attempts, v.calls
	from event v left join entry e on e.environment = v.environment and e.id = v.entry where v.environment = $1`

func scanEvent(r pgx.Row) (api.Event, error) {
	var e api.Event
	err := r.Scan(
		&e.ID, &e.Origin, &e.MessageID, &e.ContentType, &e.Body, &e.Received, &e.State, &e.Detail, &e.Decoded,
		&e.Entry, &e.Title, &e.Type, &e.Sequence, &e.Stored, &e.Expired, &e.Attempts,
		&e.Calls,
	)
	return e, err
}

// Get returns one event, ErrNotFound if there is none of that id.
func (es *Events) Get(ctx context.Context, id string) (api.Event, error) {
	if _, err := uuid.Parse(id); err != nil {
		return api.Event{}, fmt.Errorf("event %s: %w", id, db.ErrNotFound)
	}
	e, err := scanEvent(es.db.Conns(ctx).QueryRow(ctx, eventColumns+` and v.id = $2`, es.environment, id))
	if errors.Is(err, pgx.ErrNoRows) {
		err = fmt.Errorf("event %s: %w", id, db.ErrNotFound)
	}
	return e, err
}

// leaseOfJobs is how long a node is silent before others take over its jobs.
const leaseOfJobs = "5 seconds"

// FreeJobs has jobs of the queues run again that nodes had under way that have gone, and
// returns how many.
func (es *Events) FreeJobs(ctx context.Context, queues []string) (int, error) {
	tag, err := es.db.Conns(ctx).Exec(ctx, `update river_job set state = 'available', scheduled_at = clock_timestamp()
		where state = 'running' and queue = any($2) and attempted_at < clock_timestamp() - interval '`+leaseOfJobs+`'
			and attempted_by[array_upper(attempted_by, 1)] not in (select id::text from node where environment = $1
			and seen > clock_timestamp() - interval '`+leaseOfJobs+`')`,
		es.environment, queues)
	return int(tag.RowsAffected()), err
}

// EventsWithoutJob returns events that wait and have no job that will process them, so many
// at most, the oldest first.
func (es *Events) EventsWithoutJob(ctx context.Context, limit int) ([]api.Event, error) {
	rows, err := es.db.Conns(ctx).
		Query(ctx, eventColumns+` and v.state = 'waiting' and v.received < clock_timestamp() - interval
			'`+leaseOfJobs+`'
		and not exists (select from river_job where kind = 'event' and args @> jsonb_build_object('event', v.id::text)
			and state in ('available', 'pending', 'running', 'retryable', 'scheduled')) order by v.received limit
			$2`, es.environment, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.Event, error) { return scanEvent(r) })
}

// List returns events, the newest first.
func (es *Events) List(ctx context.Context, f api.EventFilter, where *filter.Filter) ([]api.Event, error) {
	if f.Limit <= 0 || f.Limit > 500 {
		f.Limit = 50
	}
	args := clause.Params{es.environment, f.State, f.Entry, f.Limit}
	sql := eventColumns + ` and ($2 = '' or v.state = $2) and ($3 = '' or v.entry = $3)`
	if f.Before != "" {
		sql += ` and (v.received, v.id) < (select received, id from event where environment = $1 and id::text = ` +
			args.Add(f.Before, "text") + `)`
	}
	if where != nil {
		sql += " and " + clause.Record(where, records.EventColumns, []string{"received"}, &args)
	}
	rows, err := es.db.Conns(ctx).Query(ctx, sql+` order by v.received desc, v.id desc limit $4`, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.Event, error) { return scanEvent(r) })
}

// LastHeard returns when an announcement of the origin was last accepted and
// when one was last refused; nil for never.
func (es *Events) LastHeard(ctx context.Context, origin string) (accepted, refused *time.Time, err error) {
	err = es.db.Conns(ctx).
		QueryRow(ctx, `select max(received) filter (where state <> 'refused'), max(received) filter (where state =
			'refused')
		from event where environment = $1 and origin = $2`, es.environment, origin).
		Scan(&accepted, &refused)
	return accepted, refused, err
}
