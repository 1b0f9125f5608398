package builds

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
)

// Builds are the builds of the sites of an environment, and what rules made of changes. It is
// safe for concurrent use.
type Builds struct {
	db          *db.DB
	environment string
}

// New returns the builds of an environment.
func New(d *db.DB, environment string) *Builds { return &Builds{d, environment} }

// Advance hands the next changes to a background reader of the log that is
// known by its name, and moves its position on in the same transaction. Only
// one node at a time gets any: claimed is false when another one is at it.
func (bs *Builds) ConsumeChanges(
	ctx context.Context, name string, f func(tx pgx.Tx, changes []content.Change) error,
) (claimed bool, n int, err error) {
	// By itself, so that nobody waits here for a transaction that made the row.
	if _, err := bs.db.Conns(ctx).Exec(ctx, `insert into position (environment, name, sequence) values ($1, $2, 0)
		on conflict do nothing`, bs.environment, name); err != nil {
		return false, 0, err
	}
	err = pgx.BeginFunc(ctx, bs.db.Conns(ctx), func(tx pgx.Tx) error {
		var at int64
		err := tx.QueryRow(ctx, `select sequence from position where environment = $1 and name = $2 for update skip
			locked`, bs.environment, name).
			Scan(&at)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		claimed = true
		// Rules look at what happened to which entry; the values would be most of what
		// is read.
		rows, err := tx.Query(
			ctx,
			`select sequence, commit, id::text, at, kind, edition, entry, type, what, null::jsonb, null::jsonb,
				null::jsonb, cause
			from change where environment = $1 and sequence > $2 order by sequence limit 500`,
			bs.environment,
			at,
		)
		if err != nil {
			return err
		}
		changes, err := pgx.CollectRows(
			rows, func(r pgx.CollectableRow) (content.Change, error) { return changelog.ScanChange(r) },
		)
		if err != nil || len(changes) == 0 {
			return err
		}
		n = len(changes)
		if err := f(tx, changes); err != nil {
			return err
		}
		_, err = tx.Exec(
			ctx, `update position set sequence = $3 where environment = $1 and name = $2`, bs.environment, name,
			changes[n-1].Sequence,
		)
		return err
	})
	return claimed, n, err
}

// RuleRun is what a rule made of one change.
type RuleRun struct {
	Sequence int64     `json:"sequence"`
	Rule     string    `json:"rule"`
	At       time.Time `json:"at"`
	Fired    bool      `json:"fired"`
	Detail   string    `json:"detail"`
}

// AddRuleRun notes what a rule made of a change, once per rule and change.
func (bs *Builds) AddRuleRun(
	ctx context.Context, tx pgx.Tx, sequence int64, r *rule.Rule, fired bool, detail string,
) error {
	_, err := tx.Exec(
		ctx,
		`insert into rule_run (environment, sequence, rule, fired, detail) values ($1, $2, $3, $4, $5) on conflict
			do nothing`,
		bs.environment, sequence, r.Name, fired, detail,
	)
	return err
}

// RuleRuns returns what the rules made of the changes of one event, and of the
// change that it found applied.
func (bs *Builds) RuleRuns(ctx context.Context, event string, sequence *int64) ([]RuleRun, error) {
	rows, err := bs.db.Conns(ctx).
		Query(ctx, `select sequence, rule, at, fired, detail from rule_run where environment = $1 and (sequence = $3
		or sequence in (select sequence from change where environment = $1 and cause ->> 'event' = $2)) order by
		sequence, rule`, bs.environment, event, sequence)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (RuleRun, error) {
		var x RuleRun
		err := r.Scan(&x.Sequence, &x.Rule, &x.At, &x.Fired, &x.Detail)
		return x, err
	})
}

// RunsOf returns what the rules made of one change.
func (bs *Builds) RunsOf(ctx context.Context, sequence int64) ([]RuleRun, error) {
	rows, err := bs.db.Conns(ctx).
		Query(ctx, `select sequence, rule, at, fired, detail from rule_run where environment = $1 and sequence = $2
			order by rule`, bs.environment, sequence)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[RuleRun])
}

const buildColumns = `id::text, site, number, state, sequence, causes, immediately, first_request, last_request,
	not_before, attempts, called, started, finished, error, failures, counts, log`

