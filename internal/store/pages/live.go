package pages

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/store/db"
)

const (
	// liveKept is how long it is known when changes were live, liveMost how many of them are of one site.
	liveKept = 30 * 24 * time.Hour
	liveMost = 100_000
)

// Live keeps when visitors got what changed. It is safe for concurrent use.
type Live struct {
	db          *db.DB
	environment string
}

// NewLive returns that of an environment.
func NewLive(d *db.DB, environment string) *Live { return &Live{d, environment} }

// Watch has pages looked at until they show the changes by which they have become stale.
func (l *Live) Watch(ctx context.Context, tx pgx.Tx, site string, judged []Judged) error {
	paths, sequences, gone := make([]string, len(judged)), make([]int64, len(judged)), make([]bool, len(judged))
	for i := range judged {
		paths[i], sequences[i], gone[i] = judged[i].Path, judged[i].Changed, judged[i].Gone
	}
	_, err := tx.Exec(ctx, `insert into page_live (environment, site, path, sequence, commit, gone, changed)
		select $1, $2, path, n.sequence, c.commit, gone, c.at
		from unnest($3::text[], $4::bigint[], $5::bool[]) as n (path, sequence, gone)
		join change c on c.environment = $1 and c.sequence = n.sequence on conflict do nothing`,
		l.environment, site, paths, sequences, gone)
	return err
}

// Probe is a page that is to be looked at.
type Probe struct {
	Path     string
	Sequence int64
	Changed  time.Time
	Late     bool
	// Gone says that the page is not expected to be there any more.
	Gone bool
	// Now is the database's time.
	Now time.Time
}

// NextProbe takes the page of a site that is to be looked at next, which nobody else gets for half a minute:
// one that the site says it has rendered, or one that is late by then. Without one, wait is how long it is
// until there may be one; 0: nothing is waited for.
func (l *Live) NextProbe(ctx context.Context, site string, expect time.Duration) (*Probe, time.Duration, error) {
	var one Probe
	// Materialised: a plan may run a subquery in from again for each row, and take another one each time.
	err := l.db.Conns(ctx).QueryRow(ctx, `with t as materialized (select w.path, w.sequence from page_live w
			left join page p on p.environment = $1 and p.site = $2 and p.path = w.path
			where w.environment = $1 and w.site = $2 and w.seen is null and w.due <= clock_timestamp()
				and (p.stale_since is null or p.stale_since > w.sequence or w.changed < clock_timestamp() - $3::interval)
			order by w.due limit 1 for update of w skip locked)
		update page_live l set due = clock_timestamp() + interval '30 s', tries = tries + 1 from t
		where l.environment = $1 and l.site = $2 and l.path = t.path and l.sequence = t.sequence
		returning l.path, l.sequence, l.changed, l.late, l.gone, clock_timestamp()`, l.environment, site, expect).
		Scan(&one.Path, &one.Sequence, &one.Changed, &one.Late, &one.Gone, &one.Now)
	if err == nil {
		return &one, 0, nil
	}
	if !errors.Is(err, pgx.ErrNoRows) {
		return nil, 0, err
	}
	var wait *time.Duration
	err = l.db.Conns(ctx).QueryRow(ctx, `select greatest(least(min(greatest(due, clock_timestamp())) - clock_timestamp(),
			(clock_timestamp() - max(changed)) / 10, interval '5 s'), interval '50 ms')
		from page_live where environment = $1 and site = $2 and seen is null and due is not null`,
		l.environment, site).Scan(&wait)
	if err != nil || wait == nil {
		return nil, 0, err
	}
	return nil, *wait, nil
}

// Seen notes that a page shows everything up to a sequence.
func (l *Live) Seen(ctx context.Context, site, path string, sequence int64) error {
	_, err := l.db.Conns(ctx).Exec(ctx, `update page_live set seen = clock_timestamp(), found = '' where environment = $1
		and site = $2 and path = $3 and sequence <= $4 and seen is null`, l.environment, site, path, sequence)
	return err
}

