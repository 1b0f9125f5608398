package runs

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
)

const runColumns = `r.id, r.sequence, r.rule, r.version, r.event, r.entry, r.type, r.at, r.fired, r.reason, r.state,
	coalesce((select jsonb_agg(jsonb_build_object('step', s.step, 'kind', s.kind, 'state', s.state, 'attempts',
		s.attempts, 'due', case when s.state in ('waiting', 'running') then s.due end, 'started', s.started,
		'finished', s.finished, 'tookMs', extract(epoch from s.finished - s.started) * 1000, 'result', s.result,
		'error', s.error) order by s.step) from run_step s where s.environment = r.environment and s.run = r.id), '[]')`

func scanRun(r pgx.CollectableRow) (api.RuleRun, error) {
	var x api.RuleRun
	err := r.Scan(&x.ID, &x.Sequence, &x.Rule, &x.Version, &x.Event, &x.Entry, &x.Type, &x.At, &x.Fired, &x.Reason,
		&x.State, &x.Steps)
	return x, err
}

// List returns runs, the newest first.
func (rs *Runs) List(ctx context.Context, f api.RuleRunFilter) ([]api.RuleRun, error) {
	if f.Limit <= 0 || f.Limit > 500 {
		f.Limit = 50
	}
	rows, err := rs.db.Conns(ctx).Query(ctx, `select `+runColumns+` from run r where r.environment = $1
		and ($2 = '' or r.rule = $2) and ($3 = 0 or r.sequence = $3) and ($4 = '' or r.entry = $4)
		and ($5 = '' or case $5 when 'fired' then r.fired when 'not-fired' then not r.fired else r.state = $5 end)
		and ($6 = 0 or r.id < $6) order by r.id desc limit $7`,
		rs.environment, f.Rule, f.Sequence, f.Entry, f.Outcome, f.Before, f.Limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRun)
}

// Get returns a run with what it was about. Its error is db.ErrNotFound if there is none.
func (rs *Runs) Get(ctx context.Context, id int64) (api.RuleRun, error) {
	rows, err := rs.db.Conns(ctx).Query(ctx, `select `+runColumns+` from run r where r.environment = $1 and r.id = $2`,
		rs.environment, id)
	if err != nil {
		return api.RuleRun{}, err
	}
	all, err := pgx.CollectRows(rows, scanRun)
	if err != nil {
		return api.RuleRun{}, err
	}
	if len(all) == 0 {
		return api.RuleRun{}, notFound(id)
	}
	err = rs.db.Conns(ctx).QueryRow(ctx, `select occurrence from run where environment = $1 and id = $2`,
		rs.environment, id).Scan(&all[0].About)
	return all[0], err
}

// OfEvent returns what the rules made of the changes of an announcement, and of the change that
// it found applied.
func (rs *Runs) OfEvent(ctx context.Context, event string, sequence *int64) ([]api.RuleRun, error) {
	rows, err := rs.db.Conns(ctx).Query(ctx, `select `+runColumns+` from run r where r.environment = $1 and r.sequence >
		0 and (r.sequence = $3 or r.sequence in (select sequence from change where environment = $1 and cause ->>
		'event' = $2)) order by r.sequence, r.rule`, rs.environment, event, sequence)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRun)
}

// OfChange returns what the rules made of a change.
func (rs *Runs) OfChange(ctx context.Context, sequence int64) ([]api.RuleRun, error) {
	rows, err := rs.db.Conns(ctx).Query(ctx, `select `+runColumns+` from run r where r.environment = $1 and r.sequence =
		$2 order by r.rule`, rs.environment, sequence)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRun)
}

// Standing is how a rule stands.
type Standing struct {
	Last  *api.RuleRun
	Fired int64
}

// Standings returns the last run of each rule that fired, and how many there are.
func (rs *Runs) Standings(ctx context.Context, rules []string) (map[string]Standing, error) {
	out := map[string]Standing{}
	rows, err := rs.db.Conns(ctx).Query(ctx, `select `+runColumns+` from unnest($2::text[]) as n (rule) cross join
		lateral (select * from run where environment = $1 and rule = n.rule and fired order by id desc limit 1) r`,
		rs.environment, rules)
	if err != nil {
		return nil, err
	}
	last, err := pgx.CollectRows(rows, scanRun)
	if err != nil {
		return nil, err
	}
	for _, r := range last {
		out[r.Rule] = Standing{Last: &r}
	}
	rows, err = rs.db.Conns(ctx).Query(ctx, `select rule, count(*) from run where environment = $1 and rule = any($2)
		and fired group by rule`, rs.environment, rules)
	if err != nil {
		return nil, err
	}
	var name string
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&name, &n}, func() error {
		out[name] = Standing{Last: out[name].Last, Fired: n}
		return nil
	})
	return out, err
}

// trimmedAtOnce bounds what one statement of Trim deletes.
const trimmedAtOnce = 5000

// Trim deletes runs and events of the service that are older, some at a time: it returns how
// many those were.
func (rs *Runs) Trim(ctx context.Context, keep time.Duration) (int, error) {
	tag, err := rs.db.Conns(ctx).Exec(ctx, `delete from run where environment = $1 and id in (select id from run where
		environment = $1 and at < clock_timestamp() - $2::interval and state <> 'running' order by at limit $3)`,
		rs.environment, keep, trimmedAtOnce)
	if err != nil {
		return 0, err
	}
	n := int(tag.RowsAffected())
	tag, err = rs.db.Conns(ctx).Exec(ctx, `delete from signal where environment = $1 and taken and number in (select
		number from signal where environment = $1 and at < clock_timestamp() - $2::interval order by number limit $3)`,
		rs.environment, keep, trimmedAtOnce)
	return n + int(tag.RowsAffected()), err
}
