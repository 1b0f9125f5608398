package changelog

import (
	"context"
	"time"

	"ubiquon/internal/api"

	"github.com/jackc/pgx/v5"
)

// goneAfter is how long a node is silent that is taken to be gone for good.
const goneAfter = "1 hour"

// SeeNode says that a node is there, and how far it has applied the change log.
func (l *Log) SeeNode(ctx context.Context, n api.Node) error {
	_, err := l.db.Conns(ctx).Exec(ctx, `insert into node (environment, id, name, applied)
		select $1, $2, $3, case when $4 = 0 or exists (select from change where environment = $1 and sequence = $4
		and id::text = $5) then $4 else 0 end
		on conflict (environment, id) do update set seen = clock_timestamp(), applied =
		excluded.applied`, l.environment, n.ID, n.Name, n.Applied, n.Mark)
	return err
}

// ForgetNode says that a node has ended; with "" those that have been silent for
// long are forgotten.
func (l *Log) ForgetNode(ctx context.Context, id string) error {
	_, err := l.db.Conns(ctx).
		Exec(ctx, `delete from node where environment = $1 and ($2 <> '' and id::text = $2 or $2 = '' and seen <
			clock_timestamp() - interval '`+goneAfter+`')`, l.environment, id)
	return err
}

// Uptime is how long this PostgreSQL server has been running. What nodes told the one
// before it, if it was another copy, nobody knows.
func (l *Log) Uptime(ctx context.Context) (time.Duration, error) {
	var seconds float64
	err := l.db.Conns(ctx).
		QueryRow(ctx, `select extract(epoch from clock_timestamp() - pg_postmaster_start_time())::float8`).
		Scan(&seconds)
	return time.Duration(seconds * float64(time.Second)), err
}

// Nodes lists the nodes, those that were started first first.
func (l *Log) Nodes(ctx context.Context) ([]api.Node, error) {
	rows, err := l.db.Conns(ctx).
		Query(ctx, `select id::text, name, started, seen, extract(epoch from clock_timestamp() - seen)::float8,
			applied from node where environment = $1 order by started, id`, l.environment)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.Node, error) {
		var n api.Node
		var silent float64
		err := r.Scan(&n.ID, &n.Name, &n.Started, &n.Seen, &silent, &n.Applied)
		n.Silent = time.Duration(silent * float64(time.Second))
		return n, err
	})
}
