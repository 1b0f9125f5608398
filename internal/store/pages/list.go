package pages

import (
	"context"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
)

// List returns pages of a site, by path, with what they read.
func (p *Pages) List(ctx context.Context, f api.PageFilter, reads []int64) ([]api.SitePage, error) {
	rows, err := p.db.Conns(ctx).Query(ctx, `select p.path, p.registered, cardinality(p.renders) > 0, p.stale_since,
			p.stale_at, p.causes, p.gone, p.told, p.attempts, p.failed, p.hits,
			array(select distinct r.request from page_use u join page_read r on r.environment = $1 and r.site = $2
				and r.id = u.read where u.environment = $1 and u.site = $2 and u.page = p.path order by 1)
		from page p where p.environment = $1 and p.site = $2 and p.path > $3 and p.path <> ''
			and ($4::boolean is null or (p.stale_since is not null) = $4)
			and ($5::bigint[] is null or exists (select from page_use u where u.environment = $1 and u.site = $2
				and u.page = p.path and u.read = any($5)))
			and ($6 = '' or p.path = $6)
		order by p.path limit $7`,
		p.environment, f.Site, f.After, f.Stale, reads, f.Page, f.Limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (one api.SitePage, err error) {
		err = r.Scan(&one.Page, &one.Registered, &one.OnDemand, &one.StaleSince, &one.StaleAt, &one.Causes, &one.Gone,
			&one.Told, &one.Attempts, &one.Failed, &one.Hits, &one.Reads)
		return one, err
	})
}

// Ledger tells how much a ledger knows; its error is db.ErrNotFound.
func (p *Pages) Ledger(ctx context.Context, site string) (api.PageLedger, error) {
	rows, err := p.db.Conns(ctx).Query(ctx, `select l.position,
			(select count(*) from page where environment = $1 and site = $2 and path <> ''),
			(select count(*) from page where environment = $1 and site = $2 and path <> '' and stale_since is not null),
			(select count(*) from page_read where environment = $1 and site = $2),
			exists (select from page where environment = $1 and site = $2 and path = '' and stale_since is not null),
			l.lost, l.batch - l.judged + (select count(*) from build where environment = $1 and site = $2 and not promoted
				and state in ('finished', 'failed')), l.whole_types
		from page_ledger l where l.environment = $1 and l.site = $2`, p.environment, site)
	if err != nil {
		return api.PageLedger{}, err
	}
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (l api.PageLedger, err error) {
		err = r.Scan(&l.Position, &l.Pages, &l.Stale, &l.Reads, &l.Structure, &l.Lost, &l.Unjudged, &l.WholeTypes)
		return l, err
	})
	if err == nil && len(out) == 0 {
		err = notFound(site)
	}
	if err != nil {
		return api.PageLedger{}, err
	}
	return out[0], nil
}

// Sites lists the sites of which pages are known.
func (p *Pages) Sites(ctx context.Context) ([]string, error) {
	rows, err := p.db.Conns(ctx).Query(ctx, `select site from page_ledger l where environment = $1
		and exists (select from page p where p.environment = $1 and p.site = l.site) order by site`, p.environment)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Using lists the pages that use some of the reads, by path, so many at most.
func (p *Pages) Using(ctx context.Context, site string, reads []int64, most int) ([]string, error) {
	rows, err := p.db.Conns(ctx).Query(ctx, `select distinct page from page_use where environment = $1 and site = $2
		and read = any($3) order by page limit $4`, p.environment, site, reads, most)
	if err != nil {
		return nil, err
	}
	out, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if out == nil {
		out = []string{}
	}
	return out, err
}
