// Package pages stores the ledgers of sites: which page read what and got which bytes, and which
// pages are stale by that.
package pages

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/pages"
	"ubiquon/internal/store/db"
)

// Pages are the ledgers of an environment. It is safe for concurrent use.
type Pages struct {
	db          *db.DB
	environment string
}

// New returns the ledgers of an environment.
func New(d *db.DB, environment string) *Pages { return &Pages{d, environment} }

// Registration is one read of a page, with what it got.
type Registration struct {
	pages.Mark
	// Request is the text of a query.Request; Rights are the grants, joined, by which the answer
	// was narrowed, "" if it was not.
	Request, Rights string
	// Answer names the bytes that it got, "" if that is not known, and Sequence is a state of content
	// in which the read gives them.
	Answer   string
	Sequence int64
	// Claims says that the read is the page's, and not of the structure of the site.
	Claims bool
}

// digest names a request with its rights.
func (r *Registration) digest() []byte {
	sum := sha256.Sum256([]byte(r.Rights + "\x00" + r.Request))
	return sum[:]
}

// Hold notes that a node will hold registrations of a site that are not stored.
func (p *Pages) Hold(ctx context.Context, site, node string) error {
	_, err := p.db.Conns(ctx).Exec(ctx, `insert into page_buffer (environment, site, node) values ($1, $2, $3)
		on conflict (environment, site, node) do update set since = clock_timestamp()`, p.environment, site, node)
	return err
}

// Release notes that a node holds nothing any more.
func (p *Pages) Release(ctx context.Context, site, node string) error {
	_, err := p.db.Conns(ctx).Exec(ctx, `delete from page_buffer where environment = $1 and site = $2 and node = $3`,
		p.environment, site, node)
	return err
}

// Now is the database's time.
func (p *Pages) Now(ctx context.Context) (now time.Time, err error) {
	err = p.db.Conns(ctx).QueryRow(ctx, `select clock_timestamp()`).Scan(&now)
	return now, err
}

// Register stores registrations of a site. Everything that the node held before taken is among
// them or stored already. With lost set, some are missing: the site is stale as a whole. Of a ledger that
// has no place for more, the types are noted that the others read: types tells those of a request.
func (p *Pages) Register(
	ctx context.Context, site, node string, all []Registration, taken time.Time, lost bool,
	types func(request string) []string,
) error {
	return pgx.BeginFunc(ctx, p.db.Conns(ctx), func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `insert into page_ledger (environment, site) values ($1, $2)
			on conflict do nothing`, p.environment, site); err != nil {
			return err
		}
		var batch int64
		var full bool
		if err := tx.QueryRow(ctx, `update page_ledger set batch = batch + 1,
				lost = case when $3 then coalesce(lost, position) else lost end,
				lost_at = case when $3 then clock_timestamp() else lost_at end
			where environment = $1 and site = $2 returning batch, "full"`, p.environment, site, lost).
			Scan(&batch, &full); err != nil {
			return err
		}
		all, err := named(ctx, tx, p.environment, site, all)
		if err == nil && full {
			all, err = withPlace(ctx, tx, p.environment, site, all, types)
		}
		if err != nil {
			return err
		}
		if err := p.put(ctx, tx, site, batch, all); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `update page_buffer set since = greatest(since, $4)
			where environment = $1 and site = $2 and node = $3`, p.environment, site, node, taken)
		return err
	})
}

