// Package builds stores builds of sites, what rules made of changes, and what caches downstream
// were told.
package builds

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	corepages "ubiquon/internal/core/pages"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/pages"
)

// Builds are the builds of the sites of an environment, and what rules made of changes. It is
// safe for concurrent use.
type Builds struct {
	db          *db.DB
	environment string
	pages       *pages.Pages
}

// New returns the builds of an environment, whose pages are those of the ledgers.
func New(d *db.DB, environment string, ledgers *pages.Pages) *Builds {
	return &Builds{d, environment, ledgers}
}

const buildColumns = `id::text, site, number, state, sequence, causes, immediately, first_request, last_request,
	not_before, attempts, called, started, finished, error, failures, counts, log, link, pages`

func scanBuild(r pgx.Row) (rebuild.Build, error) {
	var b rebuild.Build
	err := r.Scan(
		&b.ID, &b.Site, &b.Number, &b.State, &b.Sequence, &b.Causes, &b.Now, &b.FirstRequest, &b.LastRequest,
		&b.NotBefore, &b.Attempts, &b.Called, &b.Started, &b.Finished, &b.Error, &b.Failures, &b.Counts, &b.Log, &b.Link,
		&b.Pages,
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
	asked := b.Pages
	if b.State == rebuild.Waiting || b.State == rebuild.Skipped || b.State == rebuild.Cancelled {
		asked = corepages.Asked{} // it is not said yet, or never was
	}
	_, err := tx.Exec(
		ctx,
		`insert into build (environment, id, site, number, state, sequence, causes, immediately, first_request,
			last_request, not_before,
			attempts, called, started, finished, error, failures, counts, log, link, pages)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, coalesce($18::jsonb,
		'{}'), coalesce($19::jsonb, '[]'), $20, $21)
		on conflict (environment, id) do update set state = excluded.state, sequence = excluded.sequence, causes =
		excluded.causes,
			immediately = excluded.immediately, last_request = excluded.last_request, not_before =
			excluded.not_before, attempts = excluded.attempts,
			called = excluded.called, started = excluded.started, finished = excluded.finished, error =
			excluded.error, failures = excluded.failures, counts = excluded.counts, log = excluded.log, link =
			excluded.link, pages = excluded.pages, promoted = build.promoted and excluded.state <> 'running'`,
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
		b.Link,
		asked,
	)
	return err
}

// Request joins causes to the site's waiting build.
func (bs *Builds) Request(
	ctx context.Context, site string, causes []rebuild.Cause, sequence int64, immediately bool,
) (b rebuild.Build, err error) {
	err = pgx.BeginFunc(ctx, bs.db.Conns(ctx), func(tx pgx.Tx) error {
		b, err = bs.RequestIn(ctx, tx, site, causes, sequence, immediately)
		return err
	})
	return b, err
}

// RequestIn does the same inside a transaction of Advance's.
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

// Report is what a builder says of a build.
type Report struct {
	// Started says that it has begun; else State is finished or failed, Error why.
	Started bool
	State   rebuild.State
	Error   string
	// Link leads to the builder's own page of it; Lines are added to the log.
	Link  string
	Lines []string
}

// Report notes what the builder says of a running build. After a failure the causes wait again.
func (bs *Builds) Report(ctx context.Context, id string, r Report) (rebuild.Build, error) {
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
		running.Link = cmp.Or(r.Link, running.Link)
		for _, line := range r.Lines {
			running.Note(now, nil, "%s", line)
		}
		switch {
		case r.Started:
			running.Note(now, nil, "the builder reports that it has started")
		case r.State == rebuild.Failed:
			err := bs.fail(ctx, tx, running, waiting, cmp.Or(r.Error, "the builder reported a failure and no reason"), now)
			out = *running
			return err
		default:
			if err := bs.finish(ctx, tx, running, now, "the builder reports that it has finished"); err != nil {
				return err
			}
		}
		out = *running
		return bs.putBuild(ctx, tx, running)
	})
	return out, err
}

// finish ends a build well.
func (bs *Builds) finish(ctx context.Context, tx pgx.Tx, b *rebuild.Build, now time.Time, says string) error {
	b.State, b.Finished = rebuild.Finished, &now
	b.Note(now, nil, "%s", says)
	if b.Failures >= rebuild.FailingAfter {
		return bs.signal(ctx, tx, rule.SiteBack, b, now, fmt.Sprintf("build %d has finished", b.Number))
	}
	return nil
}

// signal notes for the rules what has happened to a build.
func (bs *Builds) signal(
	ctx context.Context, tx pgx.Tx, event string, b *rebuild.Build, now time.Time, detail string,
) error {
	src, err := json.Marshal(rule.Occurrence{
		Event: event, Subject: b.Site, Detail: detail, At: now, Origin: content.Local,
	})
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `insert into signal (environment, event, subject, data) values ($1, $2, $3, $4)`,
		bs.environment, event, b.Site, src)
	return err
}

// ErrNotWaiting is the error of taking back a build that runs or has ended.
var ErrNotWaiting = errors.New("the build does not wait any more")

// Cancel takes a waiting build back.
func (bs *Builds) Cancel(ctx context.Context, id, by string) (out rebuild.Build, err error) {
	known, err := bs.Get(ctx, id)
	if err != nil {
		return out, err
	}
	err = pgx.BeginFunc(ctx, bs.db.Conns(ctx), func(tx pgx.Tx) error {
		waiting, _, now, err := bs.lockSite(ctx, tx, known.Site)
		if err != nil {
			return err
		}
		if waiting == nil || waiting.ID != id {
			return fmt.Errorf("build %s: %w", id, ErrNotWaiting)
		}
		waiting.State, waiting.Finished, waiting.NotBefore = rebuild.Cancelled, &now, nil
		waiting.Note(now, nil, "cancelled by %s", by)
		out = *waiting
		return bs.putBuild(ctx, tx, waiting)
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
	detail := fmt.Sprintf("build %d: %s", b.Number, reason)
	if err := bs.signal(ctx, tx, rule.BuildFails, b, now, detail); err != nil {
		return err
	}
	if failures == rebuild.FailingAfter {
		if err := bs.signal(ctx, tx, rule.SiteFails, b, now, detail); err != nil {
			return err
		}
	}
	next := rebuild.Again(waiting, b, now)
	next.Site, next.Failures, next.NotBefore = b.Site, failures, &at
	next.Note(now, &at, "waits because build %d has failed, as the %s in a row", b.Number, ordinal(failures))
	return bs.putBuild(ctx, tx, &next)
}

// Get returns one build, ErrNotFound if there is none of that id.
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

// List returns builds, the newest first.
func (bs *Builds) List(ctx context.Context, f api.BuildFilter) ([]rebuild.Build, error) {
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
