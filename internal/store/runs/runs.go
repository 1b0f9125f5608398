// Package runs stores what rules made of events, and the steps that they do: a durable queue. It
// also stores events of the service, and when rules fire by themselves.
package runs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
)

// Runs are those of an environment. It is safe for concurrent use.
type Runs struct {
	db          *db.DB
	environment string
}

// New returns the runs of an environment.
func New(d *db.DB, environment string) *Runs { return &Runs{d, environment} }

// Run is what a rule made of an occurrence.
type Run struct {
	Rule *rule.Compiled
	// Source is unique for what set it off.
	Source string
	About  *rule.Occurrence
	rule.Decision
	// Done are the results of the first steps, which were carried out already.
	Done []string
}

// changesPerTransaction is how many changes are looked at together.
const changesPerTransaction = 500

// ConsumeChanges hands the next changes to a background reader of the log that is known by its
// name, and moves its position on in the same transaction. Only one node at a time gets any:
// claimed is false when another one is at it. Without values they come without Before and
// After.
func (rs *Runs) ConsumeChanges(
	ctx context.Context, name string, values bool, f func(tx pgx.Tx, changes []content.Change) error,
) (claimed bool, n int, err error) {
	// By itself, so that nobody waits here for a transaction that made the row.
	if _, err := rs.db.Conns(ctx).Exec(ctx, `insert into position (environment, name, sequence) values ($1, $2, 0)
		on conflict do nothing`, rs.environment, name); err != nil {
		return false, 0, err
	}
	sides := "null::jsonb, null::jsonb"
	if values {
		sides = "before, after"
	}
	err = pgx.BeginFunc(ctx, rs.db.Conns(ctx), func(tx pgx.Tx) error {
		var at int64
		err := tx.QueryRow(ctx, `select sequence from position where environment = $1 and name = $2 for update skip
			locked`, rs.environment, name).Scan(&at)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		claimed = true
		rows, err := tx.Query(ctx, `select sequence, commit, id::text, at, kind, edition, entry, type, what, fields,
			`+sides+`, cause from change where environment = $1 and sequence > $2 order by sequence limit $3`,
			rs.environment, at, changesPerTransaction)
		if err != nil {
			return err
		}
		changes, err := pgx.CollectRows(rows, scanChange)
		if err != nil || len(changes) == 0 {
			return err
		}
		n = len(changes)
		if err := f(tx, changes); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `update position set sequence = $3 where environment = $1 and name = $2`,
			rs.environment, name, changes[n-1].Sequence)
		return err
	})
	return claimed, n, err
}

func scanChange(r pgx.CollectableRow) (content.Change, error) { return changelog.ScanChange(r) }

// Add notes what rules made of occurrences, once for each rule and source, and has the steps of
// those that fired carried out.
func (rs *Runs) Add(ctx context.Context, tx pgx.Tx, runs []Run) error {
	if len(runs) == 0 {
		return nil
	}
	type row struct {
		Rule       string           `json:"rule"`
		Version    int64            `json:"version"`
		Source     string           `json:"source"`
		Sequence   int64            `json:"sequence"`
		Event      string           `json:"event"`
		Entry      string           `json:"entry"`
		Type       string           `json:"type"`
		Fired      bool             `json:"fired"`
		Reason     string           `json:"reason"`
		State      string           `json:"state"`
		Occurrence *rule.Occurrence `json:"occurrence,omitempty"`
		Steps      []rule.Step      `json:"steps,omitempty"`
	}
	rows := make([]row, len(runs))
	at := map[string]*Run{}
	for i := range runs {
		r := &runs[i]
		rows[i] = row{
			Rule: r.Rule.Name, Version: r.Rule.Version, Source: r.Source, Sequence: r.About.Sequence,
			Event: r.About.Event, Entry: r.About.Entry, Type: r.About.Type, Fired: r.Fires, Reason: r.Reason,
			State: api.RunNotFired,
		}
		if r.Fires {
			rows[i].State, rows[i].Occurrence, rows[i].Steps = api.RunRunning, r.About, r.Rule.Do
			if len(r.Done) == len(r.Rule.Do) {
				rows[i].State = api.RunDone
			}
			at[r.Rule.Name+"\x00"+r.Source] = r
		}
	}
	src, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	made, err := tx.Query(ctx, `insert into run (environment, rule, version, source, sequence, event, entry, type,
			fired, reason, state, occurrence, steps)
		select $1, r ->> 'rule', (r ->> 'version')::bigint, r ->> 'source', (r ->> 'sequence')::bigint, r ->> 'event',
			r ->> 'entry', r ->> 'type', (r ->> 'fired')::boolean, r ->> 'reason', r ->> 'state', r -> 'occurrence',
			r -> 'steps'
		from jsonb_array_elements($2::jsonb) with ordinality as l (r, n) order by n
		on conflict (environment, rule, source) do nothing returning id, rule, source, fired`, rs.environment, src)
	if err != nil {
		return err
	}
	return rs.addSteps(ctx, tx, made, at)
}

