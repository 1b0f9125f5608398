package pages

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/pages"
	"ubiquon/internal/store/db"
)

// Build is one that a builder says something of.
type Build struct {
	ID string
	// Sequence is the lowest state of content that it may read.
	Sequence int64
}

// BuildOf returns the build of a site with a number or id; its error is db.ErrNotFound.
func (p *Pages) BuildOf(ctx context.Context, site, build string) (Build, error) {
	rows, err := p.db.Conns(ctx).Query(ctx, `select id::text, sequence from build where environment = $1 and site = $2
		and (number::text = $3 or id::text = $3) and state in ('running', 'finished')`, p.environment, site, build)
	if err != nil {
		return Build{}, err
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Build])
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("build %s of %s, running or finished: %w", build, site, db.ErrNotFound)
	}
	if err != nil {
		return Build{}, err
	}
	return all[0], nil
}

// Got returns what a build has read for no page, by the texts of the requests.
func (p *Pages) Got(ctx context.Context, site, build string) (map[string]Registration, error) {
	rows, err := p.db.Conns(ctx).Query(ctx, `select r.request, r.rights, u.mark, u.sequence from page_use u
		join page_read r on r.environment = $1 and r.site = $2 and r.id = u.read
		where u.environment = $1 and u.site = $2 and u.page = $3 and u.run = $4`,
		p.environment, site, pages.Structure, build)
	if err != nil {
		return nil, err
	}
	out := map[string]Registration{}
	var one Registration
	_, err = pgx.ForEachRow(rows, []any{&one.Request, &one.Rights, &one.Answer, &one.Sequence}, func() error {
		out[one.Request] = one
		return nil
	})
	return out, err
}

// ChangedSince tells whether something published of these types, or the model, has changed after a
// sequence, as far as is known: what is not in the log any more counts as a change.
func (p *Pages) ChangedSince(ctx context.Context, sequence int64, types []string) (changed bool, err error) {
	err = p.db.Conns(ctx).QueryRow(ctx, `select exists (select from change where environment = $1 and sequence > $2
			and (kind = 'model' or edition = 'published' and (type = any($3) or $3 = '{}' or '' = any($3))))
		or coalesce((select min(sequence) from change where environment = $1) > $2 + 1, false)`,
		p.environment, sequence, types).Scan(&changed)
	return changed, err
}
