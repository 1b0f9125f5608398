package accounts

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/db"
)

// PreviewLinks are the preview links of an environment. It is safe for concurrent use.
type PreviewLinks struct {
	db          *db.DB
	environment string
	audit       *audit.Log
}

// NewPreviewLinks returns the preview links of an environment.
func NewPreviewLinks(d *db.DB, environment string, a *audit.Log) *PreviewLinks {
	return &PreviewLinks{d, environment, a}
}

// ErrTooManyLinks is the error of a preview link beyond the number that may be good at
// the same time.
var ErrTooManyLinks = errors.New(
	"there are as many preview links as may be good at the same time; revoke some, or wait until they expire",
)

const linkColumns = `select l.id, l.entry, e.title, e.type, l.locale, l.backs, l.maker_kind, l.maker, l.by,
	l.grants, l.created, l.expires, l.revoked, l.used, coalesce(a.role, '')
	from preview_link l join entry e on e.environment = l.environment and e.id = l.entry
	left join account a on a.environment = l.environment and a.id = l.maker and l.maker_kind = 'account' and
	a.disabled is null where l.environment = $1`

func scanLink(r pgx.Row) (api.PreviewLink, error) {
	var l api.PreviewLink
	err := r.Scan(
		&l.ID, &l.Entry, &l.Title, &l.Type, &l.Locale, &l.Backs, &l.MakerKind, &l.Maker, &l.By, &l.Grants, &l.Created,
		&l.Expires, &l.Revoked, &l.Used, &l.MakerRole,
	)
	return l, err
}

// Add keeps a link, and a line in the audit log; ErrTooManyLinks if there
// are as many already that are good.
func (ps *PreviewLinks) Add(ctx context.Context, l *api.PreviewLink, most int, cause content.Cause) error {
	tag, err := ps.db.Conns(ctx).
		Exec(ctx, `insert into preview_link (environment, id, entry, locale, backs, maker_kind, maker, by, grants,
			expires)
		select $1, $2, $3, $4, $5, $6, $7, $8, $9, $10
		where (select count(*) from (select from preview_link where environment = $1 and expires > clock_timestamp()
		and revoked is null limit $11) good) < $11`,
			ps.environment, l.ID, l.Entry, l.Locale, l.Backs, l.MakerKind, l.Maker, l.By, l.Grants, l.Expires, most)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrTooManyLinks
	}
	if err != nil {
		return err
	}
	return ps.audit.Add(ctx, cause, "preview create", l.ID, nil, l)
}

// Get returns a link by its id, ErrNotFound if there is none.
func (ps *PreviewLinks) Get(ctx context.Context, id string) (api.PreviewLink, error) {
	l, err := scanLink(ps.db.Conns(ctx).QueryRow(ctx, linkColumns+` and l.id = $2`, ps.environment, id))
	if errors.Is(err, pgx.ErrNoRows) {
		err = fmt.Errorf("preview link %s: %w", id, db.ErrNotFound)
	}
	return l, err
}

// linksListed bounds what PreviewLinks returns.
const linksListed = 1000

// List lists links that have not expired, the newest first: all, or those of
// one entry.
func (ps *PreviewLinks) List(ctx context.Context, entry string) ([]api.PreviewLink, error) {
	rows, err := ps.db.Conns(ctx).
		Query(ctx, linkColumns+` and l.expires > clock_timestamp() and ($2 = '' or l.entry = $2) order by l.created
			desc, l.id limit $3`, ps.environment, entry, linksListed)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.PreviewLink, error) { return scanLink(r) })
}

// Revoke ends a link; ErrNotFound if there is none that is good.
func (ps *PreviewLinks) Revoke(ctx context.Context, id string, cause content.Cause) error {
	tag, err := ps.db.Conns(ctx).
		Exec(ctx, `update preview_link set revoked = clock_timestamp() where environment = $1 and id = $2 and
			revoked is null`, ps.environment, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = fmt.Errorf("preview link %s: %w", id, db.ErrNotFound)
	}
	if err != nil {
		return err
	}
	return ps.audit.Add(ctx, cause, "preview revoke", id, nil, nil)
}

// Use notes that a link is used, once in ten minutes, and then adds a line
// to the audit log.
func (ps *PreviewLinks) Use(ctx context.Context, l *api.PreviewLink, by audit.Actor) error {
	tag, err := ps.db.Conns(ctx).
		Exec(ctx, `update preview_link set used = clock_timestamp() where environment = $1 and id = $2 and (used is
			null or used < clock_timestamp() - interval '10 minutes')`, ps.environment, l.ID)
	if err != nil || tag.RowsAffected() == 0 {
		return err
	}
	return ps.audit.Add(
		audit.WithActor(ctx, by), content.Cause{}, "preview use", l.ID, nil, map[string]string{"entry": l.Entry},
	)
}

// Trim forgets links that have expired.
func (ps *PreviewLinks) Trim(ctx context.Context) error {
	_, err := ps.db.Conns(ctx).
		Exec(ctx, `delete from preview_link where environment = $1 and expires < clock_timestamp() - interval
			'1 day'`, ps.environment)
	return err
}
