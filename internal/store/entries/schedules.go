package entries

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
)

// Schedules are what is to be published or unpublished later. It is safe for concurrent use.
type Schedules struct {
	db          *db.DB
	environment string
	audit       *audit.Log
}

// NewSchedules returns the schedules of an environment.
func NewSchedules(d *db.DB, environment string, a *audit.Log) *Schedules {
	return &Schedules{d, environment, a}
}

// What a schedule may do.
const (
	SchedulePublish   = "publish"
	ScheduleUnpublish = "unpublish"
)

// The states of a schedule.
const (
	SchedulePending   = "pending"
	ScheduleDone      = "done"
	ScheduleFailed    = "failed"
	ScheduleCancelled = "cancelled"
)

const scheduleInfo = `select s.id::text, s.entry, e.title, e.type, s.action, s.locales, s.revision, s.at, s.zone,
	s.by, s.created, s.state, s.finished, s.detail,
	s.state = 'pending' and s.at < clock_timestamp() - interval '5 seconds', s.tries, case when s.state = 'pending'
	then s.next_try end
	from schedule s join entry e on e.environment = s.environment and e.id = s.entry`

func scanSchedule(r pgx.Row) (api.Schedule, error) {
	var s api.Schedule
	err := r.Scan(
		&s.ID, &s.Entry, &s.Title, &s.Type, &s.Action, &s.Locales, &s.Revision, &s.At, &s.Zone, &s.By, &s.Created,
		&s.State, &s.Finished, &s.Detail, &s.Late, &s.Tries, &s.NextTry,
	)
	return s, err
}

// ErrPast is the error of a schedule for a time that is over, by the clock of
// the database.
var ErrPast = errors.New("the moment is over already")

