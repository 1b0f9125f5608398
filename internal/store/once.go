package store

import (
	"bytes"
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// Once is a write that is to be made once, however often it is asked for.
type Once struct {
	// Key names it, with whose it is; Request is a digest of what was asked.
	Key     string
	Request []byte
}

// Made is what such a write came to.
type Made struct {
	Status int
	Body   []byte // nil if it was not kept
}

// ErrOtherRequest is the error of a key that was used for another request.
var ErrOtherRequest = errors.New("the key was used for another request")

// ErrUnderWay is the error of a write that is being made at the moment.
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

// BeginOnce says that a write is made now; what it came to, if it was made already. Its error
// is ErrOtherRequest or ErrUnderWay where that is the reason.
func (s *Store) BeginOnce(ctx context.Context, w Once) (made *Made, err error) {
	err = pgx.BeginFunc(ctx, s.pool(ctx), func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `insert into written (environment, key, request) values ($1, $2, $3) on conflict do nothing`, s.Environment, w.Key, w.Request)
		if err != nil || tag.RowsAffected() == 1 {
			return err
		}
		var request, body []byte
		var status *int
		var lost bool
		if err := tx.QueryRow(ctx, `select request, status, body, at < clock_timestamp() - $3::interval from written where environment = $1 and key = $2 for update`,
			s.Environment, w.Key, onceLost).Scan(&request, &status, &body, &lost); err != nil {
			return err
		}
		switch {
		case !bytes.Equal(request, w.Request):
			return ErrOtherRequest
		case status != nil:
			made = &Made{Status: *status, Body: body}
			return nil
		case !lost:
			return ErrUnderWay
		case body != nil: // the node has ended between the commit and its answer
			made = &Made{Status: 200, Body: body}
			return nil
		}
		_, err = tx.Exec(ctx, `update written set at = clock_timestamp() where environment = $1 and key = $2`, s.Environment, w.Key)
		return err
	})
	return made, err
}

// KeepOnce keeps what a write came to. What failed for a reason that passes is forgotten,
// so that it may be tried again, unless something of it is stored.
func (s *Store) KeepOnce(ctx context.Context, w Once, made Made) error {
	if made.Status >= 500 || made.Status == 429 {
		if _, err := s.pool(ctx).Exec(ctx, `delete from written where environment = $1 and key = $2 and status is null and body is null`, s.Environment, w.Key); err != nil {
			return err
		}
		_, err := s.pool(ctx).Exec(ctx, `update written set status = 200 where environment = $1 and key = $2 and status is null`, s.Environment, w.Key)
		return err
	}
	_, err := s.pool(ctx).Exec(ctx, `update written set status = $3, body = $4 where environment = $1 and key = $2`, s.Environment, w.Key, made.Status, made.Body)
	return err
}

// KnownWrite is what is known of a write that goes on in the background.
type KnownWrite struct {
	Since time.Time
	Made  *Made // nil: it is not known to have ended
	Lost  bool  // it has not, for so long that its node must have
}

// BeginWrite says that a write goes on in the background; the key is its name, with whose
// it is.
func (s *Store) BeginWrite(ctx context.Context, key string) error {
	_, err := s.pool(ctx).Exec(ctx, `insert into written (environment, key, request) values ($1, $2, '')`, s.Environment, key)
	return err
}

// EndWrite keeps what a write in the background came to.
func (s *Store) EndWrite(ctx context.Context, key string, made Made) error {
	_, err := s.pool(ctx).Exec(ctx, `update written set status = $3, body = $4 where environment = $1 and key = $2`, s.Environment, key, made.Status, made.Body)
	return err
}

// WriteOf returns what is known of a write in the background, for as long as writes with
// an Idempotency-Key are known. Its error is ErrNotFound if nothing is.
func (s *Store) WriteOf(ctx context.Context, key string) (out KnownWrite, err error) {
	var status *int
	var body []byte
	err = s.pool(ctx).QueryRow(ctx, `select at, status, body, at < clock_timestamp() - $3::interval from written where environment = $1 and key = $2`,
		s.Environment, key, onceLost).Scan(&out.Since, &status, &body, &out.Lost)
	if errors.Is(err, pgx.ErrNoRows) {
		return out, ErrNotFound
	}
	if status != nil {
		out.Made = &Made{Status: *status, Body: body}
	}
	return out, err
}

// DropOnce forgets writes that were made long ago, or are too many.
func (s *Store) DropOnce(ctx context.Context) error {
	_, err := s.pool(ctx).Exec(ctx, `delete from written where environment = $1 and (at < clock_timestamp() - $2::interval
		or at < (select at from written where environment = $1 order by at desc offset $3 limit 1))`, s.Environment, onceKept, onceMost)
	return err
}

// TryWrite writes something and takes it back, to find out whether the database takes
// writes.
func (s *Store) TryWrite(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	const key = "\x01try"
	if _, err := s.pool(ctx).Exec(ctx, `insert into written (environment, key, request) values ($1, $2, '') on conflict (environment, key) do update set at = clock_timestamp()`, s.Environment, key); err != nil {
		return err
	}
	_, err := s.pool(ctx).Exec(ctx, `delete from written where environment = $1 and key = $2`, s.Environment, key)
	return err
}

type onceContext struct{}

// WithOnce returns a context whose edits are stored in one transaction with the word that
// they are: a node that ends right after it must not have them made again.
func WithOnce(ctx context.Context, w Once) context.Context {
	return context.WithValue(ctx, onceContext{}, w)
}

// queueOnce has the transaction say that a write is made.
func (s *Store) queueOnce(ctx context.Context, b *batch) {
	if w, is := ctx.Value(onceContext{}).(Once); is {
		b.exec(`update written set body = '{"stored":true}' where environment = $1 and key = $2`, s.Environment, w.Key)
	}
}