func scanBuild(r pgx.Row) (rebuild.Build, error) {
	var b rebuild.Build
	err := r.Scan(
		&b.ID, &b.Site, &b.Number, &b.State, &b.Sequence, &b.Causes, &b.Now, &b.FirstRequest, &b.LastRequest,
		&b.NotBefore, &b.Attempts, &b.Called, &b.Started, &b.Finished, &b.Error, &b.Failures, &b.Counts, &b.Log,
	)
	return b, err
}

// lockSite keeps all who decide about a site's builds apart until the
// transaction ends, and returns its waiting and its running build.
func (bs *Builds) lockSite(
	ctx context.Context, tx pgx.Tx, site string,
) (waiting, running *rebuild.Build, now time.Time, err error) {
	if _, err = tx.Exec(ctx, `select pg_advisory_xact_lock(hashtext($1),
		hashtext($2))`, bs.environment, "site "+site); err != nil {
		return
	}
	if err = tx.QueryRow(ctx, `select clock_timestamp()`).Scan(&now); err != nil {
		return
	}
	rows, err := tx.Query(
		ctx,
		`select `+buildColumns+` from build where environment = $1 and site = $2 and state in ('waiting', 'running')`,
		bs.environment, site,
	)
	if err != nil {
		return
	}
	builds, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (rebuild.Build, error) { return scanBuild(r) })
	for i := range builds {
		if builds[i].State == rebuild.Waiting {
			waiting = &builds[i]
		} else {
			running = &builds[i]
		}
	}
	return
}

func (bs *Builds) putBuild(ctx context.Context, tx pgx.Tx, b *rebuild.Build) error {
	if b.ID == "" {
		id, err := uuid.NewV7()
		if err != nil {
			return err
		}
		b.ID = id.String()
		if err := tx.QueryRow(ctx, `select coalesce(max(number), 0) + 1 from build where environment = $1 and site =
			$2`, bs.environment, b.Site).Scan(&b.Number); err != nil {
			return err
		}
	}
	_, err := tx.Exec(
		ctx,
		`insert into build (environment, id, site, number, state, sequence, causes, immediately, first_request,
			last_request, not_before,
			attempts, called, started, finished, error, failures, counts, log)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, coalesce($18::jsonb,
		'{}'), coalesce($19::jsonb, '[]'))
		on conflict (environment, id) do update set state = excluded.state, sequence = excluded.sequence, causes =
		excluded.causes,
			immediately = excluded.immediately, last_request = excluded.last_request, not_before =
			excluded.not_before, attempts = excluded.attempts,
			called = excluded.called, started = excluded.started, finished = excluded.finished, error =
			excluded.error, failures = excluded.failures, counts = excluded.counts, log = excluded.log`,
		bs.environment,
		b.ID,
		b.Site,
		b.Number,
		b.State,
		b.Sequence,
		b.Causes,
		b.Now,
		b.FirstRequest,
		b.LastRequest,
		b.NotBefore,
		b.Attempts,
		b.Called,
		b.Started,
		b.Finished,
		b.Error,
		b.Failures,
		b.Counts,
		b.Log,
	)
	return err
}

// RequestBuild joins causes to the site's waiting build.
func (bs *Builds) Request(
	ctx context.Context, site string, causes []rebuild.Cause, sequence int64, immediately bool,
) (b rebuild.Build, err error) {
	err = pgx.BeginFunc(ctx, bs.db.Conns(ctx), func(tx pgx.Tx) error {
		b, err = bs.RequestIn(ctx, tx, site, causes, sequence, immediately)
		return err
	})
	return b, err
}

// RequestBuildIn does the same inside a transaction of Advance's.
func (bs *Builds) RequestIn(
	ctx context.Context, tx pgx.Tx, site string, causes []rebuild.Cause, sequence int64, immediately bool,
) (rebuild.Build, error) {
	waiting, _, now, err := bs.lockSite(ctx, tx, site)
	if err != nil {
		return rebuild.Build{}, err
	}
	b := rebuild.Request(waiting, causes, sequence, immediately, now)
	b.Site = site
	return b, bs.putBuild(ctx, tx, &b)
}

