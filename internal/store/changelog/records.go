package changelog

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store/db"
)

// Queue appends to the change log; each group of changes has a commit
// number of its own. The end of the log is locked here, by the last statements
// before the commit: until that is done nobody else gets a number, and who then
// does sees it.
func (l *Log) Queue(b *db.Batch, groups [][]content.Change) error {
	type numbered struct {
		content.Change
		Group int `json:"group"`
	}
	var all []numbered
	var at []*content.Change
	for g := range groups {
		for i := range groups[g] {
			all = append(all, numbered{groups[g][i], g + 1})
			at = append(at, &groups[g][i])
		}
	}
	src, err := json.Marshal(all)
	if err != nil {
		return err
	}
	b.Exec(`select pg_advisory_xact_lock($1, hashtext($2))`, db.LockLog, l.environment)
	b.Query(func(r pgx.Rows) error {
		var n int
		var sequence, commit int64
		var id string
		var time time.Time
		if err := r.Scan(&n, &sequence, &commit, &id, &time); err != nil {
			return err
		}
		c := at[n-1]
		c.Sequence, c.Commit, c.ID, c.At = sequence, commit, id, time
		return nil
	}, `with last as (select sequence, commit, at from change where environment = $1 order by sequence desc limit 1),
		taken as materialized (select coalesce(max(sequence), 0) as base, coalesce(max(commit), 0) as first,
		greatest(max(at), clock_timestamp()) as at from last)
		insert into change (environment, sequence, commit, at, kind, edition, entry, type, what, fields, before,
		after, cause)
		select $1, t.base + n, t.first + (c ->> 'group')::bigint, t.at, c ->> 'kind', coalesce(c ->> 'edition', ''),
		coalesce(c ->> 'entry', ''), coalesce(c ->> 'type', ''),
			coalesce(c ->> 'what', ''), c -> 'fields', c -> 'before', c -> 'after', c -> 'cause'
		from taken t, jsonb_array_elements($2::jsonb) with ordinality as l (c, n)
		returning sequence - (select base from taken), sequence, commit, id::text, at`, l.environment, src)
	return nil
}

// OfEvent returns the changes that an announcement of an origin has made.
func (l *Log) OfEvent(ctx context.Context, event string) ([]content.Change, error) {
	rows, err := l.db.Conns(ctx).Query(ctx, `select `+ChangeColumns+` from change where environment = $1 and cause ->>
		'event' = $2 order by sequence limit 100`, l.environment, event)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (content.Change, error) { return ScanChange(r) })
}