// addSteps adds the steps of the runs that were made and have fired, by rule and source.
func (rs *Runs) addSteps(ctx context.Context, tx pgx.Tx, made pgx.Rows, at map[string]*Run) error {
	var ids []int64
	var numbers []int32
	var kinds, states, results []string
	var id int64
	var name, source string
	var fired bool
	if _, err := pgx.ForEachRow(made, []any{&id, &name, &source, &fired}, func() error {
		r := at[name+"\x00"+source]
		if !fired || r == nil {
			return nil
		}
		for i := range r.Rule.Do {
			state, result := api.StepPending, ""
			switch {
			case i < len(r.Done):
				state, result = api.StepDone, r.Done[i]
			case i == len(r.Done):
				state = api.StepWaiting
			}
			ids, numbers, kinds = append(ids, id), append(numbers, int32(i)), append(kinds, r.Rule.Do[i].Kind())
			states, results = append(states, state), append(results, result)
		}
		return nil
	}); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, `insert into run_step (environment, run, step, kind, state, result, attempts, started,
			finished)
		select $1, s.run, s.step, s.kind, s.state, s.result, case when s.state = 'done' then 1 else 0 end,
			case when s.state = 'done' then clock_timestamp() end, case when s.state = 'done' then clock_timestamp() end
		from unnest($2::bigint[], $3::int[], $4::text[], $5::text[], $6::text[]) as s (run, step, kind, state, result)`,
		rs.environment, ids, numbers, kinds, states, results)
	return err
}

// Begin runs f in a transaction.
func (rs *Runs) Begin(ctx context.Context, f func(tx pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, rs.db.Conns(ctx), f)
}

// AddSignal notes an event of the service for the rules, unless the same was noted of the
// subject within a time.
func (rs *Runs) AddSignal(ctx context.Context, o rule.Occurrence, within time.Duration) (added bool, err error) {
	src, err := json.Marshal(o)
	if err != nil {
		return false, err
	}
	tag, err := rs.db.Conns(ctx).Exec(ctx, `insert into signal (environment, event, subject, data)
		select $1, $2, $3, $4 where $5::interval = '0' or not exists (select from signal where environment = $1
		and event = $2 and subject = $3 and at > clock_timestamp() - $5::interval)`,
		rs.environment, o.Event, o.Subject, src, within)
	return err == nil && tag.RowsAffected() > 0, err
}

// LastSignal returns when an event of the service was last noted of a subject; the zero time for
// never.
func (rs *Runs) LastSignal(ctx context.Context, event, subject string) (at time.Time, err error) {
	err = rs.db.Conns(ctx).QueryRow(ctx, `select coalesce(max(at), '0001-01-01') from signal where environment = $1
		and event = $2 and subject = $3`, rs.environment, event, subject).Scan(&at)
	return at, err
}

// ConsumeSignals hands the next events of the service to f, in a transaction that marks them as
// taken. It returns how many there were.
func (rs *Runs) ConsumeSignals(
	ctx context.Context, f func(tx pgx.Tx, all []rule.Occurrence) error,
) (n int, err error) {
	err = rs.Begin(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `with d as materialized (select number from signal where
			environment = $1 and not taken order by number limit 100 for update skip locked)
			update signal s set taken = true from d
			where s.environment = $1 and s.number = d.number returning s.number, s.at, s.data`, rs.environment)
		if err != nil {
			return err
		}
		all, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (o rule.Occurrence, err error) {
			var number int64
			var at time.Time
			err = r.Scan(&number, &at, &o)
			o.Signal, o.At = number, at
			return o, err
		})
		if n = len(all); err != nil || n == 0 {
			return err
		}
		return f(tx, all)
	})
	return n, err
}

// Clock says when rules fire by themselves.
type Clock struct {
	Rule    string
	Version int64
	Next    time.Time
}

// KeepClocks takes up the times of rules, by rule and version, and forgets those of others. What
// is kept of the same version stays.
func (rs *Runs) KeepClocks(ctx context.Context, all []Clock) error {
	names := make([]string, len(all))
	var b pgx.Batch
	for i, c := range all {
		names[i] = c.Rule
		b.Queue(`insert into rule_clock (environment, rule, version, next) values ($1, $2, $3, $4)
			on conflict (environment, rule) do update set version = excluded.version, next = excluded.next
			where rule_clock.version < excluded.version`, rs.environment, c.Rule, c.Version, c.Next)
	}
	b.Queue(`delete from rule_clock where environment = $1 and rule <> all($2)`, rs.environment, names)
	return rs.db.Conns(ctx).SendBatch(ctx, &b).Close()
}

// Clocks returns when rules fire by themselves next, and the time of the database.
func (rs *Runs) Clocks(ctx context.Context) (all []Clock, now time.Time, err error) {
	if err = rs.db.Conns(ctx).QueryRow(ctx, `select clock_timestamp()`).Scan(&now); err != nil {
		return nil, now, err
	}
	rows, err := rs.db.Conns(ctx).Query(ctx, `select rule, version, next from rule_clock where environment = $1
		order by next`, rs.environment)
	if err != nil {
		return nil, now, err
	}
	all, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Clock])
	return all, now, err
}

// Advance moves the time of a rule on; false: another node has done that.
func (rs *Runs) Advance(ctx context.Context, tx pgx.Tx, c Clock, next time.Time) (bool, error) {
	tag, err := tx.Exec(ctx, `update rule_clock set next = $5 where environment = $1 and rule = $2 and version = $3
		and next = $4`, rs.environment, c.Rule, c.Version, c.Next, next)
	return err == nil && tag.RowsAffected() == 1, err
}

// notFound is the error of a run that is not there.
func notFound(id int64) error { return fmt.Errorf("run %d: %w", id, db.ErrNotFound) }
