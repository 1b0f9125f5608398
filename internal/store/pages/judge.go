package pages

import (
	"context"
	"encoding/json"
	"errors"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/rebuild"
)

// Answered is what a read turned out to give.
type Answered struct {
	Read   int64
	Answer string
	// Since is the change by which it does, with its causes.
	Since  int64
	Causes []rebuild.Cause
	// Hits is how often it was asked for.
	Hits int64
}

// Round is what the keeper of a ledger has found out.
type Round struct {
	// Position up to which changes were looked at.
	Position int64
	// Answers of reads that give something else than before.
	Answers []Answered
	// Pages that were registered in the batch From or later, up to Batch, are judged.
	From, Batch int64
	// All has every page judged.
	All bool
}

// Judged is a page whose staleness was decided, with what it was before.
type Judged struct {
	Path    string
	Since   *int64
	Was     *int64
	Changed int64
	Before  int64 // Changed before
	Causes  []rebuild.Cause
	Gone    bool // what it showed is not there any more
}

// News tells whether the page is stale by a change that nobody was told of.
func (j *Judged) News() bool { return j.Since != nil && (j.Was == nil || j.Changed > j.Before) }

// locked runs f under the lock of a ledger that a node keeps.
func (p *Pages) locked(ctx context.Context, site, node string, f func(tx pgx.Tx, c Claimed) error) error {
	return pgx.BeginFunc(ctx, p.db.Conns(ctx), func(tx pgx.Tx) error {
		var c Claimed
		err := tx.QueryRow(ctx, `select position, batch from page_ledger where environment = $1 and site = $2
			and claimed_by = $3 for update`, p.environment, site, node).Scan(&c.Position, &c.Batch)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotOurs
		}
		if err != nil {
			return err
		}
		return f(tx, c)
	})
}

// Commit stores what a round has found, judges the pages that it is about, and has then ask for
// what follows, in one transaction. Its error is ErrNotOurs.
func (p *Pages) Commit(
	ctx context.Context, site, node string, r Round, then func(tx pgx.Tx, judged []Judged) error,
) error {
	return p.locked(ctx, site, node, func(tx pgx.Tx, was Claimed) error {
		var ids, sinces, hits []int64
		var marks, causes []string
		for i := range r.Answers {
			a := &r.Answers[i]
			ids, marks, sinces = append(ids, a.Read), append(marks, a.Answer), append(sinces, a.Since)
			causes, hits = append(causes, causesText(a.Causes)), append(hits, a.Hits)
		}
		if len(ids) > 0 {
			if _, err := tx.Exec(ctx, `update page_read r set mark = n.mark, since = n.since, hits = n.hits,
					causes = n.causes::jsonb
				from unnest($3::bigint[], $4::text[], $5::bigint[], $6::text[], $7::bigint[])
					as n (id, mark, since, causes, hits)
				where r.environment = $1 and r.site = $2 and r.id = n.id`,
				p.environment, site, ids, marks, sinces, causes, hits); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, `update page_ledger set position = greatest(position, $3), judged = greatest(judged, $4)
			where environment = $1 and site = $2`, p.environment, site, r.Position, r.Batch)
		if err != nil {
			return err
		}
		judged, err := p.judge(ctx, tx, site, &was, &r, ids)
		if err != nil {
			return err
		}
		return then(tx, judged)
	})
}

// judge decides which pages are stale, of those that something was found out of.
func (p *Pages) judge(
	ctx context.Context, tx pgx.Tx, site string, was *Claimed, r *Round, reads []int64,
) ([]Judged, error) {
	rows, err := tx.Query(ctx, judging, p.environment, site, r.All, reads, r.From, was.Position,
		max(r.Position, was.Position), nil)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Judged])
}

// judging decides about pages: all of them ($3), those that use reads ($4), those registered in
// a batch or later ($5), those that had read past the position ($6) as it was, and those named
// ($8). A page is stale if one of its reads gives something else as of the position ($7).
const judging = `with touched as (
		select path from page where environment = $1 and site = $2 and $3
		union select path from page where environment = $1 and site = $2 and batch >= $5
		union select page from page_use where environment = $1 and site = $2 and read = any($4)
		union select page from page_use where environment = $1 and site = $2 and sequence > $6 and sequence <= $7
		union select unnest($8::text[])
	), differing as (
		select u.page, r.since, r.causes, r.mark, r.hits from touched t
		join page_use u on u.environment = $1 and u.site = $2 and u.page = t.path
		join page_read r on r.environment = $1 and r.site = $2 and r.id = u.read
		where r.mark <> u.mark and u.sequence <= $7
	), judged as (
		select page, min(since) as since, max(since) as changed, bool_or(mark like '404 %') as gone, max(hits) as hits,
			(select coalesce(jsonb_agg(c), '[]') from (select distinct c from differing e,
				jsonb_array_elements(e.causes) c where e.page = d.page limit 20) as few) as causes
		from differing d group by page
	), before as (
		select p.path, p.stale_since, p.changed from page p join touched t on t.path = p.path
		where p.environment = $1 and p.site = $2
	)
	update page p set
		stale_since = case when j.page is not null then coalesce(p.stale_since, j.since) end,
		stale_at = case when j.page is not null then coalesce(p.stale_at, clock_timestamp()) end,
		causes = coalesce(j.causes, '[]'), gone = coalesce(j.gone, false), changed = coalesce(j.changed, 0),
		hits = coalesce(j.hits, p.hits)
	from before b left join judged j on j.page = b.path
	where p.environment = $1 and p.site = $2 and p.path = b.path
	returning p.path, p.stale_since, b.stale_since, p.changed, b.changed, p.causes, p.gone`

func causesText(causes []rebuild.Cause) string {
	src, err := json.Marshal(causes)
	if err != nil || causes == nil {
		return "[]"
	}
	return string(src)
}
