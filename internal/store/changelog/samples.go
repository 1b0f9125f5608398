package changelog

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
)

// keepSamples is how long samples are kept: the longest span that is shown, and a day.
const keepSamples = "8 days"

// AddSample adds what a node did to its present minute.
func (l *Log) AddSample(ctx context.Context, node string, s api.CacheSample) error {
	_, err := l.db.Conns(ctx).Exec(ctx, `insert into sample (environment, node, minute, hits, misses, expired, held,
		bytes, p50, p99) values ($1, $2, date_trunc('minute', clock_timestamp()), $3, $4, $5, $6, $7, $8, $9)
		on conflict (environment, minute, node) do update set hits = sample.hits + excluded.hits,
		misses = sample.misses + excluded.misses, expired = sample.expired + excluded.expired, held = excluded.held,
		bytes = excluded.bytes, p50 = excluded.p50, p99 = greatest(sample.p99, excluded.p99)`,
		l.environment, node, s.Hits, s.Misses, s.Expired, s.Held, int64(s.Bytes), s.P50, s.P99)
	return err
}

// Samples returns what all nodes together did over the span up to now, a sample for each
// step; one of a time in which no node ran is all zero. Steps are whole minutes.
func (l *Log) Samples(ctx context.Context, span, step time.Duration) ([]api.CacheSample, error) {
	rows, err := l.db.Conns(ctx).Query(ctx, `with step as (
			select generate_series(date_bin($3::interval, clock_timestamp() - $2::interval + $3::interval,
				'2000-01-01T00:00Z'), clock_timestamp(), $3::interval) as at),
		held as (select date_bin($3::interval, minute, '2000-01-01T00:00Z') as at, minute, sum(hits) as hits,
			sum(misses) as misses, sum(expired) as expired, sum(held) as held, sum(bytes) as bytes,
			max(p50) as p50, max(p99) as p99 from sample
			where environment = $1 and minute >= clock_timestamp() - $2::interval group by 1, 2)
		select step.at, coalesce(sum(hits), 0)::bigint, coalesce(sum(misses), 0)::bigint,
			coalesce(sum(expired), 0)::bigint, coalesce(max(held), 0)::bigint, coalesce(max(bytes), 0)::bigint,
			coalesce(avg(p50) filter (where p50 > 0), 0)::float8, coalesce(max(p99), 0)::float8
		from step left join held on held.at = step.at group by 1 order by 1`, l.environment, span, step)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.CacheSample, error) {
		var s api.CacheSample
		return s, r.Scan(&s.At, &s.Hits, &s.Misses, &s.Expired, &s.Held, &s.Bytes, &s.P50, &s.P99)
	})
}

// TrimSamples forgets samples that nobody can look at any more.
func (l *Log) TrimSamples(ctx context.Context) error {
	_, err := l.db.Conns(ctx).Exec(ctx, `delete from sample where environment = $1 and
		minute < clock_timestamp() - interval '`+keepSamples+`'`, l.environment)
	return err
}
