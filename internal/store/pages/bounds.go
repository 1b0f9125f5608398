package pages

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// ReadsAPage is how many requests a ledger has a place for, of each page.
const ReadsAPage = 3

// Sweep forgets pages on demand that were not rendered for so long, and requests that no page uses any
// more; it returns the ids of these. It finds out, too, whether the ledger has a place for more
// than upTo pages: if it has one again, all of the site is stale, as the others are to be registered.
func (p *Pages) Sweep(
	ctx context.Context, site, node string, keepRenders time.Duration, upTo int,
) (gone []int64, err error) {
	err = p.locked(ctx, site, node, func(tx pgx.Tx, _ Claimed) error {
		if _, err := tx.Exec(ctx, `delete from page where environment = $1 and site = $2 and cardinality(renders) > 0
			and registered < clock_timestamp() - $3::interval`, p.environment, site, keepRenders); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `delete from page_read r where environment = $1 and site = $2 and not exists (select
			from page_use u where u.environment = $1 and u.site = $2 and u.read = r.id) returning id`, p.environment, site)
		if err != nil {
			return err
		}
		if gone, err = pgx.CollectRows(rows, pgx.RowTo[int64]); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `with n as (select (select count(*) from page where environment = $1 and site = $2) > $3
				or (select count(*) from page_read where environment = $1 and site = $2) > $4 as more)
			update page_ledger set "full" = n.more,
				whole_types = case when n.more then whole_types else '{}' end,
				lost = case when n.more or whole_types = '{}' then lost else position end,
				lost_at = case when n.more or whole_types = '{}' then lost_at else clock_timestamp() end
			from n where environment = $1 and site = $2`, p.environment, site, upTo, ReadsAPage*upTo)
		return err
	})
	return gone, err
}

// withPlace returns those of the registrations that a full ledger has a place for, as it knows their
// pages and requests, and notes the types that the others read.
func withPlace(
	ctx context.Context, tx pgx.Tx, environment, site string, all []Registration, types func(request string) []string,
) ([]Registration, error) {
	var paths []string
	var digests [][]byte
	for i := range all {
		paths, digests = append(paths, all[i].Page), append(digests, all[i].digest())
	}
	rows, err := tx.Query(ctx, `select n.at from unnest($3::text[], $4::bytea[]) with ordinality as n (page, digest, at)
		join page p on environment = $1 and p.site = $2 and p.path = n.page
		join page_read r on r.environment = $1 and r.site = $2 and r.digest = n.digest`,
		environment, site, paths, digests)
	if err != nil {
		return nil, err
	}
	known := map[int]bool{}
	var at int
	if _, err := pgx.ForEachRow(rows, []any{&at}, func() error { known[at-1] = true; return nil }); err != nil {
		return nil, err
	}
	var out []Registration
	whole, asked := []string{}, map[string]bool{}
	for i := range all {
		if known[i] {
			out = append(out, all[i])
		} else if text := all[i].Request; !asked[text] {
			asked[text] = true
			whole = append(whole, types(text)...)
		}
	}
	_, err = tx.Exec(ctx, `update page_ledger set whole_types = array(select distinct t
			from unnest(whole_types || $3::text[]) as t order by t) where environment = $1 and site = $2`,
		environment, site, whole)
	return out, err
}

// Whole notes that all of some sites is stale, whatever is known of their pages, and has then ask for what
// follows, in one transaction.
func (p *Pages) Whole(ctx context.Context, sites []string, then func(tx pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, p.db.Conns(ctx), func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `insert into page_ledger as l (environment, site, lost, lost_at)
			select $1, site, 0, clock_timestamp() from unnest($2::text[]) as site order by site
			on conflict (environment, site) do update set lost = coalesce(l.lost, l.position), lost_at = excluded.lost_at`,
			p.environment, sites); err != nil {
			return err
		}
		return then(tx)
	})
}
