package pages

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
)

// Taken are stale pages of which a site is to be told.
type Taken struct {
	Pages []api.SitePage
	// Reads are the texts of the requests by which they are stale.
	Reads []string
	// Position as of which that is so.
	Position int64
}

// takenFor is how long taken pages are left to the node that has taken them.
const takenFor = "2 minutes"

// TakeStale takes pages that are stale by a change that the site was not told of, those
// that have been so longest first. No other node takes them before Told or NotTold, or for two minutes.
func (p *Pages) TakeStale(ctx context.Context, site string, most int) (Taken, error) {
	var t Taken
	err := pgx.BeginFunc(ctx, p.db.Conns(ctx), func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `with t as materialized (select path from page where environment = $1
				and site = $2 and stale_since is not null and path <> '' and changed > told
				and coalesce(not_before <= clock_timestamp(), true)
				order by stale_since, path limit $3 for update skip locked)
			update page p set not_before = clock_timestamp() + interval '`+takenFor+`', attempts = attempts + 1 from t
			where p.environment = $1 and p.site = $2 and p.path = t.path
			returning p.path, p.stale_since, p.causes, p.gone, p.attempts`, p.environment, site, most)
		if err != nil {
			return err
		}
		t.Pages, err = pgx.CollectRows(rows, func(r pgx.CollectableRow) (one api.SitePage, err error) {
			err = r.Scan(&one.Page, &one.StaleSince, &one.Causes, &one.Gone, &one.Attempts)
			return one, err
		})
		if err != nil || len(t.Pages) == 0 {
			return err
		}
		paths := make([]string, len(t.Pages))
		for i := range t.Pages {
			paths[i] = t.Pages[i].Page
		}
		return tx.QueryRow(ctx, `select l.position, array(select distinct r.request from page_use u
				join page_read r on r.environment = $1 and r.site = $2 and r.id = u.read
				where u.environment = $1 and u.site = $2 and u.page = any($3) and r.mark <> u.mark order by 1)
			from page_ledger l where l.environment = $1 and l.site = $2`, p.environment, site, paths).
			Scan(&t.Position, &t.Reads)
	})
	return t, err
}

// Told notes that a site was told of stale pages, as of a position. Those that are done are not stale
// any more by what was known then.
func (p *Pages) Told(ctx context.Context, site string, paths []string, position int64, done []string) error {
	return pgx.BeginFunc(ctx, p.db.Conns(ctx), func(tx pgx.Tx) error {
		var c Claimed
		if err := tx.QueryRow(ctx, `select position, batch from page_ledger where environment = $1 and site = $2
			for update`, p.environment, site).Scan(&c.Position, &c.Batch); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update page set told = $4, attempts = 0, failed = '', not_before = null
			where environment = $1 and site = $2 and path = any($3)`, p.environment, site, paths, position); err != nil {
			return err
		}
		if len(done) == 0 {
			return nil
		}
		if _, err := tx.Exec(ctx, `update page_use u set mark = r.mark, sequence = $4 from page_read r
			where u.environment = $1 and u.site = $2 and u.page = any($3)
				and r.environment = $1 and r.site = $2 and r.id = u.read and r.mark <> u.mark and r.since <= $4`,
			p.environment, site, done, position); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, judging, p.environment, site, false, nil, c.Batch+1, c.Position, c.Position, done)
		if err != nil {
			return err
		}
		rows.Close()
		return rows.Err()
	})
}

// NotTold notes that a site did not take the call, for a reason; it is made again after the wait.
func (p *Pages) NotTold(ctx context.Context, site string, paths []string, reason string, wait time.Duration) error {
	_, err := p.db.Conns(ctx).Exec(ctx, `update page set failed = $4, not_before = clock_timestamp() + $5::interval
		where environment = $1 and site = $2 and path = any($3)`, p.environment, site, paths, reason, wait)
	return err
}

// Knows tells whether a site has said of any page what it reads.
func (p *Pages) Knows(ctx context.Context, site string) (known bool, err error) {
	err = p.db.Conns(ctx).QueryRow(ctx, `select exists (select from page where environment = $1 and site = $2
		and path <> '')`, p.environment, site).Scan(&known)
	return known, err
}

// NextRefresh is how long it is until a page that the site was not told of may be taken; a minute
// at most.
func (p *Pages) NextRefresh(ctx context.Context, site string) (time.Duration, error) {
	var wait *time.Duration
	err := p.db.Conns(ctx).QueryRow(ctx, `select min(greatest(coalesce(not_before, clock_timestamp()) - clock_timestamp(),
			interval '0')) from page where environment = $1 and site = $2 and stale_since is not null and changed > told
			and path <> ''`, p.environment, site).Scan(&wait)
	if err != nil || wait == nil {
		return time.Minute, err
	}
	return min(*wait, time.Minute), nil
}

// LostSince returns since when registrations of a site may be missing, so that it is to be told that
// all of its pages are stale; 0 if none are.
func (p *Pages) LostSince(ctx context.Context, site string) (lost int64, err error) {
	err = p.db.Conns(ctx).QueryRow(ctx, `select coalesce(max(greatest(lost, 1)), 0) from page_ledger
		where environment = $1 and site = $2 and lost is not null`, p.environment, site).Scan(&lost)
	return lost, err
}

// ToldAll notes that a site was told that all of its pages are stale, since registrations were lost.
func (p *Pages) ToldAll(ctx context.Context, site string, lost int64) error {
	_, err := p.db.Conns(ctx).Exec(ctx, `update page_ledger set lost = null, lost_at = null where environment = $1
		and site = $2 and greatest(lost, 1) = $3`, p.environment, site, lost)
	return err
}
