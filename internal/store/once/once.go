// Package once keeps what writes came to, so that one that is asked for twice is made once, and one that
// goes on in the background can be asked about.
package once

import (
	"bytes"
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/store/db"
)

// Writes keeps what writes came to, so that a repetition or somebody who asks later can be
// told. It is safe for concurrent use.
type Writes struct {
	db          *db.DB
	environment string
}

// New returns the outcomes of writes of an environment.
func New(d *db.DB, environment string) *Writes { return &Writes{d, environment} }

// Idempotency is a write that is to be made once, however often it is asked for.
type Idempotency struct {
	// Key names it, with whose it is; Request is a digest of what was asked.
	Key     string
	Request []byte
}

// Outcome is what such a write came to.
type Outcome struct {
	Status int
	Body   []byte // nil if it was not kept
}

// ErrOtherRequest is the error of a key that was used for another request.
var ErrOtherRequest = errors.New("the key was used for another request")

// ErrUnderWay is the error of a write that is being made now.
var ErrUnderWay = errors.New("the write is under way")

const (
	// onceKept is how long what writes came to is known.
	onceKept = 24 * time.Hour
	// onceLost is after how long a write that has not ended is taken to have ended with its
	// node, and to have stored nothing.
	onceLost = 2 * time.Minute
	// onceMost bounds the writes that are known.
	onceMost = 50_000
)

// Begin says that a write is made now; what it came to, if it was made already. Its error
// is ErrOtherRequest or ErrUnderWay where that is the reason.
func (ws *Writes) Begin(ctx context.Context, w Idempotency) (made *Outcome, err error) {
	err = pgx.BeginFunc(ctx, ws.db.Conns(ctx), func(tx pgx.Tx) error {
		tag, err := tx.Exec(
			ctx, `insert into written (environment, key, request) values ($1, $2, $3) on conflict do nothing`,
			ws.environment, w.Key, w.Request,
		)
		if err != nil || tag.RowsAffected() == 1 {
			return err
		}
		var request, body []byte
		var status *int
		var lost bool
		if err := tx.QueryRow(ctx, `select request, status, body, at < clock_timestamp() - $3::interval from written
			where environment = $1 and key = $2 for update`,
			ws.environment, w.Key, onceLost).Scan(&request, &status, &body, &lost); err != nil {
			return err
		}
		switch {
		case !bytes.Equal(request, w.Request):
			return ErrOtherRequest
		case status != nil:
			made = &Outcome{Status: *status, Body: body}
			return nil
		case !lost:
			return ErrUnderWay
		case body != nil: // the node has ended between the commit and its answer
			made = &Outcome{Status: 200, Body: body}
			return nil
		}
		_, err = tx.Exec(
			ctx, `update written set at = clock_timestamp() where environment = $1 and key = $2`, ws.environment,
			w.Key,
		)
		return err
	})
	return made, err
}

// Keep keeps what a write came to. What failed for a reason that passes is forgotten,
// so that it may be tried again, unless something of it is stored.
func (ws *Writes) Keep(ctx context.Context, w Idempotency, made Outcome) error {
	if made.Status >= 500 || made.Status == 429 {
		if _, err := ws.db.Conns(ctx).Exec(ctx, `delete from written where environment = $1 and key = $2 and status
			is null and body is null`, ws.environment, w.Key); err != nil {
			return err
		}
		_, err := ws.db.Conns(ctx).
			Exec(ctx, `update written set status = 200 where environment = $1 and key = $2 and status is
				null`, ws.environment, w.Key)
		return err
	}
	_, err := ws.db.Conns(ctx).
		Exec(ctx, `update written set status = $3, body = $4 where environment = $1 and key =
			$2`, ws.environment, w.Key, made.Status, made.Body)
	return err
}

// KnownWrite is what is known of a write that goes on in the background.
type KnownWrite struct {
	Since time.Time
	Made  *Outcome // nil: it is not known to have ended
	Lost  bool     // it has not, for so long that its node must have
}

// BeginWrite says that a write goes on in the background; the key is its name, with whose
// it is.
func (ws *Writes) BeginWrite(ctx context.Context, key string) error {
	_, err := ws.db.Conns(ctx).
		Exec(ctx, `insert into written (environment, key, request) values ($1, $2, '')`, ws.environment, key)
	return err
}

// EndWrite keeps what a write in the background came to.
func (ws *Writes) EndWrite(ctx context.Context, key string, made Outcome) error {
	_, err := ws.db.Conns(ctx).
		Exec(ctx, `update written set status = $3, body = $4 where environment = $1 and key =
			$2`, ws.environment, key, made.Status, made.Body)
	return err
}

// WriteOf returns what is known of a write in the background, for as long as writes with
// an Idempotency-Key are known. Its error is ErrNotFound if nothing is.
func (ws *Writes) WriteOf(ctx context.Context, key string) (out KnownWrite, err error) {
	var status *int
	var body []byte
	err = ws.db.Conns(ctx).
		QueryRow(ctx, `select at, status, body, at < clock_timestamp() - $3::interval from written where environment
			= $1 and key = $2`,
			ws.environment, key, onceLost).
		Scan(&out.Since, &status, &body, &out.Lost)
	if errors.Is(err, pgx.ErrNoRows) {
		return out, db.ErrNotFound
	}
	if status != nil {
		out.Made = &Outcome{Status: *status, Body: body}
	}
	return out, err
}

// Trim forgets writes that were made long ago, or are too many.
func (ws *Writes) Trim(ctx context.Context) error {
	_, err := ws.db.Conns(ctx).
		Exec(ctx, `delete from written where environment = $1 and (at < clock_timestamp() - $2::interval
		or at < (select at from written where environment = $1 order by at desc offset $3 limit
		1))`, ws.environment, onceKept, onceMost)
	return err
}

// TryWrite writes something and takes it back, to find out whether the database takes
// writes.
func (ws *Writes) TryWrite(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	const key = "\x01try"
	if _, err := ws.db.Conns(ctx).Exec(ctx, `insert into written (environment, key, request) values ($1, $2, '') on
		conflict (environment, key) do update set at = clock_timestamp()`, ws.environment, key); err != nil {
		return err
	}
	_, err := ws.db.Conns(ctx).
		Exec(ctx, `delete from written where environment = $1 and key = $2`, ws.environment, key)
	return err
}

type idempotencyKey struct{}

// WithIdempotency returns a context whose edits are stored in one transaction with the word that
// they are: a node that ends right after it must not have them made again.
func WithIdempotency(ctx context.Context, w Idempotency) context.Context {
	return context.WithValue(ctx, idempotencyKey{}, w)
}

// Queue has the transaction of the batch say that the write of the context is made: see WithIdempotency.
func (ws *Writes) Queue(ctx context.Context, b *db.Batch) {
	if w, is := ctx.Value(idempotencyKey{}).(Idempotency); is {
		b.Exec(
			`update written set body = '{"stored":true}' where environment = $1 and key = $2`, ws.environment, w.Key,
		)
	}
}
