package builds

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/store/changelog"
)

// ConsumeChanges hands the next changes to a background reader of the log that is
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
func (bs *Builds) RuleRuns(ctx context.Context, event string, sequence *int64) ([]api.RuleRun, error) {
	rows, err := bs.db.Conns(ctx).
		Query(ctx, `select sequence, rule, at, fired, detail from rule_run where environment = $1 and (sequence = $3
		or sequence in (select sequence from change where environment = $1 and cause ->> 'event' = $2)) order by
		sequence, rule`, bs.environment, event, sequence)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.RuleRun, error) {
		var x api.RuleRun
		err := r.Scan(&x.Sequence, &x.Rule, &x.At, &x.Fired, &x.Detail)
		return x, err
	})
}

// RunsOf returns what the rules made of one change.
func (bs *Builds) RunsOf(ctx context.Context, sequence int64) ([]api.RuleRun, error) {
	rows, err := bs.db.Conns(ctx).
		Query(ctx, `select sequence, rule, at, fired, detail from rule_run where environment = $1 and sequence = $2
			order by rule`, bs.environment, sequence)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.RuleRun])
}
