package events

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
)

const (
	// mostCaptured bounds the calls that are kept of one origin.
	mostCaptured = 20
	// keepCaptured is for how long they are.
	keepCaptured = 24 * time.Hour
)

// Capture has the calls of a hook kept without acting on them for so long; 0 ends it.
func (es *Events) Capture(ctx context.Context, origin, by string, span time.Duration) error {
	if span <= 0 {
		_, err := es.db.Conns(ctx).Exec(ctx, `delete from capture where environment = $1 and origin = $2`,
			es.environment, origin)
		return err
	}
	_, err := es.db.Conns(ctx).Exec(ctx, `insert into capture (environment, origin, until, by)
		values ($1, $2, clock_timestamp() + $3::interval, $4)
		on conflict (environment, origin) do update set until = excluded.until, by = excluded.by`,
		es.environment, origin, span, by)
	return err
}

// CapturedUntil returns until when the calls of a hook are kept without acting on them; nil where
// they are acted on.
func (es *Events) CapturedUntil(ctx context.Context, origin string) (until *time.Time, err error) {
	err = es.db.Conns(ctx).QueryRow(ctx, `select until from capture where environment = $1 and origin = $2
		and until > clock_timestamp()`, es.environment, origin).Scan(&until)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	return until, err
}

// KeepCaptured keeps a call, and forgets those of the origin that are too many or too old.
func (es *Events) KeepCaptured(ctx context.Context, c *api.CapturedCall) error {
	id, err := uuid.NewV7()
	if err != nil {
		return err
	}
	c.ID = id.String()
	if _, err = es.db.Conns(ctx).Exec(ctx, `insert into captured (environment, id, origin, method, address, header, body)
		values ($1, $2, $3, $4, $5, $6, $7)`,
		es.environment, c.ID, c.Origin, c.Method, c.Address, c.Header, []byte(c.Body)); err != nil {
		return err
	}
	_, err = es.db.Conns(ctx).Exec(ctx, `delete from captured where environment = $1 and origin = $2 and id in (
		select id from captured where environment = $1 and origin = $2 order by at desc offset $3)`,
		es.environment, c.Origin, mostCaptured)
	return err
}

// TrimCaptured forgets calls that are too old.
func (es *Events) TrimCaptured(ctx context.Context) error {
	_, err := es.db.Conns(ctx).Exec(ctx, `delete from captured where environment = $1 and at < clock_timestamp() -
		$2::interval`, es.environment, keepCaptured)
	if err == nil {
		_, err = es.db.Conns(ctx).Exec(ctx, `delete from capture where environment = $1 and until < clock_timestamp()`,
			es.environment)
	}
	return err
}

// Captured lists the calls that were kept of an origin, the newest first.
func (es *Events) Captured(ctx context.Context, origin string) ([]api.CapturedCall, error) {
	rows, err := es.db.Conns(ctx).Query(ctx, `select id::text, origin, at, method, address, header, body from captured
		where environment = $1 and origin = $2 order by at desc`, es.environment, origin)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (c api.CapturedCall, err error) {
		var body []byte
		err = r.Scan(&c.ID, &c.Origin, &c.At, &c.Method, &c.Address, &c.Header, &body)
		c.Body = string(body)
		return c, err
	})
}

// Again has an event wait to be processed once more, and lets enqueue put it into the job queue in the
// same transaction.
func (es *Events) Again(ctx context.Context, id string, enqueue func(tx pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, es.db.Conns(ctx), func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update event set state = 'waiting', detail = '', begun = null, attempts = 0
			where environment = $1 and id = $2`, es.environment, id); err != nil {
			return err
		}
		return enqueue(tx)
	})
}
