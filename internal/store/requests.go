package store

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// RememberRequests writes down requests with how often they were answered, and
// forgets all but the hottest of them.
func (s *Store) RememberRequests(ctx context.Context, texts []string, hits []int, keep int) error {
	_, err := s.pool(ctx).Exec(ctx, `insert into hot_request (environment, request, hits, noted) select $1, request, hits, clock_timestamp() from unnest($2::text[], $3::int[]) as n (request, hits)
		on conflict (environment, request) do update set hits = greatest(hot_request.hits / 2, excluded.hits), noted = excluded.noted`, s.Environment, texts, hits)
	if err != nil {
		return err
	}
	_, err = s.pool(ctx).Exec(ctx, `delete from hot_request where environment = $1 and request not in (select request from hot_request where environment = $1 order by hits desc, noted desc limit $2)`, s.Environment, keep)
	return err
}

// HottestRequests returns the requests that were answered most often.
func (s *Store) HottestRequests(ctx context.Context, n int) ([]string, error) {
	rows, err := s.pool(ctx).Query(ctx, `select request from hot_request where environment = $1 order by hits desc, noted desc limit $2`, s.Environment, n)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Place is where something published lives.
type Place struct{ Locale, Path string }

// Places lists so many of the paths at which published entries live, each in the
// locales that it has of its own.
func (s *Store) Places(ctx context.Context, limit int) ([]Place, error) {
	rows, err := s.pool(ctx).Query(ctx, `select locale, path from document where environment = $1 and edition = 'published' and path is not null and about -> 'locales' ? locale order by locale, path limit $2`, s.Environment, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Place])
}
