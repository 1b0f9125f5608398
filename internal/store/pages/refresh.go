package pages

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/rebuild"
)

// Taken are stale pages of which a site is to be told.
type Taken struct {
	Pages []api.SitePage
	// Reads are the texts of the requests by which they are stale.
	Reads []string
	// Position as of which that is so.
	Position int64

	of    *Pages
	site  string
	paths []string
}

// TakenFor is how long taken pages are left to the node that has taken them, unless it says again that it
// tells the site of them: so long a page waits whose node has gone meanwhile.
const TakenFor = 15 * time.Second

// TakeStale takes pages that are stale by a change that the site was not told of, those whose
// requests are asked for most first, then those that have been so longest. No other node takes them before
// Told or NotTold, or for TakenFor after the last Renew. None are taken of a site that is to be built instead,
// as its rebuild.Site.RefreshedUpTo says.
func (p *Pages) TakeStale(ctx context.Context, site string, most, upTo int) (*Taken, error) {
	t := &Taken{of: p, site: site}
	err := pgx.BeginFunc(ctx, p.db.Conns(ctx), func(tx pgx.Tx) error {
		if s, err := p.StaleIn(ctx, tx, site); err != nil || s.Built(upTo) {
			return err
		}
		rows, err := tx.Query(ctx, `with t as materialized (select path from page where environment = $1
				and site = $2 and stale_since is not null and path <> '' and changed > told
				and coalesce(not_before <= clock_timestamp(), true)
				order by hits desc, stale_since, path limit $3 for update skip locked)
			update page p set not_before = clock_timestamp() + $4::interval, failed = '', attempts = attempts + 1 from t
			where p.environment = $1 and p.site = $2 and p.path = t.path
			returning p.path, p.stale_since, p.causes, p.gone, p.attempts, p.hits`, p.environment, site, most,
			TakenFor)
		if err != nil {
			return err
		}
		t.Pages, err = pgx.CollectRows(rows, func(r pgx.CollectableRow) (one api.SitePage, err error) {
			err = r.Scan(&one.Page, &one.StaleSince, &one.Causes, &one.Gone, &one.Attempts, &one.Hits)
			return one, err
		})
		if err != nil || len(t.Pages) == 0 {
			return err
		}
		slices.SortFunc(t.Pages, func(a, b api.SitePage) int {
			return cmp.Or(
				cmp.Compare(b.Hits, a.Hits), cmp.Compare(*a.StaleSince, *b.StaleSince), strings.Compare(a.Page, b.Page),
			)
		})
		for i := range t.Pages {
			t.paths = append(t.paths, t.Pages[i].Page)
		}
		return tx.QueryRow(ctx, `select l.position, array(select distinct r.request from page_use u
				join page_read r on r.environment = $1 and r.site = $2 and r.id = u.read
				where u.environment = $1 and u.site = $2 and u.page = any($3) and r.mark <> u.mark order by 1)
			from page_ledger l where l.environment = $1 and l.site = $2`, p.environment, site, t.paths).
			Scan(&t.Position, &t.Reads)
	})
	return t, err
}

// Stale counts what is stale of a site.
type Stale struct {
	// Pages of which the site was not told yet, and those of which it does not take it.
	Untold, Refused int
	Structure       bool
}

// Built tells whether the site is built by that, and not refreshed: see rebuild.Site.RefreshedUpTo.
func (s Stale) Built(upTo int) bool {
	return upTo == 0 || upTo != rebuild.AnyNumber && (s.Structure || s.Refused > 0 || s.Untold > upTo)
}

// StaleIn counts what is stale of a site.
func (p *Pages) StaleIn(ctx context.Context, tx pgx.Tx, site string) (s Stale, err error) {
	err = tx.QueryRow(ctx, `select count(*) filter (where path <> '' and changed > told),
			count(*) filter (where path <> '' and changed <= told and failed <> ''), count(*) filter (where path = '') > 0
		from page where environment = $1 and site = $2 and stale_since is not null`, p.environment, site).
		Scan(&s.Untold, &s.Refused, &s.Structure)
	return s, err
}

// Told notes that the site was told of the pages. Those that are done are not stale any more by what was
// known when they were taken. A site that has refused, for a reason, is told no more, but built. One that has
// not is told at once of what it did not take before.
func (t *Taken) Told(ctx context.Context, done []string, refused string) error {
	environment := t.of.environment
	return pgx.BeginFunc(ctx, t.of.db.Conns(ctx), func(tx pgx.Tx) error {
		var c Claimed
		if err := tx.QueryRow(ctx, `select position, batch from page_ledger where environment = $1 and site = $2
			for update`, environment, t.site).Scan(&c.Position, &c.Batch); err != nil {
			return err
		}
		var b pgx.Batch
		b.Queue(`update page set told = $4, attempts = 0, not_before = null, failed = $5
			where environment = $1 and site = $2 and path = any($3)`, environment, t.site, t.paths, t.Position, refused)
		b.Queue(`update page set not_before = null where environment = $1 and site = $2 and stale_since is not null
			and failed <> '' and $3::text = ''`, environment, t.site, refused)
		if err := tx.SendBatch(ctx, &b).Close(); err != nil {
			return err
		}
		if len(done) == 0 {
			return nil
		}
		if _, err := tx.Exec(ctx, `update page_use u set mark = r.mark, sequence = $4 from page_read r
			where u.environment = $1 and u.site = $2 and u.page = any($3)
				and r.environment = $1 and r.site = $2 and r.id = u.read and r.mark <> u.mark and r.since <= $4`,
			environment, t.site, done, t.Position); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, judging, environment, t.site, false, nil, c.Batch+1, c.Position, c.Position, done)
		if err != nil {
			return err
		}
		rows.Close()
		return rows.Err()
	})
}

// NotTold notes that the site did not take the call, for a reason; it is made again after the wait.
func (t *Taken) NotTold(ctx context.Context, reason string, wait time.Duration) error {
	return t.wait(ctx, reason, wait)
}

// Renew leaves the pages to who has taken them for TakenFor from now.
func (t *Taken) Renew(ctx context.Context) error { return t.wait(ctx, "", TakenFor) }

func (t *Taken) wait(ctx context.Context, reason string, wait time.Duration) error {
	_, err := t.of.db.Conns(ctx).Exec(ctx, `update page set failed = $4, not_before = clock_timestamp() + $5::interval
		where environment = $1 and site = $2 and path = any($3)`, t.of.environment, t.site, t.paths, reason, wait)
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

// LostAt returns when all of a site came to be stale, so that it is to be told so; nil if it is not.
func (p *Pages) LostAt(ctx context.Context, site string) (at *time.Time, err error) {
	err = p.db.Conns(ctx).QueryRow(ctx, `select max(lost_at) from page_ledger
		where environment = $1 and site = $2 and lost is not null`, p.environment, site).Scan(&at)
	return at, err
}

// ToldAll notes that a site was told that all of it is stale, as it was found to be at a time: unless
// it has come to be so again since.
func (p *Pages) ToldAll(ctx context.Context, site string, at time.Time) error {
	_, err := p.db.Conns(ctx).Exec(ctx, `update page_ledger set lost = null, lost_at = null where environment = $1
		and site = $2 and lost_at = $3`, p.environment, site, at)
	return err
}
