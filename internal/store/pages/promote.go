package pages

import (
	"context"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/pages"
)

// ended is a build that has ended, and that the ledger was not told of.
type ended struct {
	id     string
	number int64
	asked  pages.Asked
	good   bool
}

// Promote lets builds that have ended take the place of those before them, or forgets what was
// registered in those that failed, once no node holds registrations of them. The pages that may
// be stale by that are judged: then is told of them.
func (p *Pages) Promote(
	ctx context.Context, site, node string, then func(tx pgx.Tx, judged []Judged) error,
) error {
	return p.locked(ctx, site, node, func(tx pgx.Tx, c Claimed) error {
		rows, err := tx.Query(ctx, `select id::text, number, pages, state = 'finished' from build b
			where environment = $1 and site = $2 and not promoted and state in ('finished', 'failed')
				and not exists (select from page_buffer f where f.environment = $1 and f.site = $2 and f.since < b.finished)
			order by number`, p.environment, site)
		if err != nil {
			return err
		}
		over, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (e ended, err error) {
			err = r.Scan(&e.id, &e.number, &e.asked, &e.good)
			return e, err
		})
		if err != nil || len(over) == 0 {
			return err
		}
		for i := range over {
			if err := p.promote(ctx, tx, site, &over[i]); err != nil {
				return err
			}
		}
		judged, err := p.judge(ctx, tx, site, &c, &Round{Position: c.Position, From: c.Batch + 1, All: true}, nil)
		if err != nil {
			return err
		}
		return then(tx, judged)
	})
}

// promote deals with one build. Pages that were asked for and that it does not mention are gone
// from the site.
func (p *Pages) promote(ctx context.Context, tx pgx.Tx, site string, e *ended) error {
	var b pgx.Batch
	switch {
	case !e.good:
		b.Queue(`delete from page_use where environment = $1 and site = $2 and run = $3`, p.environment, site, e.id)
	default:
		// Runs before it: of builds with lower numbers, and of those that nobody knows.
		b.Queue(`delete from page_use u where environment = $1 and site = $2 and not render and run <> $3
			and not exists (select from build b where b.environment = $1 and b.site = $2 and b.id::text = u.run
				and b.number > $4)
			and ($5 or page = any($6) or page in (select page from page_use where environment = $1 and site = $2
				and run = $3))`,
			p.environment, site, e.id, e.number, e.asked.IsAll(), []string(e.asked))
		b.Queue(`update page_ledger l set lost = null, lost_at = null from build b where l.environment = $1
			and l.site = $2 and b.environment = $1 and b.id = $3::uuid and $4 and b.called > l.lost_at`,
			p.environment, site, e.id, e.asked.IsAll())
	}
	b.Queue(`update build set promoted = true where environment = $1 and id = $2::uuid`, p.environment, e.id)
	// Forgotten here and not in a sweep: such a page would count as never stale.
	b.Queue(`delete from page p where environment = $1 and site = $2 and not exists (select from page_use u
		where u.environment = $1 and u.site = $2 and u.page = p.path)`, p.environment, site)
	return tx.SendBatch(ctx, &b).Close()
}

// Lost notes that nodes have gone that held registrations of a site, if so: it is stale as a whole.
func (p *Pages) Lost(ctx context.Context, site, node string) (lost bool, err error) {
	err = p.locked(ctx, site, node, func(tx pgx.Tx, _ Claimed) error {
		tag, err := tx.Exec(ctx, `with gone as (
				delete from page_buffer b where environment = $1 and site = $2 and not exists (select from node n
					where n.environment = $1 and n.id = b.node and n.seen > clock_timestamp() - interval '10 seconds')
				returning 1
			) update page_ledger set lost = coalesce(lost, position), lost_at = clock_timestamp()
			where environment = $1 and site = $2 and exists (select from gone)`, p.environment, site)
		lost = tag.RowsAffected() > 0
		return err
	})
	return lost, err
}

// Scope is what a build of a site would be of.
type Scope struct {
	// Known says that the ledger knows pages.
	Known bool
	// Behind says that the ledger does not know yet what the build is for.
	Behind bool
	// Whole says that the structure is stale, or that registrations are missing.
	Whole bool
	// Stale are the pages that are, at most pages.MostListed and one; none of a site that is refreshed
	// by that, and not built.
	Stale []string
	// Refreshed counts the pages of which the site is told instead.
	Refreshed int
}

// ScopeIn tells what a build is to render that reads content as of a sequence, of a site that is
// refreshed as its rebuild.Site.RefreshedUpTo says.
func (p *Pages) ScopeIn(ctx context.Context, tx pgx.Tx, site string, sequence int64, upTo int) (Scope, error) {
	var s Scope
	rows, err := tx.Query(ctx, `select l.position < $3 or exists (select from build b where b.environment = $1
				and b.site = $2 and not b.promoted and b.state = 'finished'),
			l.lost is not null, exists (select from page u where u.environment = $1 and u.site = $2),
			array(select path from page p where p.environment = $1 and p.site = $2 and p.stale_since is not null
				order by path limit $4)
		from page_ledger l where l.environment = $1 and l.site = $2`, p.environment, site, sequence, pages.MostListed+1)
	if err != nil {
		return s, err
	}
	_, err = pgx.ForEachRow(rows, []any{&s.Behind, &s.Whole, &s.Known, &s.Stale}, func() error { return nil })
	// The structure sorts first.
	s.Whole = s.Whole || len(s.Stale) > 0 && s.Stale[0] == pages.Structure
	if err != nil || s.Whole || len(s.Stale) == 0 || upTo <= 0 {
		return s, err // a site that is built when asked alone is built then, whatever it was told
	}
	all, err := p.StaleIn(ctx, tx, site)
	if err == nil && !all.Built(upTo) {
		s.Refreshed, s.Stale = len(s.Stale), nil
	}
	return s, err
}
