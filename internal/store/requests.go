package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
)

// RememberRequests writes down requests with how often they were answered, and
// forgets all but the hottest of them.
func (s *Store) RememberRequests(ctx context.Context, texts []string, hits []int, keep int) error {
	_, err := s.Pool.Exec(ctx, `insert into hot_request (environment, request, hits, noted) select $1, request, hits, clock_timestamp() from unnest($2::text[], $3::int[]) as n (request, hits)
		on conflict (environment, request) do update set hits = greatest(hot_request.hits / 2, excluded.hits), noted = excluded.noted`, s.Environment, texts, hits)
	if err != nil {
		return err
	}
	_, err = s.Pool.Exec(ctx, `delete from hot_request where environment = $1 and request not in (select request from hot_request where environment = $1 order by hits desc, noted desc limit $2)`, s.Environment, keep)
	return err
}

// HottestRequests returns the requests that were answered most often.
func (s *Store) HottestRequests(ctx context.Context, n int) ([]string, error) {
	rows, err := s.Pool.Query(ctx, `select request from hot_request where environment = $1 order by hits desc, noted desc limit $2`, s.Environment, n)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Changes lists changes, the newest first: of an entry, if one is given, and below a
// sequence, if that is not 0.
func (s *Store) Changes(ctx context.Context, entry string, below int64, limit int) ([]content.Change, error) {
	rows, err := s.Pool.Query(ctx, `select `+changeColumns+` from change where environment = $1 and ($2 = '' or entry = $2) and ($3 = 0 or sequence < $3) order by sequence desc limit $4`, s.Environment, entry, below, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (content.Change, error) { return scanChange(r) })
}

// SupposedChanges returns the change of the published edition that publishing an
// entry's newest state would make, or unpublishing it; none if readers would see no
// difference. Its error is ErrNotFound if there is no such entry.
func (s *Store) SupposedChanges(ctx context.Context, m *model.Model, entry, what string) ([]content.Change, error) {
	held := map[string]map[string]content.Document{content.Published: {}, content.Preview: {}}
	typ := ""
	err := s.inBatches(ctx, func(conn *pgxpool.Conn) error {
		var b batch
		b.query(func(r pgx.Rows) error { return r.Scan(&typ) }, `select type from entry where environment = $1 and id = $2`, s.Environment, entry)
		s.queueDocumentsOf(&b, []string{entry}, func(edition string, d content.Document) { held[edition][d.Locale] = d })
		return b.run(ctx, conn)
	})
	if err != nil {
		return nil, err
	}
	t := m.Type(typ)
	if t == nil {
		return nil, fmt.Errorf("the entry %s: %w", entry, ErrNotFound)
	}
	before, after := held[content.Published], held[content.Preview]
	if what == "unpublish" {
		after = nil
	}
	c := content.Change{Kind: content.ContentChange, Edition: content.Published, Entry: entry, Type: typ, What: map[string]string{"publish": "published", "unpublish": "unpublished"}[what],
		Before: map[string]content.Fields{}, After: map[string]content.Fields{}}
	now := time.Now().UTC().Format(content.TimeForm)
	if what == "publish" {
		for tag, d := range after { // it would be published now
			if len(d.About.Locales) > 0 {
				d.About.Published = nil
				after[tag] = d
			}
		}
	}
	if c.Fields = content.Differences(t, before, after); len(c.Fields) == 0 {
		return nil, nil
	}
	for tag, d := range before {
		c.Before[tag] = d.Values(t)
	}
	for tag, d := range after {
		c.After[tag] = d.Values(t)
		c.After[tag]["about.published"], c.After[tag]["about.updated"] = now, now
	}
	return []content.Change{c}, nil
}
