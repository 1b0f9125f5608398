package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
)

// ErrGap is the error of following the change log from a place that it does
// not have: an older copy of the database was restored, or the log was trimmed.
var ErrGap = errors.New("the change log does not go on from here")

// Mark is a place in the change log: a sequence and the random id of the change
// that has it. The zero Mark is the place before the first change.
type Mark struct {
	Sequence int64
	ID       string
}

const changeColumns = `sequence, commit, id::text, at, kind, edition, entry, type, what, fields, before, after, cause`

func scanChange(r pgx.Row) (content.Change, error) {
	var c content.Change
	err := r.Scan(&c.Sequence, &c.Commit, &c.ID, &c.At, &c.Kind, &c.Edition, &c.Entry, &c.Type, &c.What, &c.Fields, &c.Before, &c.After, &c.Cause)
	return c, err
}

// Head returns the place of the newest change.
func (s *Store) Head(ctx context.Context) (Mark, error) {
	var m Mark
	err := s.Pool.QueryRow(ctx, `select sequence, id::text from change where environment = $1 order by sequence desc limit 1`, s.Environment).Scan(&m.Sequence, &m.ID)
	if errors.Is(err, pgx.ErrNoRows) {
		return Mark{}, nil
	}
	return m, err
}

// ChangesPerPoll bounds what ChangesAfter returns at once. It must exceed the
// changes of the largest commit.
const ChangesPerPoll = 5000

// ChangesAfter returns the changes behind the mark, whole commits only. Its
// error is ErrGap when the change at the mark is gone or is another one.
func (s *Store) ChangesAfter(ctx context.Context, at Mark) ([]content.Change, error) {
	rows, err := s.Pool.Query(ctx, `select `+changeColumns+` from change where environment = $1 and sequence >= $2 order by sequence limit $3`,
		s.Environment, at.Sequence, ChangesPerPoll+1)
	if err != nil {
		return nil, err
	}
	found, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (content.Change, error) { return scanChange(r) })
	if err != nil {
		return nil, err
	}
	if at.Sequence > 0 {
		if len(found) == 0 || found[0].ID != at.ID {
			return nil, ErrGap
		}
		found = found[1:]
	} else if len(found) > 0 && found[0].Sequence != 1 {
		return nil, ErrGap
	}
	if len(found) >= ChangesPerPoll {
		last := found[len(found)-1].Commit
		for len(found) > 0 && found[len(found)-1].Commit == last {
			found = found[:len(found)-1]
		}
		if len(found) == 0 {
			return nil, fmt.Errorf("a commit has more than %d changes", ChangesPerPoll)
		}
	}
	return found, nil
}

// ChangesFrom returns so many changes after a sequence.
func (s *Store) ChangesFrom(ctx context.Context, after int64, limit int) ([]content.Change, error) {
	rows, err := s.Pool.Query(ctx, `select `+changeColumns+` from change where environment = $1 and sequence > $2 order by sequence limit $3`, s.Environment, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (content.Change, error) { return scanChange(r) })
}

const channel = "ubiquon_change"

// Announce tells all nodes that there are new changes. It is sent after the
// commit, not in it, since PostgreSQL lets only one notifying commit through at
// a time.
func (s *Store) Announce(ctx context.Context) error {
	_, err := s.Pool.Exec(ctx, `select pg_notify($1, $2)`, channel, s.Environment)
	return err
}

// Listen calls wake whenever some node announces changes, and once when it
// begins, until ctx ends or the connection breaks.
func (s *Store) Listen(ctx context.Context, wake func()) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	// The connection goes with us: a listening one must not return to the pool.
	c := conn.Hijack()
	defer func() {
		closing, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		c.Close(closing)
	}()
	if _, err := c.Exec(ctx, `listen `+channel); err != nil {
		return err
	}
	wake()
	for {
		n, err := c.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		if n.Payload == s.Environment {
			wake()
		}
	}
}