// NotSeen notes what a page has that does not show a change yet, and when it is looked at again; after 0
// never. late notes that it should have been seen by now.
func (l *Live) NotSeen(
	ctx context.Context, site string, one *Probe, found string, again time.Duration, late bool,
) error {
	_, err := l.db.Conns(ctx).Exec(ctx, `update page_live set found = $5, late = late or $7,
			due = case when $6 > interval '0' then clock_timestamp() + $6::interval end
		where environment = $1 and site = $2 and path = $3 and sequence = $4`,
		l.environment, site, one.Path, one.Sequence, found, again, late)
	return err
}

// Liveness says how long it has taken until changes were live on a site: in the last day and on each of the
// last days, in UTC.
func (l *Live) Liveness(ctx context.Context, site string, days int) (out api.Liveness, err error) {
	rows, err := l.db.Conns(ctx).Query(ctx, `select to_char(d.day, 'YYYY-MM-DD'), count(l.seen),
			coalesce(percentile_cont(0.5) within group (order by l.took), 0),
			coalesce(percentile_cont(0.95) within group (order by l.took), 0), coalesce(max(l.took), 0),
			count(*) filter (where l.late)
		from (values (null::timestamp)) as zero (day) cross join lateral (select zero.day union all
			select generate_series(date_trunc('day', clock_timestamp() at time zone 'UTC') - make_interval(days => $3 - 1),
				date_trunc('day', clock_timestamp() at time zone 'UTC'), interval '1 day')) as d
		left join lateral (select seen, late, extract(epoch from seen - changed) * 1000 as took from page_live
			where environment = $1 and site = $2 and case
				when d.day is null then changed > clock_timestamp() - interval '1 day'
				else date_trunc('day', changed at time zone 'UTC') = d.day end) as l on true
		group by d.day order by d.day nulls first`, l.environment, site, days)
	if err != nil {
		return out, err
	}
	out.Days = []api.LiveDay{}
	var day *string
	var one api.LiveDay
	_, err = pgx.ForEachRow(rows, []any{&day, &one.Pages, &one.P50, &one.P95, &one.Worst, &one.Late}, func() error {
		if day == nil {
			out.LiveFigures = one.LiveFigures
			return nil
		}
		one.Day = *day
		out.Days = append(out.Days, one)
		return nil
	})
	if err != nil {
		return out, err
	}
	return out, l.db.Conns(ctx).QueryRow(ctx, `select count(*), coalesce((array_agg(path || ': ' || found
			order by changed) filter (where found <> ''))[1], '') from page_live
		where environment = $1 and site = $2 and seen is null and changed > clock_timestamp() - interval '1 day'`,
		l.environment, site).Scan(&out.Waiting, &out.Trouble)
}

// LiveOf says when the commits of changes were live: on how many pages they were seen, on how many not yet,
// and when on the last. Those that were looked for on none are left out.
func (l *Live) LiveOf(ctx context.Context, sequences []int64) (map[int64]api.LivePages, error) {
	rows, err := l.db.Conns(ctx).Query(ctx, `select c.sequence, count(l.seen), count(*) - count(l.seen), max(l.seen)
		from change c join page_live l on l.environment = $1 and l.commit = c.commit
		where c.environment = $1 and c.sequence = any($2) group by c.sequence`, l.environment, sequences)
	if err != nil {
		return nil, err
	}
	out := map[int64]api.LivePages{}
	var sequence int64
	var one api.LivePages
	_, err = pgx.ForEachRow(rows, []any{&sequence, &one.Seen, &one.Waiting, &one.Last}, func() error {
		out[sequence] = one
		return nil
	})
	return out, err
}

// Trim forgets what is long ago, too much, or of sites that are not there.
func (l *Live) Trim(ctx context.Context, sites []string) error {
	var b pgx.Batch
	b.Queue(`delete from page_live where environment = $1 and (site <> all($2) or changed < clock_timestamp() -
		$3::interval)`, l.environment, sites, liveKept)
	for _, site := range sites {
		b.Queue(`delete from page_live where environment = $1 and site = $2 and changed < (select changed from page_live
			where environment = $1 and site = $2 order by changed desc offset $3 limit 1)`, l.environment, site, liveMost)
	}
	return l.db.Conns(ctx).SendBatch(ctx, &b).Close()
}
