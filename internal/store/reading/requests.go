package reading

import (
	"context"

	"ubiquon/internal/store/db"

	"github.com/jackc/pgx/v5"
)

// Requests remembers the requests that were asked for most. It is safe for concurrent use.
type Requests struct {
	db          *db.DB
	environment string
}

// NewRequests returns the remembered requests of an environment.
func NewRequests(d *db.DB, environment string) *Requests { return &Requests{d, environment} }

// RememberRequests writes down requests with how often they were answered, and
// forgets all but the hottest of them.
func (rs *Requests) RememberRequests(ctx context.Context, texts []string, hits []int, keep int) error {
	_, err := rs.db.Conns(ctx).
		Exec(ctx, `insert into hot_request (environment, request, hits, noted) select $1, request, hits,
			clock_timestamp() from unnest($2::text[], $3::int[]) as n (request, hits)
		on conflict (environment, request) do update set hits = greatest(hot_request.hits / 2, excluded.hits), noted
		= excluded.noted`, rs.environment, texts, hits)
	if err != nil {
		return err
	}
	_, err = rs.db.Conns(ctx).
		Exec(ctx, `delete from hot_request where environment = $1 and request not in (select request from
			hot_request where environment = $1 order by hits desc, noted desc limit $2)`, rs.environment, keep)
	return err
}

// HottestRequests returns the requests that were answered most often.
func (rs *Requests) HottestRequests(ctx context.Context, n int) ([]string, error) {
	rows, err := rs.db.Conns(ctx).
		Query(ctx, `select request from hot_request where environment = $1 order by hits desc, noted desc limit
			$2`, rs.environment, n)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Place is where something published lives.
type Place struct{ Locale, Path string }

// Places lists so many of the paths at which published entries live, each in the
// locales that it has of its own.
func (rs *Requests) Places(ctx context.Context, limit int) ([]Place, error) {
	rows, err := rs.db.Conns(ctx).
		Query(ctx, `select locale, path from document where environment = $1 and edition = 'published' and path is
			not null and about -> 'locales' ? locale order by locale, path limit $2`, rs.environment, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Place])
}