// NextCall returns the build that the site is to be called for now, or nil and
// how long to wait until there may be one. The build is marked as running and
// is returned again, with the same id, unless Called confirms the call in time.
func (bs *Builds) NextCall(
	ctx context.Context, site string, call *rebuild.Call,
) (due *rebuild.Build, wait time.Duration, err error) {
	wait = time.Minute
	err = pgx.BeginFunc(ctx, bs.db.Conns(ctx), func(tx pgx.Tx) error {
		waiting, running, now, err := bs.lockSite(ctx, tx, site)
		if err != nil {
			return err
		}
		if running != nil {
			switch at := lastSign(running); {
			case running.NotBefore != nil && now.Before(*running.NotBefore):
				wait = running.NotBefore.Sub(now)
				return nil
			case running.NotBefore != nil && running.Attempts >= rebuild.MaxAttempts:
				wait = 0
				return bs.fail(ctx, tx, running, waiting, "the builder did not take the call: "+running.Error, now)
			case running.NotBefore != nil: // call again
				due = running
			case now.Sub(at) > call.Timeout.Or(rebuild.DefaultTimeout):
				wait = 0
				return bs.fail(ctx, tx, running, waiting, "no report in time; the build counts as failed", now)
			default:
				wait = min(wait, call.Timeout.Or(rebuild.DefaultTimeout)-now.Sub(at))
				return nil
			}
		} else if waiting == nil {
			return nil
		} else if at := call.Due(waiting); now.Before(at) {
			wait = at.Sub(now)
			return nil
		} else {
			due = waiting
		}
		again := now.Add(rebuild.Backoff(due.Attempts + 1))
		due.State, due.NotBefore, due.Error = rebuild.Running, &again, ""
		due.Attempts++
		if due.Called == nil {
			due.Called = &now
		}
		due.Note(now, nil, "called the builder, for the %s time", ordinal(due.Attempts))
		return bs.putBuild(ctx, tx, due)
	})
	return due, wait, err
}

func lastSign(b *rebuild.Build) time.Time {
	at := b.FirstRequest
	for _, t := range []*time.Time{b.Called, b.Started} {
		if t != nil && t.After(at) {
			at = *t
		}
	}
	return at
}

func ordinal(n int) string {
	switch n {
	case 1:
		return "first"
	case 2:
		return "second"
	case 3:
		return "third"
	}
	return strconv.Itoa(n) + "th"
}

// longestRetryAfter bounds how long a builder may have its call put off.
const longestRetryAfter = time.Hour

// Called notes that the builder took the call, or, with a reason, that it did
// not: then the call is made again later, no earlier than after the wait. The build of a
// builder that is silent ends with that.
func (bs *Builds) Called(
	ctx context.Context, b *rebuild.Build, silent bool, failure string, wait time.Duration,
) error {
	return pgx.BeginFunc(ctx, bs.db.Conns(ctx), func(tx pgx.Tx) error {
		_, running, now, err := bs.lockSite(ctx, tx, b.Site)
		if err != nil || running == nil || running.ID != b.ID {
			return err
		}
		running.Error = failure
		if failure == "" {
			if running.NotBefore != nil {
				running.Called = &now // the time that it has to report begins
			}
			running.NotBefore = nil
			running.Note(now, nil, "the builder took the call")
			if silent {
				running.State, running.Finished = rebuild.Finished, &now
				running.Note(now, nil, "finished, as far as is known: the builder does not report")
			}
			return bs.putBuild(ctx, tx, running)
		}
		if at := now.Add(min(wait, longestRetryAfter)); wait > 0 &&
			(running.NotBefore == nil || at.After(*running.NotBefore)) {
			running.NotBefore = &at
		}
		running.Note(now, running.NotBefore, "the builder did not take the call: %s", failure)
		return bs.putBuild(ctx, tx, running)
	})
}

// HeardOf takes word from a site as a sign that its builder works again: what waits
// because builds have failed is tried at once. A call that is under way is left alone.
func (bs *Builds) HeardOf(ctx context.Context, site string) error {
	_, err := bs.db.Conns(ctx).
		Exec(ctx, `update build set not_before = case when state = 'waiting' then null else clock_timestamp() end
		where environment = $1 and site = $2 and (state = 'waiting' or state = 'running' and error <> '') and
		not_before > clock_timestamp()`, bs.environment, site)
	return err
}