// named gives the runs of builds the ids of the builds, leaves out those of builds that have
// failed, and what is there twice.
func named(
	ctx context.Context, tx pgx.Tx, environment, site string, all []Registration,
) ([]Registration, error) {
	runs := map[string]string{}
	for _, r := range all {
		if !r.Render {
			runs[r.Run] = r.Run
		}
	}
	names := make([]string, 0, len(runs))
	for name := range runs {
		names = append(names, name)
	}
	if len(names) > 0 {
		rows, err := tx.Query(ctx, `select number::text, id::text, state in ('failed', 'cancelled', 'skipped') from build
			where environment = $1 and site = $2 and (number::text = any($3) or id::text = any($3))`,
			environment, site, names)
		if err != nil {
			return nil, err
		}
		var number, id string
		var over bool
		if _, err := pgx.ForEachRow(rows, []any{&number, &id, &over}, func() error {
			if over {
				runs[number], runs[id] = "", ""
			} else {
				runs[number], runs[id] = id, id
			}
			return nil
		}); err != nil {
			return nil, err
		}
	}
	type key struct{ page, run, request, rights string }
	at := map[key]int{}
	var out []Registration
	for _, r := range all {
		if !r.Render {
			if r.Run = runs[r.Run]; r.Run == "" {
				continue
			}
		}
		k := key{r.Page, r.Run, r.Request, r.Rights}
		if i, twice := at[k]; !twice {
			at[k] = len(out)
			out = append(out, r)
		} else if (r.Sequence < out[i].Sequence) != r.Render {
			out[i] = r
		}
	}
	return out, nil
}

// put stores registrations. Of a read that a build makes twice for a page, the older answer counts: some
// of the page may show it. A render that comes again under its name is the page's newest.
func (p *Pages) put(ctx context.Context, tx pgx.Tx, site string, batch int64, all []Registration) error {
	if len(all) == 0 {
		return nil
	}
	var paths, runs, requests, rights, answers []string
	var renders, claims []bool
	var digests [][]byte
	var sequences []int64
	for i := range all {
		r := &all[i]
		paths, runs, renders = append(paths, r.Page), append(runs, r.Run), append(renders, r.Render)
		requests, rights, digests = append(requests, r.Request), append(rights, r.Rights), append(digests, r.digest())
		claims = append(claims, r.Claims)
		answers, sequences = append(answers, r.Answer), append(sequences, r.Sequence)
	}
	var b pgx.Batch
	b.Queue(`insert into page_read (environment, site, digest, request, rights)
		select distinct on (r.digest) $1, $2, r.digest, r.request, r.rights
		from unnest($3::bytea[], $4::text[], $5::text[]) as r (digest, request, rights) order by r.digest
		on conflict do nothing`, p.environment, site, digests, requests, rights)
	b.Queue(`insert into page (environment, site, path, batch) select distinct $1, $2, r.path, $4::bigint
		from unnest($3::text[]) as r (path) order by 3
		on conflict (environment, site, path) do update set batch = excluded.batch, registered = clock_timestamp()`,
		p.environment, site, paths, batch)
	for i := range all {
		if r := &all[i]; r.Render && (i == 0 || all[i-1].Page != r.Page || all[i-1].Run != r.Run) {
			b.Queue(`update page set renders = (array[$4::text] || renders)[1:2]
				where environment = $1 and site = $2 and path = $3 and not renders @> array[$4::text]`,
				p.environment, site, r.Page, r.Run)
		}
	}
	// Two renders take the place of what was built, but for a build that runs.
	b.Queue(`delete from page_use u using page p where p.environment = $1 and p.site = $2 and p.path = any($3)
		and u.environment = $1 and u.site = $2 and u.page = p.path and not u.run = any(p.renders)
		and (u.render or cardinality(p.renders) = 2 and not exists (select from build b where b.environment = $1
			and b.site = $2 and b.id::text = u.run and b.state = 'running'))`,
		p.environment, site, paths)
	// What a page on demand reads again takes the place of what it read in its render before.
	b.Queue(`delete from page_use u using unnest($3::text[], $4::text[], $5::boolean[], $6::bytea[]) as n (page, run,
			render, digest), page_read r
		where r.environment = $1 and r.site = $2 and r.digest = n.digest and u.environment = $1 and u.site = $2
			and u.page = n.page and u.read = r.id and n.render and u.run <> n.run
			and (u.render or not exists (select from build b where b.environment = $1 and b.site = $2
				and b.id::text = u.run and b.state = 'running'))`,
		p.environment, site, paths, runs, renders, digests)
	b.Queue(`delete from page_use u using unnest($3::text[], $4::boolean[], $5::bytea[]) as n (run, claims, digest),
			page_read r
		where n.claims and r.environment = $1 and r.site = $2 and r.digest = n.digest and u.environment = $1
			and u.site = $2 and u.page = '' and u.run = n.run and u.read = r.id`, p.environment, site, runs, claims, digests)
	b.Queue(`insert into page_use (environment, site, page, run, render, read, mark, sequence)
		select $1, $2, n.page, n.run, n.render, r.id, n.mark, n.sequence
		from unnest($3::text[], $4::text[], $5::boolean[], $6::bytea[], $7::text[], $8::bigint[]) as n (page, run,
			render, digest, mark, sequence)
		join page_read r on r.environment = $1 and r.site = $2 and r.digest = n.digest
		on conflict (environment, site, page, run, read) do update set mark = excluded.mark, sequence = excluded.sequence
			where case when excluded.render then excluded.sequence >= page_use.sequence
				else excluded.sequence < page_use.sequence end`,
		p.environment, site, paths, runs, renders, digests, answers, sequences)
	return tx.SendBatch(ctx, &b).Close()
}

