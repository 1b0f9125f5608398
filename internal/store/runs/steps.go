package runs

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/rule"
)

// Job is a step that this node is to carry out.
type Job struct {
	Run, Version int64
	Step         int
	Attempts     int // counting this one
	Rule         string
	About        rule.Occurrence
	Steps        []rule.Step
	// Due is when it was due, by the database.
	Due time.Time
}

// StepLease is how long a step is one node's, before another may take it over.
const StepLease = 60 * time.Second

// silentFor is after how long without a sign a node has left its steps behind.
const silentFor = "10 seconds"

// Claim takes steps that are due for a node, or were left behind by one that is silent, at most so
// many. It also says how long it is until the next one is due, at most a minute.
func (rs *Runs) Claim(ctx context.Context, node string, most int) (jobs []Job, next time.Duration, err error) {
	rows, err := rs.db.Conns(ctx).Query(ctx, `with due as (select run, step, due from run_step s where environment = $1
			and state in ('waiting', 'running') and (due <= clock_timestamp() or state = 'running' and not exists
			(select from node n where n.environment = $1 and n.id::text = s.node and n.seen > clock_timestamp() -
			interval '`+silentFor+`')) order by due limit $2 for update skip locked),
		taken as (update run_step s set state = 'running', attempts = s.attempts + 1, due = clock_timestamp() +
			$3::interval, started = coalesce(s.started, clock_timestamp()), node = $4 from due d where s.environment = $1
			and s.run = d.run and s.step = d.step returning s.run, s.step, s.attempts, d.due)
		select t.run, r.version, t.step, t.attempts, r.rule, r.occurrence, r.steps, t.due from taken t join run r on
			r.environment = $1 and r.id = t.run order by t.due`, rs.environment, most, StepLease, node)
	if err != nil {
		return nil, 0, err
	}
	if jobs, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Job]); err != nil {
		return nil, 0, err
	}
	err = rs.db.Conns(ctx).QueryRow(ctx, `select least(interval '1 minute', greatest(interval '0', coalesce((select
		due from run_step where environment = $1 and state in ('waiting', 'running') order by due limit 1) -
		clock_timestamp(), interval '1 minute')))`, rs.environment).Scan(&next)
	return jobs, next, err
}

// Outcome is what came of a try of a step.
type Outcome struct {
	// Error is empty if it was done.
	Error string
	// Result says what was done.
	Result string
	// Again is after how long a failed step is tried again; 0: never, it has failed.
	Again time.Duration
	// Pause is how long the next step is put off.
	Pause time.Duration
	// Continue goes on with the next step although this one has failed.
	Continue bool
}

// Finish notes what came of a try. f, if not nil, runs in the same transaction, if the step is
// this node's still.
func (rs *Runs) Finish(ctx context.Context, j *Job, o Outcome, f func(tx pgx.Tx) error) error {
	return rs.Begin(ctx, func(tx pgx.Tx) error {
		var held bool
		err := tx.QueryRow(ctx, `select state = 'running' and attempts = $4 from run_step where environment = $1 and
			run = $2 and step = $3 for update`, rs.environment, j.Run, j.Step, j.Attempts).Scan(&held)
		if errors.Is(err, pgx.ErrNoRows) || err == nil && !held {
			return nil // it was taken over, or its run is gone
		}
		if err != nil {
			return err
		}
		if f != nil {
			if err := f(tx); err != nil {
				return err
			}
		}
		if o.Error != "" && o.Again > 0 {
			_, err := tx.Exec(
				ctx,
				`update run_step set state = 'waiting', due = clock_timestamp() + $4::interval, error = $5
				where environment = $1 and run = $2 and step = $3`,
				rs.environment,
				j.Run,
				j.Step,
				o.Again,
				o.Error,
			)
			return err
		}
		state := api.StepDone
		if o.Error != "" {
			state = api.StepFailed
		}
		if _, err := tx.Exec(ctx, `update run_step set state = $4, finished = clock_timestamp(), result = $5, error = $6
			where environment = $1 and run = $2 and step = $3`, rs.environment, j.Run, j.Step, state, o.Result,
			o.Error); err != nil {
			return err
		}
		return rs.goOn(ctx, tx, j, state == api.StepDone || o.Continue, o.Pause)
	})
}

// goOn has the next step carried out, or ends the run.
func (rs *Runs) goOn(ctx context.Context, tx pgx.Tx, j *Job, on bool, pause time.Duration) error {
	if on && j.Step+1 < len(j.Steps) {
		_, err := tx.Exec(ctx, `update run_step set state = 'waiting', due = clock_timestamp() + $4::interval where
			environment = $1 and run = $2 and step = $3 and state = 'pending'`, rs.environment, j.Run, j.Step+1, pause)
		return err
	}
	if !on {
		if _, err := tx.Exec(ctx, `update run_step set state = 'skipped' where environment = $1 and run = $2 and
			state = 'pending'`, rs.environment, j.Run); err != nil {
			return err
		}
	}
	_, err := tx.Exec(ctx, `update run set state = case when exists (select from run_step where environment = $1
		and run = $2 and state = 'failed') then 'failed' else 'done' end where environment = $1 and id = $2`,
		rs.environment, j.Run)
	return err
}

// ErrNotFailed is the error of trying a step again that has not failed.
var ErrNotFailed = errors.New("no step of the run has failed")

// Again has the failed step of a run carried out again, and what came after it. Its error is
// db.ErrNotFound or ErrNotFailed where that is the reason.
func (rs *Runs) Again(ctx context.Context, run int64, step int) error {
	return rs.Begin(ctx, func(tx pgx.Tx) error {
		var state string
		err := tx.QueryRow(ctx, `select state from run where environment = $1 and id = $2 for update`, rs.environment,
			run).Scan(&state)
		if errors.Is(err, pgx.ErrNoRows) {
			return notFound(run)
		}
		if err != nil {
			return err
		}
		tag, err := tx.Exec(
			ctx,
			`update run_step set state = 'waiting', attempts = 0, due = clock_timestamp(), error = '',
			started = null, finished = null where environment = $1 and run = $2 and state = 'failed' and step = (select
			min(step) from run_step where environment = $1 and run = $2 and state = 'failed' and ($3 < 0 or step = $3))`,
			rs.environment,
			run,
			step,
		)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrNotFailed
		}
		if _, err := tx.Exec(ctx, `update run_step set state = 'pending' where environment = $1 and run = $2 and state =
			'skipped'`, rs.environment, run); err != nil {
			return err
		}
		_, err = tx.Exec(
			ctx,
			`update run set state = 'running' where environment = $1 and id = $2`,
			rs.environment,
			run,
		)
		return err
	})
}
