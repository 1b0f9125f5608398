package events

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/db"
)

// RejectedItems are the items of origins that could not be imported, and which entries each
// origin has. It is safe for concurrent use.
type RejectedItems struct {
	db          *db.DB
	environment string
}

// NewRejectedItems returns the items of an environment that were not imported.
func NewRejectedItems(d *db.DB, environment string) *RejectedItems {
	return &RejectedItems{d, environment}
}

// mostUntaken bounds how many of them are kept for one origin.
const mostUntaken = 10_000

// Keep notes that an item could not be imported.
func (us *RejectedItems) Keep(ctx context.Context, u api.UntakenItem) error {
	_, err := us.db.Conns(ctx).Exec(ctx, `insert into untaken (environment, origin, type, key, entry, slug, reason)
		select $1, $2, $3, $4, $5, $6, $7 where (select count(*) from untaken where environment = $1 and origin =
		$2) < $8
		on conflict (environment, origin, type, key) do update set reason = excluded.reason, slug = excluded.slug,
		seen = clock_timestamp()`,
		us.environment, u.Origin, u.Type, u.Key, u.Entry, u.Slug, u.Reason, mostUntaken)
	return err
}

// Drop forgets items that were imported, or are gone.
func (us *RejectedItems) Drop(ctx context.Context, origin, typ string, keys []string) error {
	_, err := us.db.Conns(ctx).
		Exec(ctx, `delete from untaken where environment = $1 and origin = $2 and type = $3 and key =
			any($4)`, us.environment, origin, typ, keys)
	return err
}

// DropBefore forgets those of an origin that were not tried since a time of the
// database's clock.
func (us *RejectedItems) DropBefore(ctx context.Context, origin string, at time.Time) error {
	_, err := us.db.Conns(ctx).
		Exec(ctx, `delete from untaken where environment = $1 and origin = $2 and seen <
			$3`, us.environment, origin, at)
	return err
}

// Trim forgets those that nobody has tried for so long: their origin is gone.
func (us *RejectedItems) Trim(ctx context.Context, keep time.Duration) error {
	_, err := us.db.Conns(ctx).
		Exec(ctx, `delete from untaken where environment = $1 and seen < clock_timestamp() -
			$2::interval`, us.environment, keep)
	return err
}

// Clock returns the time by the database's clock.
func (us *RejectedItems) Clock(ctx context.Context) (now time.Time, err error) {
	return now, us.db.Conns(ctx).QueryRow(ctx, `select clock_timestamp()`).Scan(&now)
}

const untakenColumns = `origin, type, key, entry, slug, reason, since, seen`

// Of lists what could not be imported of an origin, the latest first.
func (us *RejectedItems) Of(ctx context.Context, origin string, limit int) ([]api.UntakenItem, error) {
	rows, err := us.db.Conns(ctx).
		Query(ctx, `select `+untakenColumns+` from untaken where environment = $1 and origin = $2 order by since
			desc, type, key limit $3`, us.environment, origin, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.UntakenItem])
}

// Named lists what could not be imported and has the name: the id that it would
// have, its key in the origin, or its slug.
func (us *RejectedItems) Named(ctx context.Context, name string) ([]api.UntakenItem, error) {
	rows, err := us.db.Conns(ctx).
		Query(ctx, `select `+untakenColumns+` from untaken where environment = $1 and (entry = $2 or key = $2 or
			slug = $2) order by since desc limit 5`, us.environment, name)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.UntakenItem])
}

// Count counts them, by origin, and gives the latest reason of each.
func (us *RejectedItems) Count(
	ctx context.Context,
) (counts map[string]int, reasons map[string]api.UntakenItem, err error) {
	counts, reasons = map[string]int{}, map[string]api.UntakenItem{}
	rows, err := us.db.Conns(ctx).
		Query(ctx, `select distinct on (origin)
			`+untakenColumns+`, count(*) over (partition by origin) from untaken where environment = $1 order by
				origin, since desc`, us.environment)
	if err != nil {
		return nil, nil, err
	}
	var u api.UntakenItem
	var n int
	_, err = pgx.ForEachRow(
		rows,
		[]any{&u.Origin, &u.Type, &u.Key, &u.Entry, &u.Slug, &u.Reason, &u.Since, &u.Seen, &n},
		func() error {
			counts[u.Origin], reasons[u.Origin] = n, u
			return nil
		},
	)
	return counts, reasons, err
}

// Adopted returns the entries that ids stand for that were made of an origin's keys, as
// far as they are others.
func (us *RejectedItems) Adopted(ctx context.Context, made []string) (map[string]string, error) {
	rows, err := us.db.Conns(ctx).
		Query(ctx, `select made, entry from adopted where environment = $1 and made = any($2)`, us.environment, made)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	var from, to string
	_, err = pgx.ForEachRow(rows, []any{&from, &to}, func() error {
		out[from] = to
		return nil
	})
	return out, err
}

// Owned is an entry of an origin, and what it may be known by.
type Owned struct {
	ID, Type, Key, Title string
	Slugs, Paths         []string
	Published            bool
}

// OwnedBy lists the entries of an origin after an id, by id.
func (us *RejectedItems) OwnedBy(ctx context.Context, origin, after string, limit int) ([]Owned, error) {
	rows, err := us.db.Conns(ctx).Query(ctx, `select e.id, e.type, e.origin_key, e.title,
			coalesce((select array_agg(distinct slug) from document d where d.environment = e.environment and
			d.entry = e.id and slug is not null), '{}'),
			coalesce((select array_agg(distinct path) from document d where d.environment = e.environment and
			d.entry = e.id and path is not null), '{}'), e.published_revision > 0
		from entry e where e.environment = $1 and e.origin = $2 and e.id > $3 and e.revision > 0 order by e.id limit
		$4`, us.environment, origin, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Owned])
}

// OriginsOfEntries counts the entries of each origin but our own.
func (us *RejectedItems) OriginsOfEntries(ctx context.Context) (map[string]int, error) {
	rows, err := us.db.Conns(ctx).
		Query(ctx, `select origin, count(*) from entry where environment = $1 and origin <> $2 and revision > 0
			group by origin`, us.environment, content.Local)
	if err != nil {
		return nil, err
	}
	out := map[string]int{}
	var name string
	var n int
	_, err = pgx.ForEachRow(rows, []any{&name, &n}, func() error {
		out[name] = n
		return nil
	})
	return out, err
}

// ChangeOrigin makes entries of an origin those of another one, or, where that is our own,
// entries that are edited here. Readers see no difference. It returns how many there were.
func (us *RejectedItems) ChangeOrigin(
	ctx context.Context, from, to string, entries, keys, made []string,
) (n int64, err error) {
	err = pgx.BeginFunc(ctx, us.db.Conns(ctx), func(tx pgx.Tx) error {
		tag, err := tx.Exec(
			ctx,
			`update entry e set origin = $3, origin_key = n.key, origin_version = '' from unnest($4::text[],
				$5::text[]) as n (id, key)
			where e.environment = $1 and e.origin = $2 and e.id = n.id`,
			us.environment,
			from,
			to,
			entries,
			keys,
		)
		if err != nil {
			return err
		}
		n = tag.RowsAffected()
		if made == nil {
			return nil
		}
		_, err = tx.Exec(
			ctx,
			`insert into adopted (environment, made, entry) select $1, made, id from unnest($2::text[], $3::text[])
				as n (made, id) where made <> id
			on conflict (environment, made) do update set entry = excluded.entry`,
			us.environment,
			made,
			entries,
		)
		return err
	})
	return n, err
}