// Add keeps schedules of the newest revisions of entries, all or none, and returns them in
// their order. Its error is ErrPast or db.ErrNotFound where that is the reason.
func (ss *Schedules) Add(ctx context.Context, all ...api.Schedule) ([]api.Schedule, error) {
	out := make([]api.Schedule, len(all))
	return out, pgx.BeginFunc(ctx, ss.db.Conns(ctx), func(tx pgx.Tx) error {
		for i, sch := range all {
			var past bool
			if err := tx.QueryRow(ctx, `select $1::timestamptz <= clock_timestamp()`, sch.At).Scan(&past); err != nil {
				return err
			}
			if past {
				return ErrPast
			}
			id := uuid.NewString()
			tag, err := tx.Exec(ctx, `insert into schedule (environment, id, entry, action, locales, revision, at, zone,
				by, state) select $1, $2, e.id, $4, $5, e.revision, $6, $7, $8, 'pending' from entry e
				where e.environment = $1 and e.id = $3 and e.revision > 0`,
				ss.environment, id, sch.Entry, sch.Action, sch.Locales, sch.At, sch.Zone, sch.By)
			if err != nil {
				return err
			}
			if tag.RowsAffected() == 0 {
				return fmt.Errorf("entry %s: %w", sch.Entry, db.ErrNotFound)
			}
			out[i], err = scanSchedule(
				tx.QueryRow(ctx, scheduleInfo+` where s.environment = $1 and s.id = $2`, ss.environment, id),
			)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// Get returns one schedule, ErrNotFound if there is none.
func (ss *Schedules) Get(ctx context.Context, id string) (api.Schedule, error) {
	if _, err := uuid.Parse(id); err != nil {
		return api.Schedule{}, fmt.Errorf("schedule %s: %w", id, db.ErrNotFound)
	}
	out, err := scanSchedule(
		ss.db.Conns(ctx).QueryRow(ctx, scheduleInfo+` where s.environment = $1 and s.id = $2`, ss.environment, id),
	)
	if errors.Is(err, pgx.ErrNoRows) {
		err = fmt.Errorf("schedule %s: %w", id, db.ErrNotFound)
	}
	return out, err
}

// List lists schedules, the pending ones first, in the order of their
// times: so many, 200 if limit is 0, and how many there are. A state, if not empty,
// narrows the list; "late" are the pending ones whose time has come.
func (ss *Schedules) List(ctx context.Context, state string, limit int) (out []api.Schedule, all int, err error) {
	const which = ` s.environment = $1 and ($2 = '' or s.state = $2 or $2 = 'late' and s.state = 'pending' and s.at
		< clock_timestamp() - interval '5 seconds')`
	if err := ss.db.Conns(ctx).QueryRow(ctx, `select count(*) from schedule s
		where`+which, ss.environment, state).Scan(&all); err != nil {
		return nil, 0, err
	}
	if limit <= 0 {
		limit = 200
	}
	rows, err := ss.db.Conns(ctx).Query(ctx, scheduleInfo+` where`+which+`
		order by s.state = 'pending' desc, case when s.state = 'pending' then s.at end, s.at desc, s.id limit $3`,
		ss.environment, state, limit)
	if err != nil {
		return nil, 0, err
	}
	out, err = pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.Schedule, error) { return scanSchedule(r) })
	return out, all, err
}

// Move gives a pending schedule another time; ErrScheduleGone if it is
// not pending any more.
func (ss *Schedules) Move(ctx context.Context, id string, at time.Time, zone string) (api.Schedule, error) {
	if _, err := ss.Get(ctx, id); err != nil {
		return api.Schedule{}, err
	}
	var past bool
	if err := ss.db.Conns(ctx).QueryRow(ctx, `select $1::timestamptz <=
		clock_timestamp()`, at).Scan(&past); err != nil {
		return api.Schedule{}, err
	}
	if past {
		return api.Schedule{}, ErrPast
	}
	if err := ss.settle(ctx, `update schedule set at = $3, zone = $4, tries = 0, next_try = null, detail = '' where
		environment = $1 and id = $2 and state = 'pending'`, id, at, zone); err != nil {
		return api.Schedule{}, err
	}
	return ss.Get(ctx, id)
}

// End marks a pending schedule as failed or cancelled, and says why;
// ErrScheduleGone if it is not pending any more.
func (ss *Schedules) End(ctx context.Context, id, state, detail string) error {
	if _, err := ss.Get(ctx, id); err != nil {
		return err
	}
	return ss.settle(
		ctx,
		`update schedule set state = $3, detail = $4, finished = clock_timestamp() where environment = $1 and id =
			$2 and state = 'pending'`,
		id, state, detail,
	)
}

// Delay notes why a pending schedule could not be carried out, and that it is
// tried again after the wait.
func (ss *Schedules) Delay(ctx context.Context, id, why string, wait time.Duration) error {
	return ss.settle(
		ctx,
		`update schedule set tries = tries + 1, detail = $3, next_try = clock_timestamp() + $4::interval where
			environment = $1 and id = $2 and state = 'pending'`,
		id, why, wait,
	)
}

func (ss *Schedules) settle(ctx context.Context, sql, id string, args ...any) error {
	tag, err := ss.db.Conns(ctx).Exec(ctx, sql, append([]any{ss.environment, id}, args...)...)
	if err == nil && tag.RowsAffected() == 0 {
		err = writing.ErrScheduleGone
	}
	return err
}

// Due returns the schedules whose time has come, and how long it is to the
// next one; a day when there is none.
func (ss *Schedules) Due(ctx context.Context) (due []api.Schedule, next time.Duration, err error) {
	rows, err := ss.db.Conns(ctx).
		Query(ctx, scheduleInfo+` where s.environment = $1 and s.state = 'pending' and s.at <= clock_timestamp() and
			coalesce(s.next_try <= clock_timestamp(), true) order by s.at, s.id limit 100`, ss.environment)
	if err != nil {
		return nil, 0, err
	}
	if due, err = pgx.CollectRows(rows,
		func(r pgx.CollectableRow) (api.Schedule, error) { return scanSchedule(r) }); err != nil {
		return nil, 0, err
	}
	var seconds float64
	err = ss.db.Conns(ctx).
		QueryRow(ctx, `select coalesce(extract(epoch from min(at) - clock_timestamp()), 86400)::float8 from schedule
		where environment = $1 and state = 'pending' and at > clock_timestamp()`, ss.environment).
		Scan(&seconds)
	return due, time.Duration(seconds * float64(time.Second)), err
}