// claimFor is how long a ledger is one node's before another may take it over.
const claimFor = "4 seconds"

// ErrNotOurs is the error of writing to a ledger that another node has taken over.
var ErrNotOurs = errors.New("another node keeps this ledger")

// Claimed is where a ledger stands.
type Claimed struct {
	Position, Batch int64
	// Whole are the types of which a change makes all of the site stale.
	Whole []string
	// Ended says that there are builds to be promoted.
	Ended bool
	// Unasked says that all of the site is stale, and that no build waits or runs that is for that.
	Unasked bool
}

// Claim takes or keeps a ledger for a node; ok is false if there is none, or another node keeps it.
func (p *Pages) Claim(ctx context.Context, site, node string) (c Claimed, ok bool, err error) {
	err = p.db.Conns(ctx).QueryRow(ctx, `update page_ledger set claimed_by = $3,
			claimed_until = clock_timestamp() + interval '`+claimFor+`'
		where environment = $1 and site = $2 and (claimed_by = $3 or claimed_until < clock_timestamp())
		returning position, batch, whole_types, exists (select from build b where b.environment = $1 and b.site = $2
			and not b.promoted and b.state in ('finished', 'failed')),
			lost is not null and not exists (select from build b where b.environment = $1 and b.site = $2
				and (b.state = 'waiting' or b.state = 'running' and b.called > lost_at))`, p.environment, site, node).
		Scan(&c.Position, &c.Batch, &c.Whole, &c.Ended, &c.Unasked)
	if errors.Is(err, pgx.ErrNoRows) {
		return c, false, nil
	}
	return c, err == nil, err
}

// Unclaim lets another node take over at once.
func (p *Pages) Unclaim(ctx context.Context, site, node string) error {
	_, err := p.db.Conns(ctx).Exec(ctx, `update page_ledger set claimed_until = '-infinity'
		where environment = $1 and site = $2 and claimed_by = $3`, p.environment, site, node)
	return err
}

// Read is a distinct request of a site.
type Read struct {
	ID              int64
	Request, Rights string
	// Answer names the bytes that it gives as of the ledger's position, "" if that is not known.
	Answer string
}

// Reads returns the requests of a site whose ids are greater.
func (p *Pages) Reads(ctx context.Context, site string, after int64) ([]Read, error) {
	rows, err := p.db.Conns(ctx).Query(ctx, `select id, request, rights, coalesce(mark, '') from page_read
		where environment = $1 and site = $2 and id > $3 order by id`, p.environment, site, after)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Read])
}

// Analyse has the database count what is in the ledgers: it finds few among many in another way than
// few among few, and looks by itself only after a minute or more.
func (p *Pages) Analyse(ctx context.Context) error {
	_, err := p.db.Conns(ctx).Exec(ctx, `analyze page, page_read, page_use`)
	return err
}

// Trim deletes the ledgers of sites that are none of those named.
func (p *Pages) Trim(ctx context.Context, sites []string) error {
	var b pgx.Batch
	b.Queue(`delete from page_ledger where environment = $1 and site <> all($2)`, p.environment, sites)
	b.Queue(`delete from page_buffer where environment = $1 and site <> all($2)`, p.environment, sites)
	return p.db.Conns(ctx).SendBatch(ctx, &b).Close()
}

func notFound(site string) error { return fmt.Errorf("pages of the site %s: %w", site, db.ErrNotFound) }