// ErrNotRunning is the error of a report on a build that has ended.
var ErrNotRunning = errors.New("the build has ended already")

// ReportBuild notes what the builder says of a running build: that it started,
// finished or failed, with a reason. After a failure the causes wait again.
func (bs *Builds) Report(
	ctx context.Context, id string, state rebuild.State, started bool, reason string,
) (rebuild.Build, error) {
	var out rebuild.Build
	known, err := bs.Get(ctx, id)
	if err != nil {
		return out, err
	}
	err = pgx.BeginFunc(ctx, bs.db.Conns(ctx), func(tx pgx.Tx) error {
		waiting, running, now, err := bs.lockSite(ctx, tx, known.Site)
		if err != nil {
			return err
		}
		if running == nil || running.ID != id {
			return fmt.Errorf("build %s: %w", id, ErrNotRunning)
		}
		running.NotBefore, running.Error = nil, ""
		if running.Started == nil {
			running.Started = &now
		}
		if !started {
			if state == rebuild.Failed {
				if err := bs.fail(ctx, tx, running, waiting, cmp.Or(reason, "the builder reported a failure and "+
					"no reason"), now); err != nil {
					return err
				}
				out = *running
				return nil
			}
			running.State, running.Finished = rebuild.Finished, &now
			running.Note(now, nil, "the builder reports that it has finished")
		} else {
			running.Note(now, nil, "the builder reports that it has started")
		}
		out = *running
		return bs.putBuild(ctx, tx, running)
	})
	return out, err
}

// fail ends a build and lets its causes wait for another one: the longer, the more have
// failed in a row.
func (bs *Builds) fail(
	ctx context.Context, tx pgx.Tx, b, waiting *rebuild.Build, reason string, now time.Time,
) error {
	b.State, b.Finished, b.NotBefore, b.Error = rebuild.Failed, &now, nil, reason
	failures := b.Failures + 1
	at := now.Add(rebuild.Backoff(failures))
	b.Note(now, &at, "failed: %s", reason)
	if err := bs.putBuild(ctx, tx, b); err != nil {
		return err
	}
	next := rebuild.Again(waiting, b, now)
	next.Site, next.Failures, next.NotBefore = b.Site, failures, &at
	next.Note(now, &at, "waits because build %d has failed, as the %s in a row", b.Number, ordinal(failures))
	return bs.putBuild(ctx, tx, &next)
}

// Build returns one build, ErrNotFound if there is none of that id.
func (bs *Builds) Get(ctx context.Context, id string) (rebuild.Build, error) {
	if _, err := uuid.Parse(id); err != nil {
		return rebuild.Build{}, fmt.Errorf("build %s: %w", id, db.ErrNotFound)
	}
	b, err := scanBuild(
		bs.db.Conns(ctx).
			QueryRow(ctx, `select `+buildColumns+` from build where environment = $1 and id = $2`, bs.environment, id),
	)
	if errors.Is(err, pgx.ErrNoRows) {
		err = fmt.Errorf("build %s: %w", id, db.ErrNotFound)
	}
	return b, err
}

// BuildFilter narrows ListBuilds; empty parts do not.
type BuildFilter struct {
	Site string
	// Event must be among the causes, or else Sequence.
	Event    string
	Sequence *int64
	Since    time.Time // requested no earlier
	Limit    int
}

// ListBuilds returns builds, the newest first.
func (bs *Builds) List(ctx context.Context, f BuildFilter) ([]rebuild.Build, error) {
	if f.Limit <= 0 || f.Limit > 500 {
		f.Limit = 50
	}
	rows, err := bs.db.Conns(ctx).
		Query(ctx, `select `+buildColumns+` from build where environment = $1 and ($2 = '' or site = $2)
		and ($3 = '' or causes @> jsonb_build_array(jsonb_build_object('event', $3::text)) or causes @>
		jsonb_build_array(jsonb_build_object('sequence', $4::bigint))
			or jsonb_array_length(causes) >= 1000 and (causes -> 0 ->> 'sequence')::bigint <= $4 and sequence >= $4)
		and first_request >= $5 order by first_request desc, number desc limit
		$6`, bs.environment, f.Site, f.Event, f.Sequence, f.Since, f.Limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (rebuild.Build, error) { return scanBuild(r) })
}
